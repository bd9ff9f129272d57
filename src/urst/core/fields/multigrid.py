"""Kernels of the pressure solver: a red-black multigrid cycle for the Poisson matrix of a grid with closed cells.

The matrix row of a cell is sum_f w_f (p_cell - p_neighbour) over its six faces; neighbours beyond the grid are 0.

Fields are *packed* by colour, so that a half sweep runs through memory without gaps: cell (i, j, k) of colour
c = (i + j + k) & 1 is found at [c, i + 1, j + 1, (k >> 1) + 1] of an array of shape (2, nx + 2, ny + 2, nk + 2) with
nk = (nz + 1) // 2, whose outer layers are 0. All neighbours of a cell have the other colour; those along x and y share
its packed index, those along z have it and the one before or after. `diagonal` and `inverse` are packed without the
outer layers; both are 0 where a cell is closed or beyond the grid, and p is 0 there.

Where cells are open or closed as a whole, every weight of the finest level is 1 between open cells and 0 elsewhere, which
p = 0 in closed cells makes good; the `open_*` kernels use that. Other levels carry weights (2, 6, nx, ny, nk): faces to
-x, +x, -y, +y, -z, +z. What a free surface adds stands on the diagonal alone.

Each kernel comes as a plain function and in two compiled forms: `serial` for small levels, where starting threads
costs more than the work, and `parallel`.
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


class Faces(NamedTuple):
    """Open shares of the faces of a grid, plain arrays."""

    x: np.ndarray
    y: np.ndarray
    z: np.ndarray


@inline
def row_dot(a, b):
    """Sum of products of two rows, in four strands so that they can be summed side by side: the same on any machine."""
    s0, s1, s2, s3 = np.float32(0.0), np.float32(0.0), np.float32(0.0), np.float32(0.0)
    n = len(a)
    whole = n - (n & 3)
    for k in range(0, whole, 4):
        s0 += a[k] * b[k]
        s1 += a[k + 1] * b[k + 1]
        s2 += a[k + 2] * b[k + 2]
        s3 += a[k + 3] * b[k + 3]
    for k in range(whole, n):
        s0 += a[k] * b[k]
    return (s0 + s1) + (s2 + s3)


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


def _open_smooth(p, rhs, inverse, colour):
    """Gauss-Seidel on the cells of one colour, finest level."""
    nx, ny, nk = inverse.shape[1:]
    other = 1 - colour
    for i in prange(nx):
        for j in range(ny):
            shift = 1 if (np.int64(i) + j + colour) & 1 else -1
            mine, b, part = (
                p[colour, i + 1, j + 1, 1 : nk + 1],
                rhs[colour, i + 1, j + 1, 1 : nk + 1],
                inverse[colour, i, j],
            )
            west, east = p[other, i, j + 1, 1 : nk + 1], p[other, i + 2, j + 1, 1 : nk + 1]
            south, north = p[other, i + 1, j, 1 : nk + 1], p[other, i + 1, j + 2, 1 : nk + 1]
            here, beside = p[other, i + 1, j + 1, 1 : nk + 1], p[other, i + 1, j + 1, 1 + shift : nk + 1 + shift]
            for k in range(nk):
                mine[k] = (b[k] + west[k] + east[k] + south[k] + north[k] + here[k] + beside[k]) * part[k]


def _first(p, rhs, inverse):
    """The first half sweep, colour 0, from a field of zeros, whatever `p` held."""
    nx, ny, nk = inverse.shape[1:]
    for i in prange(nx):
        for j in range(ny):
            mine, b, part = p[0, i + 1, j + 1, 1 : nk + 1], rhs[0, i + 1, j + 1, 1 : nk + 1], inverse[0, i, j]
            other = p[1, i + 1, j + 1, 1 : nk + 1]
            for k in range(nk):
                mine[k] = b[k] * part[k]
                other[k] = np.float32(0.0)


def _smooth(p, rhs, weights, inverse, colour):
    """Gauss-Seidel on the cells of one colour, coarser levels."""
    nx, ny, nk = inverse.shape[1:]
    other = 1 - colour
    for i in prange(nx):
        for j in range(ny):
            odd = (np.int64(i) + j + colour) & 1
            for k in range(nk):
                low, high = (k + 1, k + 2) if odd else (k, k + 1)
                total = rhs[colour, i + 1, j + 1, k + 1]
                total += weights[colour, 0, i, j, k] * p[other, i, j + 1, k + 1]
                total += weights[colour, 1, i, j, k] * p[other, i + 2, j + 1, k + 1]
                total += weights[colour, 2, i, j, k] * p[other, i + 1, j, k + 1]
                total += weights[colour, 3, i, j, k] * p[other, i + 1, j + 2, k + 1]
                total += weights[colour, 4, i, j, k] * p[other, i + 1, j + 1, low]
                total += weights[colour, 5, i, j, k] * p[other, i + 1, j + 1, high]
                p[colour, i + 1, j + 1, k + 1] = total * inverse[colour, i, j, k]


def _open_apply(p, diagonal, out, partial):
    """out = A p on the finest level; returns p . out, slab sums added in order: the same for any thread count."""
    nx, ny, nk = diagonal.shape[1:]
    for i in prange(nx):
        total = 0.0
        for colour in range(2):
            other = 1 - colour
            for j in range(ny):
                shift = 1 if (np.int64(i) + j + colour) & 1 else -1
                mine, result = p[colour, i + 1, j + 1, 1 : nk + 1], out[colour, i + 1, j + 1, 1 : nk + 1]
                west, east = p[other, i, j + 1, 1 : nk + 1], p[other, i + 2, j + 1, 1 : nk + 1]
                south, north = p[other, i + 1, j, 1 : nk + 1], p[other, i + 1, j + 2, 1 : nk + 1]
                here, beside = p[other, i + 1, j + 1, 1 : nk + 1], p[other, i + 1, j + 1, 1 + shift : nk + 1 + shift]
                own = diagonal[colour, i, j]
                for k in range(nk):
                    around = west[k] + east[k] + south[k] + north[k] + here[k] + beside[k]
                    # an open cell has a face; a closed one stays 0
                    result[k] = own[k] * mine[k] - around if own[k] > np.float32(0.0) else np.float32(0.0)
                total += row_dot(mine, result)
        partial[i] = total
    total = 0.0
    for i in range(nx):
        total += partial[i]
    return total


def _open_restrict(p, rhs, diagonal, coarse):
    """Sum the residual of the eight cells under each coarse one, halved, after a sweep that ended with colour 1.

    That sweep has left no residual in colour 1, so only the four cells of colour 0 count. The half comes from the
    coarse matrix being discretised anew with unit weights on cells twice as wide.
    """
    nx, ny, nk = diagonal.shape[1:]
    half = np.float32(0.5)
    for a in prange(coarse.shape[1] - 2):
        row = np.empty(nk, np.float32)
        for b in range(coarse.shape[2] - 2):
            row[:] = np.float32(0.0)
            for side in range(4):
                i, j = 2 * np.int64(a) + (side & 1), 2 * b + (side >> 1)
                shift = 1 if (i + j) & 1 else -1
                mine, source = p[0, i + 1, j + 1, 1 : nk + 1], rhs[0, i + 1, j + 1, 1 : nk + 1]
                west, east = p[1, i, j + 1, 1 : nk + 1], p[1, i + 2, j + 1, 1 : nk + 1]
                south, north = p[1, i + 1, j, 1 : nk + 1], p[1, i + 1, j + 2, 1 : nk + 1]
                here, beside = p[1, i + 1, j + 1, 1 : nk + 1], p[1, i + 1, j + 1, 1 + shift : nk + 1 + shift]
                own = diagonal[0, i, j]
                for k in range(nk):
                    around = west[k] + east[k] + south[k] + north[k] + here[k] + beside[k]
                    row[k] += source[k] + around - own[k] * mine[k] if own[k] > np.float32(0.0) else np.float32(0.0)
            for k in range(nk):
                coarse[(np.int64(a) + b + k) & 1, a + 1, b + 1, (k >> 1) + 1] = half * row[k]


def _restrict(p, rhs, weights, diagonal, coarse):
    """The same on coarser levels."""
    nk = diagonal.shape[3]
    half = np.float32(0.5)
    for a in prange(coarse.shape[1] - 2):
        row = np.empty(nk, np.float32)
        for b in range(coarse.shape[2] - 2):
            row[:] = np.float32(0.0)
            for side in range(4):
                i, j = 2 * np.int64(a) + (side & 1), 2 * b + (side >> 1)
                odd = (i + j) & 1
                for k in range(nk):
                    low, high = (k + 1, k + 2) if odd else (k, k + 1)
                    total = rhs[0, i + 1, j + 1, k + 1] - diagonal[0, i, j, k] * p[0, i + 1, j + 1, k + 1]
                    total += weights[0, 0, i, j, k] * p[1, i, j + 1, k + 1]
                    total += weights[0, 1, i, j, k] * p[1, i + 2, j + 1, k + 1]
                    total += weights[0, 2, i, j, k] * p[1, i + 1, j, k + 1]
                    total += weights[0, 3, i, j, k] * p[1, i + 1, j + 2, k + 1]
                    total += weights[0, 4, i, j, k] * p[1, i + 1, j + 1, low]
                    total += weights[0, 5, i, j, k] * p[1, i + 1, j + 1, high]
                    row[k] += total if diagonal[0, i, j, k] > np.float32(0.0) else np.float32(0.0)
            for k in range(nk):
                coarse[(np.int64(a) + b + k) & 1, a + 1, b + 1, (k >> 1) + 1] = half * row[k]


def _prolong(coarse, inverse, fine):
    """Add each coarse value to its open fine cells of colour 0; the sweep that follows begins with colour 1."""
    nk = inverse.shape[3]
    for a in prange(coarse.shape[1] - 2):
        row = np.empty(nk, np.float32)
        for b in range(coarse.shape[2] - 2):
            for k in range(nk):
                row[k] = coarse[(np.int64(a) + b + k) & 1, a + 1, b + 1, (k >> 1) + 1]
            for side in range(4):
                i, j = 2 * np.int64(a) + (side & 1), 2 * b + (side >> 1)
                target, part = fine[0, i + 1, j + 1, 1 : nk + 1], inverse[0, i, j]
                for k in range(nk):
                    if part[k] > np.float32(0.0):
                        target[k] += row[k]


def _apply(p, weights, diagonal, out, partial):
    """The same where the finest level has weights."""
    nx, ny, nk = diagonal.shape[1:]
    for i in prange(nx):
        total = 0.0
        for colour in range(2):
            other = 1 - colour
            for j in range(ny):
                odd = (np.int64(i) + j + colour) & 1
                for k in range(nk):
                    low, high = (k + 1, k + 2) if odd else (k, k + 1)
                    around = weights[colour, 0, i, j, k] * p[other, i, j + 1, k + 1]
                    around += weights[colour, 1, i, j, k] * p[other, i + 2, j + 1, k + 1]
                    around += weights[colour, 2, i, j, k] * p[other, i + 1, j, k + 1]
                    around += weights[colour, 3, i, j, k] * p[other, i + 1, j + 2, k + 1]
                    around += weights[colour, 4, i, j, k] * p[other, i + 1, j + 1, low]
                    around += weights[colour, 5, i, j, k] * p[other, i + 1, j + 1, high]
                    out[colour, i + 1, j + 1, k + 1] = (
                        diagonal[colour, i, j, k] * p[colour, i + 1, j + 1, k + 1] - around
                    )
                total += row_dot(p[colour, i + 1, j + 1], out[colour, i + 1, j + 1])
        partial[i] = total
    total = 0.0
    for i in range(nx):
        total += partial[i]
    return total


first = both(_first)
open_smooth = both(_open_smooth)
smooth = both(_smooth)
open_restrict = both(_open_restrict)
restrict = both(_restrict)
prolong = both(_prolong)

_smooth_alone, _restrict_alone, _prolong_alone = smooth[0], restrict[0], prolong[0]


@serial
def small_cycle(grids, sweeps, last_sweeps):
    """The part of a V-cycle on the small levels, in one call: `grids` a tuple of `Grid`, the finest first."""
    last = len(grids) - 1
    for depth in range(last + 1):
        g = grids[depth]
        g.p[:] = np.float32(0.0)
        for _ in range(sweeps if depth < last else last_sweeps):
            _smooth_alone(g.p, g.rhs, g.weights, g.inverse, 0)
            _smooth_alone(g.p, g.rhs, g.weights, g.inverse, 1)
        if depth < last:
            _restrict_alone(g.p, g.rhs, g.weights, g.diagonal, grids[depth + 1].rhs)
    for step in range(last + 1):
        depth = last - step
        g = grids[depth]
        if depth < last:
            _prolong_alone(grids[depth + 1].p, g.inverse, g.p)
        for _ in range(sweeps if depth < last else last_sweeps):
            _smooth_alone(g.p, g.rhs, g.weights, g.inverse, 1)
            _smooth_alone(g.p, g.rhs, g.weights, g.inverse, 0)


open_apply = parallel(_open_apply)
apply = parallel(_apply)


@parallel
def dot(a, b, partial):
    """Sum of products of two packed fields; rows in float32, the rest in float64, added in order."""
    for i in prange(a.shape[1]):
        total = 0.0
        for colour in range(2):
            for j in range(a.shape[2]):
                total += row_dot(a[colour, i, j], b[colour, i, j])
        partial[i] = total
    total = 0.0
    for i in range(a.shape[1]):
        total += partial[i]
    return total


@parallel
def go(x, r, direction, image, step, partial):
    """x += step direction, r -= step image; returns r . r."""
    for i in prange(x.shape[1]):
        total = 0.0
        for colour in range(2):
            for j in range(x.shape[2]):
                a, b, d, m = x[colour, i, j], r[colour, i, j], direction[colour, i, j], image[colour, i, j]
                for k in range(len(a)):
                    a[k] += step * d[k]
                    b[k] -= step * m[k]
                total += row_dot(b, b)
        partial[i] = total
    total = 0.0
    for i in range(x.shape[1]):
        total += partial[i]
    return total


@parallel
def turn(direction, share, z):
    """direction = z + share direction"""
    for i in prange(z.shape[1]):
        for colour in range(2):
            for j in range(z.shape[2]):
                d, s = direction[colour, i, j], z[colour, i, j]
                for k in range(len(d)):
                    d[k] = s[k] + share * d[k]


@parallel
def pack(field, inverse, out):
    """Pack a field (nx, ny, nz), 0 where a cell is closed."""
    nx, ny, nz = field.shape
    for i in prange(nx):
        for j in range(ny):
            for k in range(nz):
                c = (np.int64(i) + j + k) & 1
                out[c, i + 1, j + 1, (k >> 1) + 1] = (
                    field[i, j, k] if inverse[c, i, j, k >> 1] > 0.0 else np.float32(0.0)
                )


@parallel
def unpack(packed, out):
    """The way back."""
    nx, ny, nz = out.shape
    for i in prange(nx):
        for j in range(ny):
            for k in range(nz):
                out[i, j, k] = packed[(np.int64(i) + j + k) & 1, i + 1, j + 1, (k >> 1) + 1]


@parallel
def open_diagonal(is_open, diagonal, inverse):
    """Open faces of each open cell, packed, and the inverse; a face at the grid's side is open."""
    nx, ny, nz = is_open.shape
    for row in prange(nx):
        i = np.int64(row)
        for j in range(ny):
            for k in range(nz):
                count = 0
                if is_open[i, j, k]:
                    count += 1 if i == 0 or is_open[i - 1, j, k] else 0
                    count += 1 if i == nx - 1 or is_open[i + 1, j, k] else 0
                    count += 1 if j == 0 or is_open[i, j - 1, k] else 0
                    count += 1 if j == ny - 1 or is_open[i, j + 1, k] else 0
                    count += 1 if k == 0 or is_open[i, j, k - 1] else 0
                    count += 1 if k == nz - 1 or is_open[i, j, k + 1] else 0
                c = (i + j + k) & 1
                diagonal[c, i, j, k >> 1] = np.float32(count)
                inverse[c, i, j, k >> 1] = np.float32(1.0) / np.float32(count) if count else np.float32(0.0)


