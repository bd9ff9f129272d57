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
    corner: np.ndarray
    """(m, 8, 2) float64 [m]: corners along the two axes; of more the outermost, of fewer the last again"""

    def __len__(self) -> int:
        return len(self.area)

    def only(self, some: np.ndarray) -> "Patches":
        """Return some of the patches, (m,) bool or their numbers."""
        return Patches(*(getattr(self, f.name)[some] for f in fields(self)))

    def to_arrays(self) -> dict[str, np.ndarray]:
        """Return everything as named arrays, for the store."""
        return {f"patch_{f.name}": getattr(self, f.name) for f in fields(self)}

    @classmethod
    def from_arrays(cls, arrays: dict[str, np.ndarray]) -> "Patches":
        """Rebuild from what `to_arrays` returned."""
        return cls(**{f.name: arrays[f"patch_{f.name}"] for f in fields(cls)})


def ties(fragments: Fragments, group: np.ndarray) -> Patches:
    """Return a patch from the first body of each group to each of its others, for bonds that hold parts of one solid.

    Parameters
    ----------
    fragments : Fragments
    group : (n,) int64
        -1 for a body that is no part.
    """
    pair = [
        (mine[0], other)
        for g in np.unique(group[group >= 0])
        if len(mine := np.flatnonzero(group == g)) > 1
        for other in mine[1:]
    ]
    i, j = np.array(pair, np.int64).reshape(-1, 2).T
    offset = fragments.centre[j] - fragments.centre[i]
    normal = offset / np.maximum(np.linalg.norm(offset, axis=1, keepdims=True), 1e-30)
    normal[np.linalg.norm(normal, axis=1) < 0.5] = (0.0, 0.0, 1.0)
    axis = np.cross(normal, np.eye(3)[np.abs(normal).argmin(axis=1)])
    axis /= np.linalg.norm(axis, axis=1, keepdims=True)
    side = np.cbrt(np.minimum(fragments.volume[i], fragments.volume[j]))
    return Patches(
        np.column_stack([i, j]),
        side**2,
        0.5 * (fragments.centre[i] + fragments.centre[j]),
        normal,
        axis,
        np.repeat((side**4 / 12.0)[:, None], 2, axis=1),
        np.repeat(0.5 * side[:, None], 2, axis=1),
        0.5 * side[:, None, None] * np.tile([(-1.0, -1.0), (1.0, -1.0), (1.0, 1.0), (-1.0, 1.0)], (2, 1)),
    )


def together(first: Patches, second: Patches) -> Patches:
    """Return the patches of both, the first's before the second's.

    Parameters
    ----------
    first, second : Patches
    """
    return Patches(*(np.concatenate([getattr(p, f.name) for p in (first, second)]) for f in fields(Patches)))


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
        rows, pairs = np.empty((room, patch_kernels.COLUMNS)), np.empty((room, 2), np.int64)
        found = patch_kernels.shared_patches(h, low, high, gap, rows, pairs)
        if found >= 0:
            break
        room *= 2
    rows, pairs = rows[:found], pairs[:found]
    order = np.lexsort((pairs[:, 1], pairs[:, 0]))
    rows, pairs = rows[order], pairs[order]
    parts = rows[:, 0], rows[:, 1:4], rows[:, 4:7], rows[:, 7:10], rows[:, 10:12], rows[:, 12:14]
    return Patches(pairs, *parts, rows[:, 14:].reshape(-1, patch_kernels.CORNERS, 2))
