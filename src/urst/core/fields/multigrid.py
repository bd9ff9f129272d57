"""Kernels of the pressure solver: a red-black multigrid cycle for the Poisson matrix of a grid with closed cells.

The matrix row of a cell is sum_f w_f (p_cell - p_neighbour) over its six faces; neighbours beyond the grid are 0.

Fields are *packed* by colour, so that a half sweep runs through memory without gaps: cell (i, j, k) of colour c = (i
+ j + k) & 1 is found at [c, i + 1, (j + 1) * stride + (k >> 1) + 1] of an array of shape (2, nx + 2, (ny + 2) *
stride), stride = (nz + 1) // 2 + 2, whose outer layers are 0. All neighbours of a cell have the other colour; those
along x and y share its place in a row, those along z have it and the one before, or after where i + j + c is odd.
`odd` (2, ny * stride) says which it is, for rows end to end, of planes with i + c even and odd.

`diagonal` and `inverse` (2, nx, ny * stride) are 0 where a cell is closed or beyond the grid, and p is 0 there. Weights
stand as (2, 6, nx, ny * stride): faces to -x, +x, -y, +y, -z, +z. Where cells are open or closed as a whole, every
weight of the finest level is 1 between open cells and 0 elsewhere, which p = 0 in closed cells makes good: no weights
are stored then, (2, 0, nx, 0). What a free surface adds stands on the diagonal alone.

The half sweeps of a level follow each other through its planes, sweep s in plane t - s: a plane comes from memory once
for all of them. Slabs of planes are treated side by side. Each sweep ends one plane before the last sweep's end at a
side it shares with another slab; the wedges left between slabs are filled in afterwards. Every cell sees the same
neighbours as if one half sweep ended before the next began, so neither slabs nor threads change a bit of the result.

p is the unknown, rhs the right-hand side, image A p and direction that of a conjugate gradient step, all packed,
float32, out is written and fraction what of the last direction is kept; partial (nx,) float64 takes what each plane
adds to a sum; a and b are any two packed fields. A slab of planes from low to high is at its half sweep number stage.
"""

from types import FunctionType
from typing import NamedTuple

import numpy as np
from numba import prange

from urst.core.jit import inline, parallel, serial


class Grid(NamedTuple):
    """One of the coarser levels, as `small_cycle` takes it."""

    p: np.ndarray
    rhs: np.ndarray
    weights: np.ndarray
    diagonal: np.ndarray
    inverse: np.ndarray
    odd: np.ndarray


def both(kernel):
    """Compile a kernel for one thread and for all: (serial, parallel).

    Numba keeps compiled functions by qualified name, so the twin has one of its own.
    """
    twin = FunctionType(kernel.__code__, kernel.__globals__, f"{kernel.__name__}_threads")
    twin.__qualname__, twin.__module__ = f"{kernel.__qualname__}_threads", kernel.__module__
    return serial(kernel), parallel(twin)