@parallel
def open_faces(is_open, axis, out):
    """Weights of the coarse faces across one axis: the mean of the four fine faces each covers."""
    nx, ny, nz = is_open.shape
    quarter = np.float32(0.25)
    for row in prange(out.shape[0]):
        for j in range(out.shape[1]):
            for k in range(out.shape[2]):
                count = 0
                for side in range(4):
                    a, b, c = 2 * np.int64(row), 2 * j, 2 * k
                    first, second = side & 1, side >> 1
                    if axis == 0:
                        b, c = b + first, c + second
                        before, after = a == 0 or is_open[a - 1, b, c], a == nx or is_open[a, b, c]
                    elif axis == 1:
                        a, c = a + first, c + second
                        before, after = b == 0 or is_open[a, b - 1, c], b == ny or is_open[a, b, c]
                    else:
                        a, b = a + first, b + second
                        before, after = c == 0 or is_open[a, b, c - 1], c == nz or is_open[a, b, c]
                    if before and after:
                        count += 1
                out[row, j, k] = quarter * np.float32(count)


@parallel
def coarsen(fine, axis, out):
    """Weights of the coarse faces across one axis: the mean of the four fine faces each covers; plain arrays, not packed."""
    quarter = np.float32(0.25)
    for row in prange(out.shape[0]):
        i = np.int64(row)
        for j in range(out.shape[1]):
            for k in range(out.shape[2]):
                total = np.float32(0.0)
                for side in range(4):
                    a, b, c = 2 * i, 2 * j, 2 * k
                    first, second = side & 1, side >> 1
                    if axis == 0:
                        b, c = b + first, c + second
                    elif axis == 1:
                        a, c = a + first, c + second
                    else:
                        a, b = a + first, b + second
                    total += fine[a, b, c]
                out[i, j, k] = quarter * total


