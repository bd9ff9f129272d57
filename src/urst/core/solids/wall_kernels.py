"""Kernels of the walls that hold a liquid: distance from convex bodies, open fractions of faces and cells.

The distance is kept at eight samples a cell, a quarter of a cell from its sides. Lengths are in cells.

distance d (2nx, 2ny, 2nz) float32 is negative within a wall, owner (same) int32 whose wall that is, samples the open
fraction of what is about each; fraction (nx, ny, nz) and weight (faces) are what of cells and faces is open, room (nx,
ny, nz) what of the tent about a cell is, middle (nx, ny, nz) the distance at its middle. (a, b, c) is a sample, (x, y,
z) a place.
"""

from typing import NamedTuple

import numpy as np
from numba import prange

from urst.core.jit import kernel, parallel, serial
from urst.core.trilinear import onward

#: nothing
NONE = -1
#: what is so near a body counts as within it, where it is asked whether bodies leave room between [cells]
SEAM = 0.03
#: a body holds all places about a sample by itself
ALONE = 256
ZERO, HALF, ONE = np.float32(0.0), np.float32(0.5), np.float32(1.0)


@kernel
def _farthest(planes, first, last, x, y, z):
    """How far a place lies beyond the plane that it is farthest beyond."""
    away = -1e30
    for f in range(first, last):
        away = max(away, planes[f, 0] * x + planes[f, 1] * y + planes[f, 2] * z - planes[f, 3])
    return away


@kernel
def _lonely(low, high, b, gap):
    """Whether no other body's bounds come so near to those of one."""
    for c in range(len(low)):
        apart = False
        for axis in range(3):
            apart = apart or low[c, axis] > high[b, axis] + gap or high[c, axis] < low[b, axis] - gap
        if c != b and not apart:
            return False
    return True


class Convex(NamedTuple):
    """`n` convex bodies in the world, for walls."""

    planes: np.ndarray
    """(f, 4) normal and distance of each face [m]"""
    face_start: np.ndarray
    """(n + 1,) where each body's faces begin"""
    low: np.ndarray
    """(n, 3) least corners, without a margin [m]"""
    high: np.ndarray
    """(n, 3) [m]"""


@parallel
def carve(bodies, origin, cell, reach, distance, owner, full):
    """Lessen distance (2nx, 2ny, 2nz) to that from convex bodies where they are nearest, and note which these are.

    Where bodies touch they are one wall: an eighth of a cell all of whose corners lie within one or another of them is
    closed, however near its own middle is to a seam.

    Parameters
    ----------
    bodies : Convex
    origin : (3,) float [m]
    cell : float [m]
    reach : float
        Farther away than this nothing is written [cells].
    distance : (2nx, 2ny, 2nz) float32
        Positive outside.
    owner : (2nx, 2ny, 2nz) int32
        The nearest body.
    full : (2nx, 2ny, 2nz) uint16
        Work, 0: which corners of the eighth of a cell about each sample lie within a body, and ALONE if one holds all.
    """
    planes, face_start, low, high = bodies.planes, bodies.face_start, bodies.low, bodies.high
    nx, ny, nz = distance.shape
    step, wide = 0.5 * cell, reach * cell
    # half the side of an eighth of a cell, and of its diagonal
    q, near, seam = 0.25 * cell, 0.434 * cell, SEAM * cell
    lonely = np.empty(len(low), np.bool_)
    for number in prange(len(low)):
        lonely[number] = _lonely(low, high, np.int64(number), 2.0 * near)
    for row in prange(nx):
        i = np.int64(row)
        x = origin[0] + (i + 0.5) * step
        line = np.empty(nz)
        for b in range(len(low)):
            if not low[b, 0] - wide <= x <= high[b, 0] + wide:
                continue
            first, last = face_start[b], face_start[b + 1]
            j0 = max(0, int(np.ceil((low[b, 1] - wide - origin[1]) / step - 0.5)))
            j1 = min(ny - 1, int(np.floor((high[b, 1] + wide - origin[1]) / step - 0.5)))
            k0 = max(0, int(np.ceil((low[b, 2] - wide - origin[2]) / step - 0.5)))
            k1 = min(nz - 1, int(np.floor((high[b, 2] + wide - origin[2]) / step - 0.5)))
            for j in range(j0, j1 + 1):
                y = origin[1] + (j + 0.5) * step
                line[k0 : k1 + 1] = -1e30
                for f in range(first, last):
                    flat, rise = planes[f, 0] * x + planes[f, 1] * y - planes[f, 3], planes[f, 2]
                    for k in range(k0, k1 + 1):
                        line[k] = max(line[k], flat + rise * (origin[2] + (k + 0.5) * step))
                for k in range(k0, k1 + 1):
                    away = line[k]
                    d = np.float32(away / cell)
                    if d < distance[i, j, k]:
                        distance[i, j, k] = d
                        owner[i, j, k] = b
                    if -near < away < near and not lonely[b]:
                        z, mine = origin[2] + (k + 0.5) * step, 0
                        for s in range(8):
                            u = x + (q if s & 1 else -q)
                            v = y + (q if s & 2 else -q)
                            w = z + (q if s & 4 else -q)
                            if _farthest(planes, first, last, u, v, w) < seam:
                                mine |= 1 << s
                        full[i, j, k] |= np.uint16(ALONE if mine == 255 else mine)
        for j in range(ny):
            for k in range(nz):
                if full[i, j, k] == 255:
                    # no one body holds all of it, but together they do
                    distance[i, j, k] = min(distance[i, j, k], -HALF)


