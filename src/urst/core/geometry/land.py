"""Surfaces of many triangles that things lie on: open, one-sided, sought through a tree of bounds.

A land is a `Land`; triangles go by their numbers in it.
"""

from typing import NamedTuple

import numpy as np

from urst.core.geometry.mesh import Mesh
from urst.core.jit import kernel, serial

#: triangles in a leaf of the tree
_LEAF = 4
#: depth of the deepest tree that is searched
_STACK = 64
#: how far behind a surface what got there is brought back, as a fraction of the surface's size
_DEPTH = 0.02


class Land(NamedTuple):
    """`t` triangles, counter-clockwise seen from the side that carries, in the order of the tree's leaves."""

    corner: np.ndarray
    """(t, 3, 3) float64 [m]"""
    normal: np.ndarray
    """(t, 3) unit, to the side that carries"""
    fold: np.ndarray
    """(t, 3) float64 [rad]: by how much the surface bends down beyond the edge from each corner to the next: positive
    over a ridge, pi / 2 where it ends, 0 where it is flat or rises"""
    low: np.ndarray
    """(nodes, 3) [m]: the tree's bounds, the root first, children of k at 2 k + 1 and 2 k + 2, leaves last"""
    high: np.ndarray
    depth: float
    """how far behind it what got there is brought back, at most [m]"""

    @property
    def size(self) -> int:
        """How many triangles there are."""
        return len(self.corner)


def land(mesh: Mesh) -> Land:
    """Prepare a surface; triangles without area are left out.

    Parameters
    ----------
    mesh : Mesh
        Wound consistently; corners at one place count as one.
    """
    places, one = np.unique(mesh.vertices, axis=0, return_inverse=True)
    triangles = one.reshape(-1)[mesh.triangles]
    cross = np.cross(*(places[triangles[:, k]] - places[triangles[:, 0]] for k in (1, 2)))
    area = np.linalg.norm(cross, axis=1)
    size = float(np.ptp(places, axis=0).max()) if len(places) else 0.0
    kept = np.flatnonzero(area > 1e-14 * size * size)
    kept = kept[_order(places[triangles[kept]].mean(axis=1))]
    triangles, normal = triangles[kept], cross[kept] / area[kept, None]
    corner = places[triangles]
    low, high = _tree(corner)
    return Land(corner, normal, _folds(triangles, corner, normal), low, high, max(_DEPTH * size, 1e-3))


def _order(middle: np.ndarray) -> np.ndarray:
    """Order of points along Morton's curve: those near each other come near each other."""
    if not len(middle):
        return np.zeros(0, np.int64)
    span = np.ptp(middle, axis=0).max() or 1.0
    cell = ((middle - middle.min(axis=0)) / span * (2**20 - 1)).astype(np.uint64)
    key = np.zeros(len(middle), np.uint64)
    for bit in range(20):
        for c in range(3):
            key |= ((cell[:, c] >> np.uint64(bit)) & np.uint64(1)) << np.uint64(3 * bit + c)
    return np.argsort(key, kind="stable")


