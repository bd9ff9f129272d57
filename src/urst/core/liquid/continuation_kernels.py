"""Kernels that continue the liquid's surface into walls: from the open cell nearest to each, straight on.

phi (nx, ny, nz) float32 is the distance from the surface [cells], middle (nx, ny, nz) that of cells' middles from
walls, reach (nx, ny, nz) uint32 which cells about each are reached past thin walls (see `thin_kernels`), cells (m, 3)
those within walls and beside them, the shallowest first; source (m,) int32 is the flat index of the open cell that each
is continued from, NOWHERE if there is none.
"""

import numpy as np
from numba import prange

from urst.core.jit import kernel, parallel, serial
from urst.core.solids.thin_kernels import reached
from urst.core.solids.wall_kernels import ONE, ZERO

NOWHERE = -1
#: cells are clear of walls whose middles are so far from them, and open at all from here on [cells]
CLEAR, OPEN = np.float32(0.45), np.float32(0.1)
#: sources are looked for through so many cells
ROUNDS = 5
#: weight of a slope of nothing beside that of a neighbour, where neighbours do not tell
TOWARDS_FLAT = np.float32(1e-3)


@kernel
def _through_wall(middle, at, i, j, k):
    """How far a cell is from where the wall begins that parts it from an open one, nearly; of equals the near one is
    less."""
    ny, nz = middle.shape[1], middle.shape[2]
    x, y, z = at // (ny * nz), (at // nz) % ny, at % nz
    a, b, c = x - i, y - j, z - k
    return np.float32(1.01) * np.sqrt(np.float32(a * a + b * b + c * c)) - middle[x, y, z]


@serial
def find_sources(middle, reach, cells, source):
    """Write the source of each cell: the nearest clear one, or where there is none about, as in gaps, the nearest that
    is open; nearest is handed on from cell to cell (vector distance transform: Danielsson 1980)."""
    nx, ny, nz = middle.shape
    of = np.full(middle.size, NOWHERE, np.int32)
    source[:] = NOWHERE
    for least in (CLEAR, OPEN):
        for _ in range(ROUNDS):
            changed = False
            for m in range(len(cells)):
                i, j, k = np.int64(cells[m, 0]), np.int64(cells[m, 1]), np.int64(cells[m, 2])
                if source[m] != NOWHERE or middle[i, j, k] >= least:
                    continue
                here = (i * ny + j) * nz + k
                best = np.int64(of[here])
                nearest = np.float32(1e6) if best == NOWHERE else _through_wall(middle, best, i, j, k)
                for p in range(max(i - 1, 0), min(i + 2, nx)):
                    for q in range(max(j - 1, 0), min(j + 2, ny)):
                        for r in range(max(k - 1, 0), min(k + 2, nz)):
                            there = (p * ny + q) * nz + r
                            at = there if middle[p, q, r] >= least else np.int64(of[there])
                            if at == NOWHERE or at == best or not reached(reach, i, j, k, p, q, r):
                                continue
                            away = _through_wall(middle, at, i, j, k)
                            if away < nearest or (away == nearest and at < best):
                                best, nearest, changed = at, away, True
                of[here] = best
            if not changed:
                break
        for m in range(len(cells)):
            source[m] = of[(np.int64(cells[m, 0]) * ny + cells[m, 1]) * nz + cells[m, 2]]


@kernel
def _slope(phi, middle, reach, i, j, k):
    """How phi rises about an open cell, by least squares over the open cells about it."""
    nx, ny, nz = phi.shape
    xx, yy, zz = TOWARDS_FLAT, TOWARDS_FLAT, TOWARDS_FLAT
    xy, xz, yz, fx, fy, fz = ZERO, ZERO, ZERO, ZERO, ZERO, ZERO
    for p in range(max(i - 1, 0), min(i + 2, nx)):
        for q in range(max(j - 1, 0), min(j + 2, ny)):
            for r in range(max(k - 1, 0), min(k + 2, nz)):
                if middle[p, q, r] < OPEN or not reached(reach, i, j, k, p, q, r):
                    continue
                a, b, c = np.float32(p - i), np.float32(q - j), np.float32(r - k)
                square = a * a + b * b + c * c
                if square == ZERO:
                    continue
                w, rise = ONE / square, phi[p, q, r] - phi[i, j, k]
                xx, yy, zz = xx + w * a * a, yy + w * b * b, zz + w * c * c
                xy, xz, yz = xy + w * a * b, xz + w * a * c, yz + w * b * c
                fx, fy, fz = fx + w * a * rise, fy + w * b * rise, fz + w * c * rise
    p, q, r = yy * zz - yz * yz, xz * yz - xy * zz, xy * yz - xz * yy
    s, t, u = xx * zz - xz * xz, xy * xz - xx * yz, xx * yy - xy * xy
    whole = xx * p + xy * q + xz * r
    if whole < np.float32(1e-7):
        return ZERO, ZERO, ZERO
    sx = (p * fx + q * fy + r * fz) / whole
    sy, sz = (q * fx + s * fy + t * fz) / whole, (r * fx + t * fy + u * fz) / whole
    size = np.sqrt(sx * sx + sy * sy + sz * sz)
    if size > ONE:
        sx, sy, sz = sx / size, sy / size, sz / size
    return sx, sy, sz


@parallel
def extend(phi, middle, reach, cells, source, far):
    """Continue the distance straight into walls from the source of each cell, no farther than `far`."""
    ny, nz = phi.shape[1], phi.shape[2]
    for number in prange(len(cells)):
        m = np.int64(number)
        at = np.int64(source[m])
        x, y, z = np.int64(cells[m, 0]), np.int64(cells[m, 1]), np.int64(cells[m, 2])
        if at == NOWHERE or middle[x, y, z] >= OPEN:
            continue
        i, j, k = at // (ny * nz), (at // nz) % ny, at % nz
        here = phi[i, j, k]
        if abs(here) < far:
            sx, sy, sz = _slope(phi, middle, reach, i, j, k)
            here += sx * np.float32(x - i) + sy * np.float32(y - j) + sz * np.float32(z - k)
        phi[x, y, z] = min(max(here, -far), far)
