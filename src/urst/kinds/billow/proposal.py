"""What a new Billow begins with."""

from collections.abc import Sequence
from math import floor, log10
from typing import Any

import numpy as np

from urst.kinds.offers.points import POINTS
from urst.scene.pieces import SetPiece
from urst.scene.placing import bounds, placed
from urst.scene.shapes import is_endless

#: cells a new layer has at most
_MOST_CELLS = 1_200_000
#: cells along its shortest side at least
_FEWEST_ALONG = 12
#: cells across the smallest thing that gives off dust
_CELLS_ACROSS = 2.0
#: how far dust goes beyond what gives it off, in heights of that: to the sides, above, and below
_ASIDE, _ABOVE, _BELOW = 1.0, 0.8, 0.08


def proposal(shot: Any, reads: Sequence[Any]) -> dict:
    """Return a domain about what gives off dust and what moves, and cells that resolve it.

    shot, reads : the document, and the layers that will be read
    """
    points = [f for x in reads if POINTS in shot.kind_of(x).offers for f in [shot.facts(x, POINTS)] if f.puffs]
    names = {shot.pieces[i].name for f in points for i in f.pieces}
    solid = [p for p in shot.pieces if not is_endless(p.shape)]
    giving = [p for p in solid if p.name in names] or [p for p in solid if p.motion != "fixed"] or solid
    if not giving:
        return {}
    sources = [] if points else [{"piece": giving[0].name}]
    low, high = _box(giving, shot)
    # it falls, and rolls along what the set stands on
    floor = bounds(shot, skip_fixed=True) or (low, high)
    low[2] = min(low[2], floor[0][2])
    tall = float(max(high[2] - low[2], (high - low)[:2].max() / 2))
    low = low - tall * np.array([_ASIDE, _ASIDE, _BELOW])
    high = high + tall * np.array([_ASIDE, _ASIDE, _ABOVE])
    smallest = min(
        [f.puffs.radius for f in points]
        or [float(np.ptp(np.concatenate([m.vertices for m in placed(p, shot)]), axis=0).min()) for p in giving]
    )
    cell = min(smallest / _CELLS_ACROSS, float((high - low).min()) / _FEWEST_ALONG)
    cell = max(cell, float((np.prod(high - low) / _MOST_CELLS) ** (1 / 3)))
    return {
        "cell_size": _rounded_up(cell),
        "low": [round(float(x), 2) for x in low],
        "high": [round(float(x), 2) for x in high],
        "sources": sources,
    }


def _box(pieces: list[SetPiece], shot: Any) -> tuple[np.ndarray, np.ndarray]:
    corners = [m.bounds() for p in pieces for m in placed(p, shot)]
    return np.min([c[0] for c in corners], axis=0), np.max([c[1] for c in corners], axis=0)


def _rounded_up(value: float) -> float:
    """To two digits."""
    unit = 10.0 ** (floor(log10(value)) - 1)
    return float(f"{np.ceil(value / unit - 1e-9) * unit:.2g}")
