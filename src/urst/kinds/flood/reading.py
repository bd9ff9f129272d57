"""What frames of a liquid tell on a plane and at a place."""

import numpy as np
from scipy.ndimage import map_coordinates

from urst.kinds.gauge import Reading

#: cells of a slice: air, liquid that particles carry, liquid on the grid alone, wall
_AIR, _CARRIED, _BARE, _WALL = range(4)


def cells(arrays: dict[str, np.ndarray], meta: dict, name: str) -> tuple[np.ndarray, np.ndarray]:
    """Return pressure [kPa], speed [m/s] or what each cell is, and where that is anything, (nx, ny, nz) each."""
    phi, walls = arrays["phi"].astype(np.float32), arrays["walls"].astype(np.float32)
    wet = (phi < 0.0) & (walls > 0.0)
    if name == "pressure":
        return arrays["pressure"].astype(np.float32), wet
    if name == "speed":
        return np.linalg.norm(arrays["flow"].astype(np.float32), axis=-1), wet
    at = np.floor((arrays["position"] - np.array(meta["origin"])) / meta["cell"]).astype(int)
    carried = np.zeros(phi.shape, bool)
    carried[tuple(np.clip(at, 0, np.array(phi.shape) - 1).T)] = True
    found = np.where(carried, _CARRIED, np.where(phi < 0.0, _BARE, _AIR))
    return np.where(walls <= 0.0, _WALL, found).astype(np.float32), np.ones(phi.shape, bool)


def probe(arrays: dict[str, np.ndarray], meta: dict, at: np.ndarray) -> list[Reading]:
    """Return how deep a place, (3,) [cells], lies and how deep the water is there, its pressure and its velocity."""
    cell = float(meta["cell"])
    column = np.arange(arrays["phi"].shape[2], dtype=float)
    line = np.stack([np.full(len(column), at[0] - 0.5), np.full(len(column), at[1] - 0.5), column])
    phi, walls = (_at(arrays[n], line) for n in ("phi", "walls"))
    k = int(np.clip(at[2], 0, len(column) - 1))
    above, below = _end(phi[k:]), _end(np.maximum(phi, -walls)[k::-1])
    place = (at - 0.5)[:, None]
    flow = np.array([_at(arrays["flow"][..., a], place)[0] for a in range(3)])
    rise, floor = k + 0.5 + above, k + 0.5 - below
    # before the first step there is none yet
    pressure = [Reading("pressure", max(0.0, float(_at(arrays["pressure"], place)[0])), "kPa")]
    return [
        Reading("below the surface", max(0.0, rise - at[2]) * cell, "m"),
        Reading("of water here", (rise - floor) * cell, "m"),
        *(pressure if arrays["pressure"].any() else []),
        Reading("speed", float(np.linalg.norm(flow)), "m/s"),
        Reading("upward", float(flow[2]), "m/s"),
    ]


def _at(field: np.ndarray, places: np.ndarray) -> np.ndarray:
    return map_coordinates(field.astype(np.float32), places, order=1, mode="nearest")


def _end(values: np.ndarray) -> float:
    """Where distances along a line first rise above 0, from its first [steps]."""
    out = np.flatnonzero(values > 0.0)
    if not len(out):
        return len(values) - 0.5
    n = int(out[0])
    return n - float(values[n] / (values[n] - values[n - 1])) if n else 0.0
