"""What is wrong with a pool for what is to fall into it."""

from collections.abc import Iterator
from typing import Any

import numpy as np

from urst.core.checks.findings import Finding
from urst.kinds.kind import at
from urst.scene.materials import MATERIALS
from urst.scene.pieces import SetPiece
from urst.scene.placing import placed_corners
from urst.scene.shapes import displaced, is_endless, volumes

#: a splash rises to about so much of the height that was fallen; spray goes higher
RISES = 0.5
#: what falls from less than this splashes no higher than anything does [m]
LOW = 0.5


def findings(shot: Any, layer: Any) -> list[Finding]:
    """Return what is wrong with a pool for what it meets."""
    if layer.settings.level is None:
        return []
    return _cut(shot, layer) + _shallow(shot, layer)


def _falling(shot: Any, layer: Any) -> Iterator[tuple[SetPiece, np.ndarray, np.ndarray]]:
    """Loose pieces of layers it is coupled with, over or in its domain: piece, lowest and highest corner, [m]."""
    s = layer.settings
    casts = [shot.kind_of(x).cast(shot, x) for x, to, fro in shot.partners(layer) if fro > 0.0]
    for piece in (shot.pieces[i] for i in sorted({i for cast in casts for i in cast})):
        if piece.motion == "loose" and not is_endless(piece.shape):
            corners = np.concatenate(placed_corners(piece, shot))
            low, high = corners.min(axis=0), corners.max(axis=0)
            if (low[:2] < np.array(s.high[:2])).all() and (high[:2] > np.array(s.low[:2])).all():
                yield piece, low, high


def _cut(shot: Any, layer: Any) -> list[Finding]:
    """What falls in must not splash out of the top of the domain."""
    s, weight = layer.settings, float(np.linalg.norm(shot.gravity))
    found = []
    for piece, low, _ in _falling(shot, layer):
        fall = float(low[2]) - s.level
        speed = float(np.linalg.norm(piece.velocity))
        if weight > 0.0 and fall > -1e-6:
            found.append((fall + 0.5 * speed**2 / weight, piece.name))
    fall, name = max(found, default=(0.0, ""))
    top = s.level + RISES * fall
    if fall < LOW or top <= s.high[2]:
        return []
    return [
        Finding(
            f"'{name}' falls {fall:.3g} m into '{layer.name}', whose domain ends {s.high[2] - s.level:.3g} m above "
            "its level.",
            "The splash rises to about half of that and is lost at the top.",
            layer=layer.id,
            fix=f"Raise the domain to {top:.3g} m",
            changes=((at(shot, layer, "high"), [*s.high[:2], round(top, 3)]),),
        )
    ]


def _shallow(shot: Any, layer: Any) -> list[Finding]:
    """What floats needs water as deep as it lies in it."""
    s = layer.settings
    depth, found = s.level - s.low[2], []
    for piece, low, high in _falling(shot, layer):
        pushed = displaced(piece.shape)
        if pushed <= 0.0:
            continue
        fraction = MATERIALS[piece.material].density * sum(volumes(piece.shape)) / (s.density * pushed)
        draft = fraction * float(high[2] - low[2])
        if fraction < 1.0 and draft > depth:
            found.append((draft, piece.name))
    draft, name = max(found, default=(0.0, ""))
    if not found:
        return []
    return [
        Finding(
            f"'{name}' lies {draft:.2g} m deep when it floats, and the water of '{layer.name}' is {depth:.2g} m deep.",
            "It stands on the ground: raise the level, or lower the domain and what holds the water.",
            layer=layer.id,
            fix=f"Raise the level to {s.low[2] + 1.5 * draft:.3g} m",
            changes=((at(shot, layer, "level"), round(s.low[2] + 1.5 * draft, 3)),),
        )
    ]
