"""Unit quaternions, scalar first: (w, x, y, z)."""

import numpy as np
from scipy.spatial.transform import Rotation

IDENTITY = np.array([1.0, 0.0, 0.0, 0.0])


def matrix(quaternion: np.ndarray) -> np.ndarray:
    """Rotation matrices (..., 3, 3) of unit quaternions (..., 4)."""
    q = np.asarray(quaternion, float)
    return Rotation.from_quat(q[..., [1, 2, 3, 0]]).as_matrix()


def from_degrees(angles) -> np.ndarray:
    """Quaternion (4,) of turns about the fixed axes x, then y, then z [deg]."""
    x, y, z, w = Rotation.from_euler("xyz", angles, degrees=True).as_quat()
    return np.array([w, x, y, z])


def rotate(quaternion: np.ndarray, points: np.ndarray) -> np.ndarray:
    """Turn points (..., 3) by quaternions (..., 4)."""
    return np.einsum("...ij,...j->...i", matrix(quaternion), points)
