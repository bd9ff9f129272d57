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
    return turns(quaternion).as_matrix()


def from_degrees(angles) -> np.ndarray:
    """Quaternion (4,) of turns about the fixed axes x, then y, then z [deg]."""
    return quaternions(Rotation.from_euler("xyz", angles, degrees=True))