@parallel
def gather_extra(fine, out):
    """What the coarse cells' faces to the free surface weigh: the sum of eight fine cells', scaled as the faces are."""
    quarter = np.float32(0.25)
    for row in prange(out.shape[0]):
        i = np.int64(row)
        for j in range(out.shape[1]):
            for k in range(out.shape[2]):
                total = np.float32(0.0)
                for side in range(8):
                    total += fine[2 * i + (side & 1), 2 * j + (side >> 1 & 1), 2 * k + (side >> 2)]
                out[i, j, k] = quarter * total


@parallel
def free_surface(faces, surface, least, out_x, out_y, out_z, near, exact):
    """Part the open faces between liquid cells from those between liquid and the free surface.

    surface (cells): signed distance, negative in the liquid; a cell above -least is none of it. out_* take the weights
    between two liquid cells, and of a liquid cell's faces beyond the grid; near (cells) the sum of the weights towards the surface, exact
    the same with each over the share of the way at which the surface is met (Gibou et al. 2002, A second-order-accurate
    symmetric discretization of the Poisson equation on irregular domains, sec. 2).
    """
    nx, ny, nz = surface.shape
    wx, wy, wz = faces.x, faces.y, faces.z
    for row in prange(nx):
        i = np.int64(row)
        for j in range(ny):
            for k in range(nz):
                near[i, j, k], exact[i, j, k] = np.float32(0.0), np.float32(0.0)
                inside = surface[i, j, k] <= -least
                for f in range(6):
                    side, axis = f & 1, f >> 1
                    a, b, c = i, j, k
                    if axis == 0:
                        a += 2 * side - 1
                        w = wx[i + side, j, k]
                    elif axis == 1:
                        b += 2 * side - 1
                        w = wy[i, j + side, k]
                    else:
                        c += 2 * side - 1
                        w = wz[i, j, k + side]
                    beyond = a < 0 or b < 0 or c < 0 or a >= nx or b >= ny or c >= nz
                    if inside and not beyond and surface[a, b, c] > -least:
                        way = surface[i, j, k] / (surface[i, j, k] - surface[a, b, c])
                        near[i, j, k] += w
                        exact[i, j, k] += w / way
                    # each face is written by the cell behind it, the first ones by the cell before
                    if side == 1 or beyond:
                        joins = inside and (beyond or surface[a, b, c] <= -least)
                        kept = w if joins else np.float32(0.0)
                        if axis == 0:
                            out_x[i + side, j, k] = kept
                        elif axis == 1:
                            out_y[i, j + side, k] = kept
                        else:
                            out_z[i, j, k + side] = kept


@parallel
def pack_weights(wx, wy, wz, extra, weights, diagonal, inverse):
    """Pack plain face weights by cell and colour, with the sum of them and `extra` (cells) and its inverse, 0 where the sum is
    0."""
    nx, ny, nz = extra.shape
    for row in prange(nx):
        i = np.int64(row)
        for j in range(ny):
            for k in range(nz):
                c, q = (i + j + k) & 1, k >> 1
                weights[c, 0, i, j, q], weights[c, 1, i, j, q] = wx[i, j, k], wx[i + 1, j, k]
                weights[c, 2, i, j, q], weights[c, 3, i, j, q] = wy[i, j, k], wy[i, j + 1, k]
                weights[c, 4, i, j, q], weights[c, 5, i, j, q] = wz[i, j, k], wz[i, j, k + 1]
                total = extra[i, j, k]
                for f in range(6):
                    total += weights[c, f, i, j, q]
                diagonal[c, i, j, q] = total
                inverse[c, i, j, q] = np.float32(1.0) / total if total > np.float32(1e-4) else np.float32(0.0)
                if inverse[c, i, j, q] == np.float32(0.0):
                    diagonal[c, i, j, q] = np.float32(0.0)