def packed_size(shape: tuple[int, int, int]) -> int:
    """Return how many numbers a packed field of a grid holds."""
    nx, ny, nz = shape
    return 2 * (nx + 2) * (ny + 2) * ((nz + 1) // 2 + 2)


def packed_index(cells: np.ndarray, shape: tuple[int, int, int]) -> np.ndarray:
    """Return where cells lie in a packed field that is laid out flat, (m,) int64.

    Parameters
    ----------
    cells : (m, 3) int64
    shape : (nx, ny, nz)
    """
    _, ny, nz = shape
    i, j, k = cells.T
    return (
        (((i + j + k) & 1) * (shape[0] + 2) + i + 1) * (ny + 2) * ((nz + 1) // 2 + 2)
        + (j + 1) * ((nz + 1) // 2 + 2)
        + (k >> 1)
        + 1
    )


@inline
def stride_of(p, odd):
    """How far one row is from the next."""
    return (p.shape[2] - odd.shape[1]) // 2


@serial
def plane_dot(a, b, i, stride):
    """Plane i's share of the sum of products of two packed fields.

    Each column is summed along the plane, all side by side: the same on any machine, and as fast as it is read.
    """
    sums = np.zeros(stride, np.float32)
    for colour in range(2):
        for start in range(stride, a.shape[2] - stride, stride):
            x, y = a[colour, i + 1, start : start + stride], b[colour, i + 1, start : start + stride]
            for k in range(stride):
                sums[k] += x[k] * y[k]
    total = 0.0
    for k in range(stride):
        total += sums[k]
    return total


@inline
def in_order(partial):
    """Sum what planes gave, from the first to the last."""
    total = 0.0
    for i in range(len(partial)):
        total += partial[i]
    return total


@serial
def first_plane(p, rhs, inverse, odd, i):
    """The first half sweep, colour 0, from a field of zeros, whatever `p` held; the next one gives colour 1."""
    start, size = stride_of(p, odd), odd.shape[1]
    mine, b, part = p[0, i + 1, start : start + size], rhs[0, i + 1, start : start + size], inverse[0, i]
    for k in range(size):
        mine[k] = b[k] * part[k]


@inline
def neighbours(p, odd, other, i):
    """The cells before and after those of plane i along x and y; those at the same place, before and after along z."""
    start, size = stride_of(p, odd), odd.shape[1]
    end = start + size
    plane = p[other, i + 1]
    return (
        p[other, i, start:end],
        p[other, i + 2, start:end],
        plane[:size],
        plane[2 * start : start + end],
        plane[start:end],
        plane[start - 1 : end - 1],
        plane[start + 1 : end + 1],
    )


@serial
def open_sweep(p, rhs, inverse, odd, colour, i):
    """`sweep` where cells are open or closed as a whole."""
    start, size = stride_of(p, odd), odd.shape[1]
    mine, b, part = p[colour, i + 1, start : start + size], rhs[colour, i + 1, start : start + size], inverse[colour, i]
    west, east, south, north, here, before, after = neighbours(p, odd, 1 - colour, i)
    is_odd = odd[(i + colour) & 1]
    for k in range(size):
        low, high = before[k], after[k]
        beside = high if is_odd[k] else low
        mine[k] = (b[k] + west[k] + east[k] + south[k] + north[k] + here[k] + beside) * part[k]


@serial
def weighted_sweep(p, rhs, weights, inverse, odd, colour, i):
    """`sweep` where faces have weights."""
    start, size = stride_of(p, odd), odd.shape[1]
    mine, b, part = p[colour, i + 1, start : start + size], rhs[colour, i + 1, start : start + size], inverse[colour, i]
    west, east, south, north, here, before, after = neighbours(p, odd, 1 - colour, i)
    w0, w1, w2 = weights[colour, 0, i], weights[colour, 1, i], weights[colour, 2, i]
    w3, w4, w5 = weights[colour, 3, i], weights[colour, 4, i], weights[colour, 5, i]
    is_odd = odd[(i + colour) & 1]
    for k in range(size):
        low, middle, high = before[k], here[k], after[k]
        down, up = (middle, high) if is_odd[k] else (low, middle)
        total = b[k] + w0[k] * west[k]
        total += w1[k] * east[k]
        total += w2[k] * south[k]
        total += w3[k] * north[k]
        total += w4[k] * down
        total += w5[k] * up
        mine[k] = total * part[k]


@serial
def sweep(p, rhs, weights, inverse, odd, colour, i):
    """Gauss-Seidel on the cells of one colour in plane i."""
    if weights.shape[1]:
        weighted_sweep(p, rhs, weights, inverse, odd, colour, i)
    else:
        open_sweep(p, rhs, inverse, odd, colour, i)


@serial
def open_product(p, diagonal, odd, colour, i, out):
    """`product` where cells are open or closed as a whole."""
    start, size = stride_of(p, odd), odd.shape[1]
    mine, own = p[colour, i + 1, start : start + size], diagonal[colour, i]
    west, east, south, north, here, before, after = neighbours(p, odd, 1 - colour, i)
    is_odd = odd[(i + colour) & 1]
    for k in range(size):
        low, high = before[k], after[k]
        beside = high if is_odd[k] else low
        value = own[k] * mine[k] - (west[k] + east[k] + south[k] + north[k] + here[k] + beside)
        # an open cell has a face; a closed one stays 0
        out[k] = value if own[k] > np.float32(0.0) else np.float32(0.0)


@serial
def weighted_product(p, weights, diagonal, odd, colour, i, out):
    """`product` where faces have weights."""
    start, size = stride_of(p, odd), odd.shape[1]
    mine, own = p[colour, i + 1, start : start + size], diagonal[colour, i]
    west, east, south, north, here, before, after = neighbours(p, odd, 1 - colour, i)
    w0, w1, w2 = weights[colour, 0, i], weights[colour, 1, i], weights[colour, 2, i]
    w3, w4, w5 = weights[colour, 3, i], weights[colour, 4, i], weights[colour, 5, i]
    is_odd = odd[(i + colour) & 1]
    for k in range(size):
        low, middle, high = before[k], here[k], after[k]
        down, up = (middle, high) if is_odd[k] else (low, middle)
        around = w0[k] * west[k]
        around += w1[k] * east[k]
        around += w2[k] * south[k]
        around += w3[k] * north[k]
        around += w4[k] * down
        around += w5[k] * up
        value = own[k] * mine[k] - around
        out[k] = value if own[k] > np.float32(0.0) else np.float32(0.0)


@serial
def product(p, weights, diagonal, odd, colour, i, out):
    """The cells of one colour in plane i of A p, to `out` (ny * stride)."""
    if weights.shape[1]:
        weighted_product(p, weights, diagonal, odd, colour, i, out)
    else:
        open_product(p, diagonal, odd, colour, i, out)


@serial
def image(p, weights, diagonal, odd, out, i):
    """Plane i of A p, a packed field; returns its share of p . A p."""
    start, size = stride_of(p, odd), odd.shape[1]
    for colour in range(2):
        product(p, weights, diagonal, odd, colour, i, out[colour, i + 1, start : start + size])
    return plane_dot(p, out, i, start)


@serial
def turn_plane(direction, fraction, z, i):
    """direction = z + share direction in plane i"""
    for colour in range(2):
        d, s = direction[colour, i + 1], z[colour, i + 1]
        for k in range(len(d)):
            d[k] = s[k] + fraction * d[k]


@serial
def restrict(p, rhs, weights, diagonal, odd, coarse, a, rooms):
    """Sum the residual of the eight cells under each coarse one of plane a, halved, after a sweep that ended with
    colour 1.

    That sweep has left no residual in colour 1, so only the four cells of colour 0 count. The half comes from the
    coarse matrix being discretised anew with unit weights on cells twice as wide. `rooms` (2, ny * stride) is scratch.
    """
    start, size = stride_of(p, odd), odd.shape[1]
    half = np.float32(0.5)
    for side in range(2):
        i, room = 2 * a + side, rooms[side]
        product(p, weights, diagonal, odd, 0, i, room)
        b, own = rhs[0, i + 1, start : start + size], diagonal[0, i]
        for k in range(size):
            room[k] = b[k] - room[k] if own[k] > np.float32(0.0) else np.float32(0.0)
    wide = (start - 2) // 2 + start % 2 + 2
    for b in range(size // start // 2):
        first, second = (
            rooms[:, 2 * b * start + 1 : (2 * b + 1) * start],
            rooms[:, (2 * b + 1) * start + 1 : (2 * b + 2) * start],
        )
        for k in range(start - 2):
            total = first[0, k] + first[1, k] + second[0, k] + second[1, k]
            coarse[(a + b + k) & 1, a + 1, (b + 1) * wide + (k >> 1) + 1] = half * total


@serial
def prolong(coarse, inverse, fine, odd, i):
    """Add each coarse value to its open fine cells of colour 0 in plane i; the sweep that follows begins with colour
    1."""
    start, size = stride_of(fine, odd), odd.shape[1]
    wide = (start - 2) // 2 + start % 2 + 2
    a, row = i >> 1, np.empty(start - 2, np.float32)
    for b in range(size // start // 2):
        for k in range(start - 2):
            row[k] = coarse[(a + b + k) & 1, a + 1, (b + 1) * wide + (k >> 1) + 1]
        for j in range(2 * b, 2 * b + 2):
            at = j * start + 1
            target, part = fine[0, i + 1, at + start : at + 2 * start - 2], inverse[0, i, at : at + start - 2]
            for k in range(start - 2):
                target[k] += row[k] if part[k] > np.float32(0.0) else np.float32(0.0)


@inline
def within(i, low, high, planes, stage):
    """Whether a half sweep may treat plane i of the slab before its neighbours are done."""
    return (low + stage if low > 0 else 0) <= i < (high - stage if high < planes else planes)


def _down(p, rhs, weights, diagonal, inverse, odd, coarse, sweeps, slabs):
    """Sweep from nothing, then restrict to `coarse`, of no cells where there is no coarser level."""
    planes = inverse.shape[1]
    stages, rows = 2 * sweeps, coarse.shape[1] - 2
    last = stages - 1
    for part in prange(slabs):
        slab, rooms = np.int64(part), np.empty((2, odd.shape[1]), np.float32)
        low, high = planes * slab // slabs, planes * (slab + 1) // slabs
        for front in range(low, high + stages):
            for stage in range(stages):
                i = front - stage
                if within(i, low, high, planes, stage):
                    if stage == 0:
                        first_plane(p, rhs, inverse, odd, i)
                    else:
                        sweep(p, rhs, weights, inverse, odd, stage & 1, i)
            # the last sweep has come to this plane: the coarse one whose cells, and those around, end with it is free
            done = front - last
            a = done // 2 - 1
            if not done & 1 and 0 <= a < rows and (low == 0 or 2 * a > low + last):
                if high == planes or done < high - last:
                    restrict(p, rhs, weights, diagonal, odd, coarse, a, rooms)
    for part in prange(slabs - 1):
        rooms, edge = np.empty((2, odd.shape[1]), np.float32), planes * (np.int64(part) + 1) // slabs
        for stage in range(1, stages):
            for i in range(edge - stage, edge + stage):
                sweep(p, rhs, weights, inverse, odd, stage & 1, i)
        for a in range((edge - last - 1) // 2, min((edge + last + 2) // 2, rows)):
            restrict(p, rhs, weights, diagonal, odd, coarse, a, rooms)


def _up(p, rhs, weights, inverse, odd, coarse, sweeps, slabs, partial):
    """Prolong from `coarse`, then sweep in the reverse order of colours; returns p . rhs, planes added in order."""
    planes = inverse.shape[1]
    stages = 2 * sweeps + 1
    for part in prange(slabs):
        slab = np.int64(part)
        low, high = planes * slab // slabs, planes * (slab + 1) // slabs
        for front in range(low, high + stages):
            for stage in range(stages):
                i = front - stage
                if within(i, low, high, planes, stage):
                    if stage == 0:
                        if coarse.shape[2]:
                            prolong(coarse, inverse, p, odd, i)
                    else:
                        sweep(p, rhs, weights, inverse, odd, stage & 1, i)
                    if stage == stages - 1:
                        partial[i] = plane_dot(p, rhs, i, stride_of(p, odd))
    for part in prange(slabs - 1):
        edge = planes * (np.int64(part) + 1) // slabs
        for stage in range(1, stages):
            for i in range(edge - stage, edge + stage):
                sweep(p, rhs, weights, inverse, odd, stage & 1, i)
        for i in range(edge - stages + 1, edge + stages - 1):
            partial[i] = plane_dot(p, rhs, i, stride_of(p, odd))
    return in_order(partial)


def _turn(direction, fraction, z, weights, diagonal, odd, out, slabs, partial):
    """direction = z + share direction, out = A direction; returns direction . out, planes added in order."""
    planes = diagonal.shape[1]
    for part in prange(slabs):
        slab = np.int64(part)
        low, high = planes * slab // slabs, planes * (slab + 1) // slabs
        for front in range(low, high + 1):
            if front < high:
                turn_plane(direction, fraction, z, front)
            if within(front - 1, low, high, planes, 1):
                partial[front - 1] = image(direction, weights, diagonal, odd, out, front - 1)
    for part in prange(slabs - 1):
        edge = planes * (np.int64(part) + 1) // slabs
        for i in range(edge - 1, edge + 1):
            partial[i] = image(direction, weights, diagonal, odd, out, i)
    return in_order(partial)


down, up = both(_down), both(_up)
turn = parallel(_turn)
_down_alone, _up_alone = down[0], up[0]


@serial
def small_cycle(grids, count, sweeps, last_sweeps):
    """The part of a V-cycle on the small levels, in one call.

    `grids` is a tuple of `Grid`, the finest first, of which the first `count` are there: tuples of one length take one
    compiled function. The finest has `sweeps` sweeps, each coarser one more, the last `last_sweeps`.
    """
    last = count - 1
    nothing, partial = np.empty((2, 2, 0), np.float32), np.empty(grids[0].p.shape[1])
    for depth in range(last):
        g = grids[depth]
        _down_alone(g.p, g.rhs, g.weights, g.diagonal, g.inverse, g.odd, grids[depth + 1].rhs, sweeps + depth, 1)
    g = grids[last]
    _down_alone(g.p, g.rhs, g.weights, g.diagonal, g.inverse, g.odd, nothing, last_sweeps, 1)
    _up_alone(g.p, g.rhs, g.weights, g.inverse, g.odd, nothing, last_sweeps, 1, partial)
    for step in range(last):
        depth = last - 1 - step
        g = grids[depth]
        _up_alone(g.p, g.rhs, g.weights, g.inverse, g.odd, grids[depth + 1].p, sweeps + depth, 1, partial)


@parallel
def dot(a, b, stride, partial):
    """Sum of products of two packed fields, planes added in order."""
    for part in prange(a.shape[1] - 2):
        i = np.int64(part)
        partial[i] = plane_dot(a, b, i, stride)
    return in_order(partial)


@parallel
def go(x, r, direction, image, step, stride, partial):
    """x += step direction, r -= step image; returns r . r."""
    for part in prange(x.shape[1] - 2):
        i = np.int64(part)
        for colour in range(2):
            a, b, d, m = x[colour, i + 1], r[colour, i + 1], direction[colour, i + 1], image[colour, i + 1]
            for k in range(len(a)):
                a[k] += step * d[k]
                b[k] -= step * m[k]
        partial[i] = plane_dot(r, r, i, stride)
    return in_order(partial)
