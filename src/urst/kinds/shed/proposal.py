"""What a new Shed begins with."""

from collections.abc import Sequence
from typing import Any

import numpy as np

from urst.core.debris.settings import DebrisSettings
from urst.kinds.offers.bodies import BODIES
from urst.scene.shapes import is_endless, volumes

#: chips and puffs beside the fragments they come from: lengths as fractions of a fragment's side
_SMALLEST, _LARGEST, _REACH, _PUFF = 0.03, 0.18, 0.4, 0.9
#: side of a fragment for which the settings' own numbers a square metre are right [m]
_SIDE = 0.3


def proposal(shot: Any, reads: Sequence[Any]) -> dict:
    """Return sizes after the fragments it will shed from; where it reads no bodies, the first piece gives off
    points."""
    bodies = [shot.facts(x, BODIES) for x in reads if BODIES in shot.kind_of(x).offers]
    pieces = [shot.pieces[i] for f in bodies for i in f.parting]
    if not pieces:
        names = [p.name for p in shot.pieces if not is_endless(p.shape)]
        return {} if reads or not names else {"sources": [{"piece": names[-1]}]}
    volume = sum(sum(volumes(p.shape)) for p in pieces)
    side = (volume / sum(f.fragments for f in bodies)) ** (1 / 3)
    # as many beside a fragment, however large it is
    more, usual = (_SIDE / side) ** 2, DebrisSettings()
    return {
        "smallest": _two(side * _SMALLEST),
        "largest": _two(side * _LARGEST),
        "reach": _two(min(10.0, side * _REACH)),
        "puff_radius": _two(side * _PUFF),
        "puff_mass": _two(usual.puff_mass * (side / _SIDE) ** 3),
        "chips": _two(min(1e6, usual.chips * more)),
        "dust": _two(min(1e6, usual.dust * more)),
        "density": _two(pieces[0].bulk()[0]),
    }


def _two(value: float) -> float:
    """To two digits."""
    return float(f"{np.maximum(value, 1e-9):.2g}")
