"""A frame of a liquid, on its grid, as those take it that are made of it."""

from dataclasses import dataclass

import numpy as np


@dataclass(frozen=True)
class LiquidFrame:
    """Particles, and what is known at cells' middles."""

    position: np.ndarray
    """(n, 3) [m]"""
    velocity: np.ndarray
    """(n, 3) [m/s]"""
    phi: np.ndarray
    """(nx, ny, nz) distance from the surface, negative within [cells]"""
    walls: np.ndarray
    """(nx, ny, nz) distance from walls, negative within these [cells]"""
    flow: np.ndarray
    """(nx, ny, nz, 3) velocity, 0 well out of the liquid [m/s]"""
    filled: np.ndarray
    """(1,) how many particles fill it; deep in it there are none, and its flow is on the grid alone"""
    blocked: np.ndarray
    """(nx, ny, nz) uint8, faces of cells that walls thinner than these close, a bit each: before and behind along x,
    y, z"""

    @classmethod
    def of(cls, arrays: dict[str, np.ndarray]) -> "LiquidFrame":
        """Return that of a baked frame."""
        return cls(*(arrays[n] for n in ("position", "velocity", "phi", "walls", "flow", "filled", "blocked")))
