"""Kernels of the pressure solver: a red-black multigrid cycle for the weighted Poisson matrix.

A level holds, on a grid of (nx, ny, nz) cells, the weights of the faces below each cell along x, y, z (so
`wx[i]` is between cells i - 1 and i, arrays one longer along their axis) and the inverse diagonal, 0 where a cell
has no open face. The matrix row of a cell is sum_f w_f (p_cell - p_neighbour); neighbours beyond the grid are 0.
Arrays carry one layer of zero padding on all sides, so that no sweep tests for borders.
"""

import numpy as np
from numba import prange

from urst.core.jit import parallel, serial


@parallel
def smooth(p, rhs, wx, wy, wz, inverse, colour):
    """Gauss-Seidel on the cells of one colour; cells of a colour do not touch, so slabs run side by side."""
    nx, ny, nz = inverse.shape
    for i in prange(nx):
        for j in range(ny):
            first = (i + j + colour) & 1
            for k in range(first, nz, 2):
                total = rhs[i + 1, j + 1, k + 1]
                total += wx[i, j, k] * p[i, j + 1, k + 1] + wx[i + 1, j, k] * p[i + 2, j + 1, k + 1]
                total += wy[i, j, k] * p[i + 1, j, k + 1] + wy[i, j + 1, k] * p[i + 1, j + 2, k + 1]
                total += wz[i, j, k] * p[i + 1, j + 1, k] + wz[i, j, k + 1] * p[i + 1, j + 1, k + 2]
                p[i + 1, j + 1, k + 1] = total * inverse[i, j, k]


@parallel
def residual(p, rhs, wx, wy, wz, diagonal, out):
    """out = rhs - A p, all padded."""
    nx, ny, nz = diagonal.shape
    for i in prange(nx):
        for j in range(ny):
            for k in range(nz):
                total = diagonal[i, j, k] * p[i + 1, j + 1, k + 1]
                total -= wx[i, j, k] * p[i, j + 1, k + 1] + wx[i + 1, j, k] * p[i + 2, j + 1, k + 1]
                total -= wy[i, j, k] * p[i + 1, j, k + 1] + wy[i, j + 1, k] * p[i + 1, j + 2, k + 1]
                total -= wz[i, j, k] * p[i + 1, j + 1, k] + wz[i, j, k + 1] * p[i + 1, j + 1, k + 2]
                out[i + 1, j + 1, k + 1] = rhs[i + 1, j + 1, k + 1] - total


@parallel
def restrict(fine, coarse):
    """Sum eight cells into one, halved: the coarse matrix is rediscretised with unit weights."""
    nx, ny, nz = coarse.shape
    half = np.float32(0.5)
    for i in prange(nx - 2):
        for j in range(ny - 2):
            for k in range(nz - 2):
                a, b, c = 2 * i + 1, 2 * j + 1, 2 * k + 1
                total = fine[a, b, c] + fine[a, b, c + 1] + fine[a, b + 1, c] + fine[a, b + 1, c + 1]
                total += fine[a + 1, b, c] + fine[a + 1, b, c + 1] + fine[a + 1, b + 1, c] + fine[a + 1, b + 1, c + 1]
                coarse[i + 1, j + 1, k + 1] = half * total


@parallel
def prolong(coarse, inverse, fine):
    """Add each coarse value to its eight cells, where the fine cell is open."""
    nx, ny, nz = inverse.shape
    for i in prange(nx):
        for j in range(ny):
            for k in range(nz):
                if inverse[i, j, k] > 0.0:
                    fine[i + 1, j + 1, k + 1] += coarse[(i >> 1) + 1, (j >> 1) + 1, (k >> 1) + 1]


@parallel
def dot(a, b, partial):
    """Sum of products of two padded fields, slab sums in float64 added in order: the same for any thread count."""
    nx, ny, nz = a.shape
    for i in prange(nx):
        total = 0.0
        for j in range(ny):
            for k in range(nz):
                total += float(a[i, j, k]) * float(b[i, j, k])
        partial[i] = total
    total = 0.0
    for i in range(nx):
        total += partial[i]
    return total


@parallel
def add_scaled(a, scale, b):
    """a += scale * b"""
    for i in prange(a.shape[0]):
        for j in range(a.shape[1]):
            for k in range(a.shape[2]):
                a[i, j, k] += scale * b[i, j, k]


@parallel
def scale_add(a, scale, b):
    """a = b + scale * a"""
    for i in prange(a.shape[0]):
        for j in range(a.shape[1]):
            for k in range(a.shape[2]):
                a[i, j, k] = b[i, j, k] + scale * a[i, j, k]


@serial
def coarsen(wx, wy, wz, cx, cy, cz):
    """Coarse face weights as the mean of the four fine faces they cover."""
    q = np.float32(0.25)
    nx, ny, nz = cy.shape[0], cx.shape[1], cx.shape[2]
    for i in range(nx + 1):
        for j in range(ny):
            for k in range(nz):
                cx[i, j, k] = q * (wx[2 * i, 2 * j, 2 * k] + wx[2 * i, 2 * j + 1, 2 * k]
                                   + wx[2 * i, 2 * j, 2 * k + 1] + wx[2 * i, 2 * j + 1, 2 * k + 1])  # fmt: skip
    for i in range(nx):
        for j in range(ny + 1):
            for k in range(nz):
                cy[i, j, k] = q * (wy[2 * i, 2 * j, 2 * k] + wy[2 * i + 1, 2 * j, 2 * k]
                                   + wy[2 * i, 2 * j, 2 * k + 1] + wy[2 * i + 1, 2 * j, 2 * k + 1])  # fmt: skip
    for i in range(nx):
        for j in range(ny):
            for k in range(nz + 1):
                cz[i, j, k] = q * (wz[2 * i, 2 * j, 2 * k] + wz[2 * i + 1, 2 * j, 2 * k]
                                   + wz[2 * i, 2 * j + 1, 2 * k] + wz[2 * i + 1, 2 * j + 1, 2 * k])  # fmt: skip


@serial
def diagonal_of(wx, wy, wz, diagonal, inverse):
    """Sum of the six face weights of each cell, and its inverse, 0 where the sum is 0."""
    nx, ny, nz = diagonal.shape
    for i in range(nx):
        for j in range(ny):
            for k in range(nz):
                total = wx[i, j, k] + wx[i + 1, j, k] + wy[i, j, k] + wy[i, j + 1, k] + wz[i, j, k] + wz[i, j, k + 1]
                diagonal[i, j, k] = total
                inverse[i, j, k] = np.float32(1.0) / total if total > np.float32(1e-4) else np.float32(0.0)
