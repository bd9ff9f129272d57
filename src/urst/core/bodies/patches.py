"""Patches: the flat areas across which fragments touch, which bonds hold and which shed debris."""

from dataclasses import dataclass, fields

import numpy as np

from urst.core.bodies import patch_kernels
from urst.core.bodies.fragments import Fragments

#: widest mortar joint or modelling gap across which two parts still count as touching [m]
JOINT = 2e-3


@dataclass(frozen=True)
class Patches:
    """Flat areas where two fragments lie against each other, with the section properties of each."""

    pair: np.ndarray
    """(m, 2) int64 fragments"""
    area: np.ndarray
    """(m,) float64 [m2]"""
    centre: np.ndarray
    """(m, 3) float64 [m]"""
    normal: np.ndarray
    """(m, 3) from the first fragment to the second"""
    axis: np.ndarray
    """(m, 3) first principal axis in the plane; the second is normal x axis"""
    moment: np.ndarray
    """(m, 2) float64 [m4]: second moments of area about the two axes"""
    extent: np.ndarray
    """(m, 2) float64 [m]: farthest point along the two axes"""

    def __len__(self) -> int:
        return len(self.area)

    def to_arrays(self) -> dict[str, np.ndarray]:
        """Return everything as named arrays, for the store."""
        return {f"patch_{f.name}": getattr(self, f.name) for f in fields(self)}

    @classmethod
    def from_arrays(cls, arrays: dict[str, np.ndarray]) -> "Patches":
        """Rebuild from what `to_arrays` returned."""
        return cls(**{f.name: arrays[f"patch_{f.name}"] for f in fields(cls)})


def find_patches(fragments: Fragments, gap: float) -> Patches:
    """Find every patch across which two fragments touch.

    Parameters
    ----------
    fragments : Fragments
    gap : float
        The widest joint that still counts as touching [m].
    """
    h = fragments.world_hulls()
    low = np.minimum.reduceat(h.vertices, h.vertex_start[:-1])
    high = np.maximum.reduceat(h.vertices, h.vertex_start[:-1])
    room = 32 * len(fragments) + 64
    while True:
        rows, pairs = np.empty((room, 14)), np.empty((room, 2), np.int64)
        found = patch_kernels.shared_patches(h, low, high, gap, rows, pairs)
        if found >= 0:
            break
        room *= 2
    rows, pairs = rows[:found], pairs[:found]
    order = np.lexsort((pairs[:, 1], pairs[:, 0]))
    rows, pairs = rows[order], pairs[order]
    return Patches(pairs, rows[:, 0], rows[:, 1:4], rows[:, 4:7], rows[:, 7:10], rows[:, 10:12], rows[:, 12:14])
