"""How many particles a liquid will have, from the document alone."""

from typing import Any

import numpy as np

from urst.core.liquid.settings import OUTER, PARTICLES, SIDE, SIDEWAYS, Fill, LiquidSettings
from urst.kinds.flood import pouring
from urst.scene.placing import placed_corners, stopping
from urst.scene.shapes import displaced, is_endless, room

#: what reaches over such a fraction of a domain's side bounds a pool
_BOUNDS = 0.5


def particles(shot: Any, s: LiquidSettings) -> int:
    """Return how many particles there will be of a pool, of what is filled and of what is poured.

    Parameters
    ----------
    shot : Shot
    s : LiquidSettings
    """
    low, high = _about(shot, s)
    pool = float(np.prod(np.maximum(high - low, 0.0))) if s.level is not None else 0.0
    seen = 1.0 - (1.0 - _near(s, float(high[2] - low[2]))) * _inner(s, high - low)
    full = seen * pool
    full += sum(
        _near(s, displaced(shot.piece(f.piece).shape) ** (1 / 3)) * _full(shot, f)
        for f in s.fills
        if not is_endless(shot.piece(f.piece).shape)
    )
    full += sum(pouring.poured(shot, x) for x in s.inflows if not is_endless(shot.piece(x.piece).shape))
    return int(full / s.cell_size**3 * PARTICLES)


def _full(shot: Any, fill: Fill) -> float:
    """How much a fill holds, as if what is filled were as wide everywhere [m3]."""
    piece, fraction = shot.piece(fill.piece), 1.0
    if fill.level is not None:
        heights = np.concatenate(placed_corners(piece, shot))[:, 2]
        fraction = float(np.clip((fill.level - heights.min()) / max(float(np.ptp(heights)), 1e-9), 0.0, 1.0))
    return fraction * room(piece.shape)


def _near(settings: LiquidSettings, depth: float) -> float:
    """What fraction of liquid so deep [m] is near enough to its surface to have particles."""
    most = settings.particle_depth
    return 1.0 if most is None or depth <= 0.0 else min(1.0, most * settings.cell_size / depth)


def _inner(s: LiquidSettings, across: np.ndarray) -> float:
    """What fraction of a pool of some size (3,) [m] lies so far from sides that water passes that there may be no
    particles in its deep."""
    if s.particle_depth is None or s.sides == "wall":
        return 1.0
    kept = s.waves.band * (1.0 - OUTER**0.5) if s.sides == "waves" else SIDE * s.cell_size
    kept += SIDEWAYS * s.cell_size
    return float(np.prod(np.maximum(1.0 - 2.0 * kept / np.maximum(across[:2], 1e-9), 0.0)))


def _about(shot: Any, s: LiquidSettings) -> tuple[np.ndarray, np.ndarray]:
    """Corners of the box that holds a pool, as far as can be told from the boxes about what bounds most of a side:
    (3,) each."""
    low, high = np.array(s.low), np.array([*s.high[:2], min(s.level if s.level is not None else s.low[2], s.high[2])])
    if s.pool_at is None:
        return low, high
    across = high - low
    for piece in (shot.pieces[i] for i in stopping(shot, "liquid")):
        if is_endless(piece.shape):
            continue
        corners = np.concatenate(placed_corners(piece, shot))
        first, last = corners.min(axis=0), corners.max(axis=0)
        for axis in range(3):
            others = [a for a in range(3) if a != axis]
            level = [a for a in others if a < 2]
            reaches = all(last[a] - first[a] > _BOUNDS * across[a] for a in level)
            meets = all(first[a] < max(s.pool_at[a], high[a]) and last[a] > min(s.pool_at[a], low[a]) for a in others)
            if reaches and meets and last[axis] <= s.pool_at[axis]:
                low[axis] = max(low[axis], last[axis])
            elif reaches and meets and first[axis] >= s.pool_at[axis]:
                high[axis] = min(high[axis], first[axis])
    return low, high
