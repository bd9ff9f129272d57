"""Drops that fly by themselves, each drawn as a ball: no grid is needed, so they are round however small."""

import numpy as np
import trimesh
from scipy.spatial import cKDTree

#: of so many drops at most each has a finer ball
FEW = 4000


def alone(place: np.ndarray, clear: np.ndarray, radius: float, reach: float) -> np.ndarray:
    """Return which drops touch neither one another nor the surface, (n,) bool.

    Parameters
    ----------
    place : (n, 3) float
    clear : (n,) float
        How far each is above the surface.
    radius : float
        Of a drop.
    reach : float
        Drops nearer than this melt together.
    """
    if len(place) < 2:
        return clear > radius
    nearest = cKDTree(place).query(place, k=2, distance_upper_bound=max(reach, 2.0 * radius))[0][:, 1]
    return np.isinf(nearest) & (clear > radius)


def balls(place: np.ndarray, velocity: np.ndarray, radius: float) -> dict[str, np.ndarray]:
    """Return the surface of balls of one volume: corners `position`, `normal` and `velocity` (k, 3), and `triangles`.

    Parameters
    ----------
    place : (n, 3) float [m]
    velocity : (n, 3) float [m/s]
    radius : float
        Of a true ball of that volume [m].
    """
    corner, triangle = _unit(len(place) <= FEW)
    count = len(corner)
    return {
        "position": (place[:, None] + radius * corner).reshape(-1, 3).astype(np.float32),
        "normal": np.tile(corner / np.linalg.norm(corner, axis=1)[:, None], (len(place), 1)).astype(np.float16),
        "velocity": np.repeat(velocity, count, axis=0).astype(np.float16),
        "triangles": (triangle + count * np.arange(len(place))[:, None, None]).reshape(-1, 3).astype(np.int32),
    }


def _unit(fine: bool) -> tuple[np.ndarray, np.ndarray]:
    """Corners and triangles of an icosahedron of a unit ball's volume, each triangle in four if `fine`."""
    sphere = trimesh.creation.icosphere(subdivisions=1 if fine else 0)
    return np.asarray(sphere.vertices) * np.cbrt(4.0 / 3.0 * np.pi / sphere.volume), np.asarray(sphere.faces)