@kernel
def open_fraction(d):
    """Fraction of the eighth of a cell about a sample that is open."""
    return min(max(HALF + d + d, ZERO), ONE)


@kernel
def closed_fraction(distance, owner, ease, a, b, c):
    """Fraction of the eighth of a cell about a sample that is closed.

    ease (n,) is what each body is short of what its samples say, at its outside: nothing leaks through its inside."""
    body, part = owner[a, b, c], ONE - open_fraction(distance[a, b, c])
    return part if body == NONE or part == ONE else part * ease[body]


@parallel
def measure(distance, owner, full, out):
    """Write how many eighths of a cell bodies hold of each plane of samples, whole ones and parts of others, out
    (planes, n, 2); full: see `carve`."""
    nx, ny, nz = distance.shape
    for row in prange(nx):
        i = np.int64(row)
        for j in range(ny):
            for k in range(nz):
                body = owner[i, j, k]
                if body == NONE:
                    continue
                part = ONE - open_fraction(distance[i, j, k])
                if part == ONE:
                    # of what two hold together each has half
                    out[i, body, 0] += HALF if full[i, j, k] == 255 else ONE
                else:
                    out[i, body, 1] += part


@parallel
def open_samples(distance, owner, ease, out):
    """Write the open fraction of the eighth of a cell about each sample, out (2nx, 2ny, 2nz) float32; ease: see
    `closed_fraction`."""
    nx, ny, nz = distance.shape
    for row in prange(nx):
        i = np.int64(row)
        for j in range(ny):
            for k in range(nz):
                out[i, j, k] = ONE - closed_fraction(distance, owner, ease, i, j, k)


@parallel
def open_faces(samples, axis, weight):
    """Write the open fraction of the cube about each face across an axis, of what samples say; of a face on the grid's
    side that of its inner half."""
    nx, ny, nz = weight.shape
    for row in prange(nx):
        i = np.int64(row)
        for j in range(ny):
            for k in range(nz):
                a, b, c = 2 * i - (axis == 0), 2 * j - (axis == 1), 2 * k - (axis == 2)
                first, last = (i, nx) if axis == 0 else ((j, ny) if axis == 1 else (k, nz))
                # what lies beyond the side is as what lies before it
                p, q = a + 1, b + 1
                r = c + 1
                if first == 0:
                    a, b, c = max(a, 0), max(b, 0), max(c, 0)
                elif first == last - 1:
                    p, q, r = min(p, samples.shape[0] - 1), min(q, samples.shape[1] - 1), min(r, samples.shape[2] - 1)
                before = samples[a, b, c] + samples[a, b, r] + samples[a, q, c] + samples[a, q, r]
                behind = samples[p, b, c] + samples[p, b, r] + samples[p, q, c] + samples[p, q, r]
                weight[i, j, k] = np.float32(0.125) * (before + behind)


