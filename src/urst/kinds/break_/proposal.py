"""What a new Break begins with."""

from typing import Any

import numpy as np

from urst.core.fracture.settings import FractureSettings
from urst.errors import BadValue
from urst.kinds.break_.advice import breaking
from urst.scene.placing import placed
from urst.scene.shapes import is_endless, is_sheet, volumes

#: fragments a new layer aims for at least and at most
_FEWEST, _MOST = 20, 400


def breakable(shot: Any) -> list:
    """Return the loose solid pieces that no layer breaks yet, the largest first.

    Raises
    ------
    BadValue
        If there is none.
    """
    broken = {n for x in shot.layers for n in shot.kind_of(x).breaks(x)}
    loose = [p for p in shot.pieces if p.motion == "loose" and not is_endless(p.shape) and not is_sheet(p.shape)]
    free = [p for p in loose if p.name not in broken]
    if not free:
        raise BadValue(
            "Nothing is left to break: every loose solid piece of the set is broken by a layer already; "
            "add a piece, set one loose, or take one out of another Break."
        )
    return sorted(free, key=lambda p: -sum(volumes(p.shape)))


def proposal(shot: Any) -> dict:
    """Return settings that break the largest loose piece about as finely as what moves in the shot would."""
    piece = breakable(shot)[0]
    points = np.concatenate([m.vertices for m in placed(piece, shot)])
    middle = (points.min(axis=0) + points.max(axis=0)) / 2
    focus = [round(float(x), 3) for x in middle]
    reach = round(float(np.ptp(points, axis=0).max()) / 2, 3)
    hint = breaking(shot, [piece], FractureSettings(focus=tuple(focus), focus_radius=reach))
    count = 60 if hint is None else int(np.clip(hint.count, _FEWEST, _MOST))
    return {"pieces": [piece.name], "count": count, "focus": focus, "focus_radius": reach}
