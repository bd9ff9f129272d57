"""Kernels that put together the pressure matrix of each level, and pack fields by colour; the layout: `multigrid`.

wx, wy and wz are open fractions of faces, float32; diagonal, inverse and packed fields stand as `multigrid` has them,
(2, nx + 2, ...) float32; is_open (nx, ny, nz) uint8 is 1 in open cells; out is written.
"""

import numpy as np
from numba import prange

from urst.core.jit import parallel


@parallel
def pack(field, inverse, out):
    """Pack a field (nx, ny, nz), 0 where a cell is closed."""
    nx, ny, nz = field.shape
    stride = (nz + 1) // 2 + 2
    for i in prange(nx):
        for j in range(ny):
            for k in range(nz):
                c = (np.int64(i) + j + k) & 1
                at = j * stride + (k >> 1) + 1
                out[c, i + 1, at + stride] = field[i, j, k] if inverse[c, i, at] > 0.0 else np.float32(0.0)


@parallel
def unpack(packed, out):
    """The way back."""
    nx, ny, nz = out.shape
    stride = (nz + 1) // 2 + 2
    for i in prange(nx):
        for j in range(ny):
            for k in range(nz):
                out[i, j, k] = packed[(np.int64(i) + j + k) & 1, i + 1, (j + 1) * stride + (k >> 1) + 1]


@parallel
def open_diagonal(is_open, diagonal, inverse):
    """Open faces of each open cell, packed, and the inverse, 0 where there is none; a face at the grid's side is open.

    is_open (cells): 1 or 0, uint8.
    """
    nx, ny, nz = is_open.shape
    half = (nz + 1) // 2
    one = np.float32(1.0)
    for row in prange(nx):
        i, full = np.int64(row), np.ones(nz, np.uint8)
        # one place more, closed, for the half-filled last pair of an odd row
        count = np.zeros(2 * half, np.uint8)
        for j in range(ny):
            here = is_open[i, j]
            west, east = is_open[i - 1, j] if i > 0 else full, is_open[i + 1, j] if i < nx - 1 else full
            south, north = is_open[i, j - 1] if j > 0 else full, is_open[i, j + 1] if j < ny - 1 else full
            for k in range(nz):
                count[k] = here[k] * (west[k] + east[k] + south[k] + north[k])
            count[0] += here[0]
            count[nz - 1] += here[nz - 1]
            for k in range(1, nz):
                joined = here[k] * here[k - 1]
                count[k] += joined
                count[k - 1] += joined
            for side in range(2):
                c, at = (i + j + side) & 1, j * (half + 2) + 1
                own, part = diagonal[c, i, at : at + half], inverse[c, i, at : at + half]
                for q in range(half):
                    faces = np.float32(count[2 * q + side])
                    own[q] = faces
                    part[q] = one / faces if faces > np.float32(0.0) else np.float32(0.0)


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
    """Weights of the coarse faces across one axis: the mean of the four fine faces each covers; plain arrays, not
    packed."""
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

    surface (cells): signed distance, negative in the liquid; a cell above -least is none of it. out_* take the
    weights between two liquid cells, and of a liquid cell's faces beyond the grid; near (cells) the sum of the
    weights towards the surface, exact the same with each over the fraction of the way at which the surface is met
    (Gibou et al. 2002, A second-order-accurate symmetric discretization of the Poisson equation on irregular domains,
    sec. 2).

    out_x, out_y and out_z are faces across x, y and z, float32.
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
                        theta = surface[i, j, k] / (surface[i, j, k] - surface[a, b, c])
                        near[i, j, k] += w
                        exact[i, j, k] += w / theta
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
    """Pack plain face weights by cell and colour, with the sum of them and `extra` (cells) and its inverse, 0 where
    the sum is
    0."""
    nx, ny, nz = extra.shape
    stride = (nz + 1) // 2 + 2
    for row in prange(nx):
        i = np.int64(row)
        for j in range(ny):
            for k in range(nz):
                c, q = (i + j + k) & 1, j * stride + (k >> 1) + 1
                weights[c, 0, i, q], weights[c, 1, i, q] = wx[i, j, k], wx[i + 1, j, k]
                weights[c, 2, i, q], weights[c, 3, i, q] = wy[i, j, k], wy[i, j + 1, k]
                weights[c, 4, i, q], weights[c, 5, i, q] = wz[i, j, k], wz[i, j, k + 1]
                total = extra[i, j, k]
                for f in range(6):
                    total += weights[c, f, i, q]
                is_open = total > np.float32(1e-4)
                diagonal[c, i, q] = total if is_open else np.float32(0.0)
                inverse[c, i, q] = np.float32(1.0) / total if is_open else np.float32(0.0)
