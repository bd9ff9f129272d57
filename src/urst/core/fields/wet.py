"""A liquid as others meet it: where it is, and how it goes."""

from dataclasses import dataclass

import numpy as np
from scipy.ndimage import map_coordinates

#: of water [kg/m3]
DENSITY = 1000.0
#: of water [m2/s], which those liquids have that are said to have none
VISCOSITY = 1e-6


@dataclass(frozen=True)
class Wet:
    """A liquid at a moment, on a grid."""

    phi: np.ndarray
    """(nx, ny, nz) distance from its surface, negative within [cells]"""
    flow: np.ndarray
    """(nx, ny, nz, 3) [m/s]"""
    origin: np.ndarray
    """(3,) least corner [m]"""
    cell: float
    """[m]"""
    viscosity: float = VISCOSITY
    """kinematic [m2/s]"""
    density: float = DENSITY
    """[kg/m3]"""

    def depth(self, points: np.ndarray) -> np.ndarray:
        """Return how deep points (n, 3) [m] lie within it, (n,) [m]; negative above it, minus infinity beyond its grid.

        Parameters
        ----------
        points : (n, 3) float [m]
        """
        at = (points - self.origin) / self.cell
        inside = ((at >= 0.0) & (at <= self.phi.shape)).all(axis=1)
        found = np.full(len(points), -np.inf)
        found[inside] = -self.cell * map_coordinates(self.phi, at[inside].T - 0.5, np.float32, order=1, mode="nearest")
        return found

    def velocity(self, points: np.ndarray) -> np.ndarray:
        """Return how it goes at points (n, 3) [m] within its grid, (n, 3) [m/s].

        Parameters
        ----------
        points : (n, 3) float [m]
        """
        at = ((points - self.origin) / self.cell - 0.5).T
        return np.stack(
            [map_coordinates(self.flow[..., a], at, np.float32, order=1, mode="nearest") for a in range(3)], axis=1
        )