@parallel
def open_cells(samples, distance, fraction, middle):
    """Write the open fraction of each cell, of what samples say, and the distance at its middle."""
    nx, ny, nz = fraction.shape
    for row in prange(nx):
        i = np.int64(row)
        for j in range(ny):
            for k in range(nz):
                total, mean = ZERO, ZERO
                for s in range(8):
                    a, b, c = 2 * i + (s & 1), 2 * j + ((s >> 1) & 1), 2 * k + (s >> 2)
                    total += samples[a, b, c]
                    mean += distance[a, b, c]
                fraction[i, j, k], middle[i, j, k] = total * np.float32(0.125), mean * np.float32(0.125)


@kernel
def _tented(before, here, after, behind):
    """A tent of two cells' width over four samples."""
    return np.float32(0.75) * (here + after) + np.float32(0.25) * (before + behind)


@parallel
def open_about(samples, room):
    """Write the open fraction of the tent of two cells' width about the middle of each cell, along each axis, of what
    samples say; there is nothing open beyond the grid."""
    nx, ny, nz = room.shape
    for row in prange(nx):
        i = np.int64(row)
        a = 2 * i
        plane, line = np.zeros((2 * ny + 2, 2 * nz), np.float32), np.zeros(2 * nz + 2, np.float32)
        # a plane and a line of nothing about what there is
        for b in range(2 * ny):
            for c in range(2 * nz):
                before = samples[a - 1, b, c] if a > 0 else ZERO
                behind = samples[a + 2, b, c] if a + 2 < 2 * nx else ZERO
                plane[b + 1, c] = _tented(before, samples[a, b, c], samples[a + 1, b, c], behind)
        for j in range(ny):
            b = 2 * j + 1
            for c in range(2 * nz):
                line[c + 1] = _tented(plane[b - 1, c], plane[b, c], plane[b + 1, c], plane[b + 2, c])
            for k in range(nz):
                c = 2 * k + 1
                room[i, j, k] = np.float32(0.125) * _tented(line[c - 1], line[c], line[c + 1], line[c + 2])


@kernel
def tent(a):
    """A tent of two cells' width at samples from half a cell before its middle's cell on."""
    return np.float32(0.75) if a == 0 or a == 1 else np.float32(0.25)


@kernel
def distance_at(distance, x, y, z):
    """The distance at a place, straight between samples and on beyond the last."""
    return onward(distance, x + x - HALF, y + y - HALF, z + z - HALF)


@kernel
def slope_at(distance, x, y, z):
    """How the distance rises about a place, over half a cell along each axis."""
    h = np.float32(0.25)
    return (
        distance_at(distance, x + h, y, z) - distance_at(distance, x - h, y, z),
        distance_at(distance, x, y + h, z) - distance_at(distance, x, y - h, z),
        distance_at(distance, x, y, z + h) - distance_at(distance, x, y, z - h),
    )


@serial
def sides(low, high, distance):
    """Lessen distance to that from the sides of a box, low and high (3,) [cells], and its floor; there is no lid."""
    for i in range(distance.shape[0]):
        x = np.float32(0.5 * i + 0.25)
        for j in range(distance.shape[1]):
            y = np.float32(0.5 * j + 0.25)
            side = min(min(x - low[0], high[0] - x), min(y - low[1], high[1] - y))
            for k in range(distance.shape[2]):
                d = min(side, np.float32(0.5 * k + 0.25) - low[2])
                if d < distance[i, j, k]:
                    distance[i, j, k] = d


@serial
def behind(middle, reach):
    """List the cells whose middles lie within walls, no deeper than `reach` [cells], or nearer to them than half a
    cell, the shallowest first: (m, 3) int32."""
    nx, ny, nz = middle.shape
    found, depth, m = np.empty((middle.size, 3), np.int32), np.empty(middle.size, np.float32), 0
    for i in range(nx):
        for j in range(ny):
            for k in range(nz):
                if -reach < middle[i, j, k] < HALF:
                    found[m, 0], found[m, 1], found[m, 2] = i, j, k
                    depth[m] = -middle[i, j, k]
                    m += 1
    order = np.argsort(depth[:m], kind="mergesort")
    return found[:m][order]