def _tree(corner: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Bounds of a complete binary tree over the triangles in their order."""
    leaves = 1
    while leaves * _LEAF < len(corner):
        leaves *= 2
    low = np.full((2 * leaves - 1, 3), np.inf)
    high = np.full((2 * leaves - 1, 3), -np.inf)
    leaf = leaves - 1 + np.arange(len(corner)) // _LEAF
    np.minimum.at(low, leaf, corner.min(axis=1))
    np.maximum.at(high, leaf, corner.max(axis=1))
    while leaves > 1:
        leaves //= 2
        here = np.arange(leaves - 1, 2 * leaves - 1)
        low[here] = np.minimum(low[2 * here + 1], low[2 * here + 2])
        high[here] = np.maximum(high[2 * here + 1], high[2 * here + 2])
    return low, high


def _folds(triangles: np.ndarray, corner: np.ndarray, normal: np.ndarray) -> np.ndarray:
    """By how much the surface bends down beyond each edge; see `Land.fold`."""
    t, n = len(triangles), int(triangles.max(initial=0)) + 1
    start, end = triangles.reshape(-1), np.roll(triangles, -1, axis=1).reshape(-1)
    order = np.argsort(start * n + end, kind="stable")
    keys = (start * n + end)[order]
    back = end * n + start
    at = np.minimum(np.searchsorted(keys, back), len(keys) - 1) if t else np.zeros(0, np.int64)
    paired = keys[at] == back if t else np.zeros(0, bool)
    beyond = np.where(paired, order[at] // 3, 0) if t else at
    mine = np.repeat(np.arange(t), 3)
    along = (np.roll(corner, -1, axis=1) - corner).reshape(-1, 3)
    away = np.cross(along, normal[mine])
    away /= np.linalg.norm(away, axis=1, keepdims=True)
    other = normal[beyond] if t else np.zeros((0, 3))
    bend = np.arctan2(np.einsum("ei,ei->e", other, away), np.einsum("ei,ei->e", other, normal[mine]))
    return np.where(paired, np.maximum(bend, 0.0), 0.5 * np.pi).reshape(t, 3)


@serial
def near(land, low, high, out):
    """List which triangles' bounds meet which of some boxes.

    Parameters
    ----------
    land : Land
    low, high : (b, 3) float64 [m]
        Empty boxes (low > high) meet nothing.
    out : (room, 2) int64
        Box and triangle, written.

    Returns
    -------
    int
        How many there are; those that `out` has no room for are counted, not written.
    """
    stack = np.empty(_STACK, np.int64)
    first_leaf, corner, found = len(land.low) // 2, land.corner, 0
    for b in range(len(low)):
        stack[0], depth = 0, 1
        while depth > 0:
            depth -= 1
            node = stack[depth]
            if not _meet(land.low[node], land.high[node], low[b], high[b]):
                continue
            if node < first_leaf:
                stack[depth], stack[depth + 1] = 2 * node + 2, 2 * node + 1
                depth += 2
                continue
            begin = (node - first_leaf) * _LEAF
            for t in range(begin, min(begin + _LEAF, len(corner))):
                apart = False
                for c in range(3):
                    x, y, z = corner[t, 0, c], corner[t, 1, c], corner[t, 2, c]
                    apart = apart or min(x, y, z) > high[b, c] or max(x, y, z) < low[b, c]
                if not apart:
                    if found < len(out):
                        out[found, 0], out[found, 1] = b, t
                    found += 1
    return found


@kernel
def _meet(low, high, other_low, other_high):
    for c in range(3):
        if low[c] > other_high[c] or high[c] < other_low[c]:
            return False
    return True


@serial
def thickness(land, some, most, out):
    """Find how far behind the middles of triangles `some` (k,) the surface comes again, at most `most` [m], into out
    (k,).

    Rays are followed down the tree (Williams et al. 2005 for the bounds, Moller & Trumbore 1997 for triangles).
    """
    stack = np.empty(_STACK, np.int64)
    first_leaf, corner = len(land.low) // 2, land.corner
    start, direction = np.empty(3), np.empty(3)
    for k in range(len(some)):
        t = some[k]
        for c in range(3):
            start[c] = (corner[t, 0, c] + corner[t, 1, c] + corner[t, 2, c]) / 3.0
            direction[c] = -land.normal[t, c]
        nearest = most
        stack[0], depth = 0, 1
        while depth > 0:
            depth -= 1
            node = stack[depth]
            enter, leave = 0.0, nearest
            for c in range(3):
                if abs(direction[c]) < 1e-12:
                    if start[c] < land.low[node, c] or start[c] > land.high[node, c]:
                        enter = np.inf
                    continue
                a, b = (land.low[node, c] - start[c]) / direction[c], (land.high[node, c] - start[c]) / direction[c]
                enter, leave = max(enter, min(a, b)), min(leave, max(a, b))
            if enter > leave:
                continue
            if node < first_leaf:
                stack[depth], stack[depth + 1] = 2 * node + 2, 2 * node + 1
                depth += 2
                continue
            begin = (node - first_leaf) * _LEAF
            for other in range(begin, min(begin + _LEAF, len(corner))):
                if other != t:
                    hit = _along(corner[other], start, direction)
                    if 1e-9 * most < hit < nearest:
                        nearest = hit
        out[k] = nearest


@kernel
def _along(corner, start, direction):
    """How far along a ray it meets a triangle, infinite if it does not."""
    ux, uy, uz = corner[1, 0] - corner[0, 0], corner[1, 1] - corner[0, 1], corner[1, 2] - corner[0, 2]
    vx, vy, vz = corner[2, 0] - corner[0, 0], corner[2, 1] - corner[0, 1], corner[2, 2] - corner[0, 2]
    px, py, pz = (
        direction[1] * vz - direction[2] * vy,
        direction[2] * vx - direction[0] * vz,
        direction[0] * vy - direction[1] * vx,
    )
    det = ux * px + uy * py + uz * pz
    if abs(det) < 1e-300:
        return np.inf
    sx, sy, sz = start[0] - corner[0, 0], start[1] - corner[0, 1], start[2] - corner[0, 2]
    u = (sx * px + sy * py + sz * pz) / det
    qx, qy, qz = sy * uz - sz * uy, sz * ux - sx * uz, sx * uy - sy * ux
    v = (direction[0] * qx + direction[1] * qy + direction[2] * qz) / det
    if u < -1e-9 or v < -1e-9 or u + v > 1.0 + 1e-9:
        return np.inf
    return (vx * qx + vy * qy + vz * qz) / det
