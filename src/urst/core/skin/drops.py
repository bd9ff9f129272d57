"""Drops that fly by themselves, each drawn as a ball: no grid is needed, so they are round however small."""

import numpy as np
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
    golden = 0.5 * (1.0 + np.sqrt(5.0))
    corner = np.array([np.roll((0.0, a, b * golden), axis) for axis in range(3) for a in (-1, 1) for b in (-1, 1)])
    edge = cKDTree(corner).query_pairs(2.1, output_type="ndarray")
    joined = np.zeros((12, 12), bool)
    joined[edge[:, 0], edge[:, 1]] = True
    first, second, third = np.nonzero(joined[:, :, None] & joined[None, :, :] & joined[:, None, :])
    triangle = np.column_stack([first, second, third])
    if fine:
        middle = np.zeros((12, 12), np.int64)
        middle[edge[:, 0], edge[:, 1]] = middle[edge[:, 1], edge[:, 0]] = 12 + np.arange(len(edge))
        half = corner[edge].mean(axis=1)
        corner = np.concatenate([corner, half * (np.linalg.norm(corner[0]) / np.linalg.norm(half[0]))])
        a, b, c = triangle.T
        ab, bc, ca = middle[a, b], middle[b, c], middle[c, a]
        corners_of = ((a, ab, ca), (b, bc, ab), (c, ca, bc), (ab, bc, ca))
        triangle = np.concatenate([np.column_stack(t) for t in corners_of])
    x, y, z = corner[triangle].transpose(1, 0, 2)
    six = np.einsum("ti,ti->t", x, np.cross(y, z))
    triangle[six < 0.0] = triangle[six < 0.0][:, ::-1]
    return corner * np.cbrt(8.0 * np.pi / np.abs(six).sum()), triangle
