"""Unit quaternions, scalar first: (w, x, y, z)."""

import numpy as np
from scipy.spatial.transform import Rotation

IDENTITY = np.array([1.0, 0.0, 0.0, 0.0])


def turns(quaternion: np.ndarray) -> Rotation:
    """SciPy's rotations of unit quaternions (..., 4)."""
    return Rotation.from_quat(np.asarray(quaternion, float), scalar_first=True)


def quaternions(rotations: Rotation) -> np.ndarray:
    """The way back, (..., 4)."""
    return rotations.as_quat(scalar_first=True)


def matrix(quaternion: np.ndarray) -> np.ndarray:
    """Rotation matrices (..., 3, 3) of unit quaternions (..., 4)."""
    # most pieces of a large set are not turned, and SciPy takes its time for one
    if np.ndim(quaternion) == 1 and np.array_equal(quaternion, IDENTITY):
        return np.eye(3)
    return turns(quaternion).as_matrix()


def from_degrees(angles: np.ndarray | tuple[float, float, float] | list[tuple[float, float, float]]) -> np.ndarray:
    """Quaternions (..., 4) of turns (..., 3) about the fixed axes x, then y, then z [deg]."""
    if np.ndim(angles) == 1 and not any(angles):
        return IDENTITY.copy()
    return quaternions(Rotation.from_euler("xyz", angles, degrees=True))


def degrees(matrices: np.ndarray) -> np.ndarray:
    """The way back from rotation matrices (k, 3, 3), (k, 3) [deg]."""
    return Rotation.from_matrix(matrices).as_euler("xyz", degrees=True)


def product(first: np.ndarray, second: np.ndarray) -> np.ndarray:
    """Unit quaternions of turning by `second` (..., 4), then by `first` (..., 4).

    Parameters
    ----------
    first, second : (..., 4) float
    """
    a, b, c, d = (first[..., k] for k in range(4))
    w, x, y, z = (second[..., k] for k in range(4))
    # component by component: a cross product of a handful of vectors costs more than all of this
    return np.stack(
        [
            a * w - b * x - c * y - d * z,
            a * x + b * w + c * z - d * y,
            a * y - b * z + c * w + d * x,
            a * z + b * y - c * x + d * w,
        ],
        axis=-1,
    )


def inverse(quaternion: np.ndarray) -> np.ndarray:
    """Unit quaternions (..., 4) of turning back."""
    return quaternion * np.array([1.0, -1.0, -1.0, -1.0])


def turned(quaternion: np.ndarray, vector: np.ndarray) -> np.ndarray:
    """Vectors (..., 3) turned by unit quaternions (..., 4).

    Parameters
    ----------
    quaternion, vector : (..., 4) and (..., 3) float
    """
    w, x, y, z = (quaternion[..., k] for k in range(4))
    a, b, c = (vector[..., k] for k in range(3))
    p, q, r = 2.0 * (y * c - z * b), 2.0 * (z * a - x * c), 2.0 * (x * b - y * a)
    return np.stack([a + w * p + y * r - z * q, b + w * q + z * p - x * r, c + w * r + x * q - y * p], axis=-1)


def between(first: np.ndarray, second: np.ndarray, fraction: float) -> np.ndarray:
    """The quaternion (4,) a fraction of the way from one to another, along the shortest arc (Shoemake 1985).

    Parameters
    ----------
    first, second : (4,) float
    fraction : float
        0 to 1.
    """
    cosine = float(first @ second)
    if cosine < 0.0:
        second, cosine = -second, -cosine
    angle = np.arccos(min(cosine, 1.0))
    if angle < 1e-6:
        mixed = first + fraction * (second - first)
    else:
        mixed = (np.sin((1.0 - fraction) * angle) * first + np.sin(fraction * angle) * second) / np.sin(angle)
    return mixed / np.linalg.norm(mixed)
