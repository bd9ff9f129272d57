"""A field on the faces of a staggered grid."""

from typing import NamedTuple

import numpy as np


class FaceFields(NamedTuple):
    """Values on the faces across x, y and z of (nx, ny, nz) cells, float32."""

    x: np.ndarray
    """(nx + 1, ny, nz)"""
    y: np.ndarray
    """(nx, ny + 1, nz)"""
    z: np.ndarray
    """(nx, ny, nz + 1)"""
