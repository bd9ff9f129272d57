"""The sea round a cut-out of it, out to the horizon."""

from collections.abc import Callable

import numpy as np

#: how far out it goes, and rings to there
FAR, RINGS = 1500.0, 72
#: waves fade where rings are farther apart than so long [m], and velocities are taken over so long [s]
COARSE = 1.2


def sheet(
    low: np.ndarray, high: np.ndarray, spacing: float, height: Callable[[np.ndarray], np.ndarray]
) -> dict[str, np.ndarray]:
    """Return a sheet round a rectangle: rings that grow, from its sides outwards.

    Parameters
    ----------
    low, high : (2,) float
        Its corners [m].
    spacing : float
        Between corners along its sides [m].
    height : callable
        Of the sea over places (n, 2) [m], (n,) [m].

    Returns
    -------
    dict
        position (n, 3), normal (n, 3), velocity (n, 3) of 0, triangles (m, 3); faces look up.
    """
    low, high = np.asarray(low, float), np.asarray(high, float)
    side = high - low
    count = np.maximum(np.ceil(side / spacing).astype(int), 2)
    t = [np.linspace(0.0, 1.0, n, endpoint=False) for n in (count[0], count[1])]
    # once round, against the clock
    rim = np.concatenate(
        [
            np.stack([low[0] + side[0] * t[0], np.full(count[0], low[1])], axis=1),
            np.stack([np.full(count[1], high[0]), low[1] + side[1] * t[1]], axis=1),
            np.stack([high[0] - side[0] * t[0], np.full(count[0], high[1])], axis=1),
            np.stack([np.full(count[1], low[0]), high[1] - side[1] * t[1]], axis=1),
        ]
    )
    middle, n = 0.5 * (low + high), len(rim)
    reach = np.concatenate([[0.0], spacing * np.geomspace(1.0, FAR / spacing, RINGS - 1)])
    away = rim - middle
    away /= np.abs(away / (0.5 * side)).max(axis=1, keepdims=True)
    unit = away / np.linalg.norm(away, axis=1, keepdims=True)
    places = (rim[None] + reach[:, None, None] * unit[None]).reshape(-1, 2)
    gap = np.repeat(np.gradient(reach), n)
    rise = height(places)
    still = float(rise.mean()) if len(rise) else 0.0
    flat = np.clip(2.0 - gap / COARSE, 0.0, 1.0)
    z = still + flat * (rise - still)
    position = np.column_stack([places, z])
    i, j = np.arange(n), (np.arange(n) + 1) % n
    quads = [(r * n + i, r * n + j, (r + 1) * n + j, (r + 1) * n + i) for r in range(RINGS - 1)]
    triangles = np.concatenate(
        [np.concatenate([np.stack([a, d, b], axis=1), np.stack([b, d, c], axis=1)]) for a, b, c, d in quads]
    )
    h = 0.05
    slope = [(height(places + h * e) - height(places - h * e)) * flat / (2.0 * h) for e in np.eye(2)]
    normal = np.column_stack([-slope[0], -slope[1], np.ones(len(z))])
    normal /= np.linalg.norm(normal, axis=1, keepdims=True)
    return {"position": position, "normal": normal, "velocity": np.zeros_like(position), "triangles": triangles}
