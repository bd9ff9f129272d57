"""Kernels of the signed distance from a mesh, kept at samples about it, and of what it closes of a grid.

triangle (t, 3, 3) are the corners of a closed surface, wound outward, in its body's frame; field (nx, ny, nz) float32
is the distance from it at samples `step` apart, the first at low (3,), negative within [m]; best (same) int32 is the
triangle that is nearest, NOBODY where none is known.
"""

import numpy as np
from numba import prange

from urst.core.jit import inline, kernel, parallel, serial
from urst.core.trilinear import held

NOBODY = -1
#: samples about a surface that are measured from all triangles about
NEAR = 3
#: of two triangles no farther apart than this fraction of their distance, as on both sides of an edge, the one that is
#: seen more from the front tells which side a sample is on
TIE = 1e-6


@kernel
def _from_triangle(triangle, t, x, y, z):
    """The squared distance of a place from a triangle (Ericson 2004, Real-Time Collision Detection, 5.1.5), and how far
    it lies before its plane."""
    ax, ay, az = triangle[t, 0, 0], triangle[t, 0, 1], triangle[t, 0, 2]
    ux, uy, uz = triangle[t, 1, 0] - ax, triangle[t, 1, 1] - ay, triangle[t, 1, 2] - az
    vx, vy, vz = triangle[t, 2, 0] - ax, triangle[t, 2, 1] - ay, triangle[t, 2, 2] - az
    px, py, pz = x - ax, y - ay, z - az
    nx, ny, nz = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
    size = np.sqrt(nx * nx + ny * ny + nz * nz)
    front = (px * nx + py * ny + pz * nz) / max(size, 1e-300)
    d1, d2 = ux * px + uy * py + uz * pz, vx * px + vy * py + vz * pz
    uu, vv, uv = ux * ux + uy * uy + uz * uz, vx * vx + vy * vy + vz * vz, ux * vx + uy * vy + uz * vz
    d3, d4, d5, d6 = d1 - uu, d2 - uv, d1 - uv, d2 - vv
    va, vb, vc = d3 * d6 - d5 * d4, d5 * d2 - d1 * d6, d1 * d4 - d3 * d2
    if d1 <= 0.0 and d2 <= 0.0:
        s, r = 0.0, 0.0
    elif d3 >= 0.0 and d4 <= d3:
        s, r = 1.0, 0.0
    elif d6 >= 0.0 and d5 <= d6:
        s, r = 0.0, 1.0
    elif vc <= 0.0 and d1 >= 0.0 and d3 <= 0.0:
        s, r = d1 / (d1 - d3), 0.0
    elif vb <= 0.0 and d2 >= 0.0 and d6 <= 0.0:
        s, r = 0.0, d2 / (d2 - d6)
    elif va <= 0.0 and d4 - d3 >= 0.0 and d5 - d6 >= 0.0:
        r = (d4 - d3) / ((d4 - d3) + (d5 - d6))
        s = 1.0 - r
    else:
        whole = va + vb + vc
        s, r = vb / whole, vc / whole
    qx, qy, qz = px - s * ux - r * vx, py - s * uy - r * vy, pz - s * uz - r * vz
    return qx * qx + qy * qy + qz * qz, front


@serial
def measure_near(triangle, low, step, field, best):
    """Write the distance of samples no more than NEAR from the surface; the others' stays.

    Parameters
    ----------
    triangle : (t, 3, 3) float [m]
    low : (3,) float [m]
    step : float [m]
    field : (nx, ny, nz) float32
        Far at first [m].
    best : (nx, ny, nz) int32
        NOBODY at first.
    """
    front = np.zeros(field.shape, np.float32)
    first, last = np.empty(3, np.int64), np.empty(3, np.int64)
    for t in range(len(triangle)):
        for c in range(3):
            least = min(triangle[t, 0, c], min(triangle[t, 1, c], triangle[t, 2, c]))
            most = max(triangle[t, 0, c], max(triangle[t, 1, c], triangle[t, 2, c]))
            first[c] = max(np.int64(np.ceil((least - low[c]) / step)) - NEAR, 0)
            last[c] = min(np.int64(np.floor((most - low[c]) / step)) + NEAR + 1, field.shape[c])
        for i in range(first[0], last[0]):
            x = low[0] + i * step
            for j in range(first[1], last[1]):
                y = low[1] + j * step
                for k in range(first[2], last[2]):
                    square, before = _from_triangle(triangle, t, x, y, low[2] + k * step)
                    # farther away others may be nearer that have not been asked
                    if square > (NEAR * step) ** 2:
                        continue
                    d = np.float32(np.sqrt(square))
                    known = abs(field[i, j, k])
                    slack = np.float32(TIE) * (known + np.float32(step))
                    nearer = d < known - slack
                    if nearer or (d < known + slack and abs(before) > front[i, j, k]):
                        field[i, j, k] = (min(d, known) if not nearer else d) * (1.0 if before >= 0.0 else -1.0)
                        best[i, j, k], front[i, j, k] = t, abs(before)


@serial
def hand_on(triangle, low, step, field, best):
    """Hand the nearest triangle on from sample to sample, with the side that it is seen from (fast sweeping over
    closest points: Tsai 2002)."""
    nx, ny, nz = field.shape
    for turn in range(8):
        for ii in range(nx):
            i = ii if turn & 1 else nx - 1 - ii
            a = i - 1 if turn & 1 else i + 1
            for jj in range(ny):
                j = jj if turn & 2 else ny - 1 - jj
                b = j - 1 if turn & 2 else j + 1
                for kk in range(nz):
                    k = kk if turn & 4 else nz - 1 - kk
                    c = k - 1 if turn & 4 else k + 1
                    for side in range(3):
                        p, q, r = a if side == 0 else i, b if side == 1 else j, c if side == 2 else k
                        if min(p, min(q, r)) < 0 or p >= nx or q >= ny or r >= nz:
                            continue
                        t = best[p, q, r]
                        if t == NOBODY or t == best[i, j, k]:
                            continue
                        square, _ = _from_triangle(triangle, t, low[0] + i * step, low[1] + j * step, low[2] + k * step)
                        if square < field[i, j, k] * field[i, j, k] * (1.0 - TIE):
                            # what was measured by itself keeps its side, all others are on that of where it comes from
                            inside = (field[i, j, k] if best[i, j, k] != NOBODY else field[p, q, r]) < 0.0
                            field[i, j, k] = np.sqrt(square) * (-1.0 if inside else 1.0)
                            best[i, j, k] = t


@inline
def _inside(field, x, y, z):
    return 0.0 <= x <= field.shape[0] - 1 and 0.0 <= y <= field.shape[1] - 1 and 0.0 <= z <= field.shape[2] - 1


@parallel
def sample(field, places, out):
    """Write the field at places (n, 3) [samples], out (n,) float32; as at its rim beyond."""
    for number in prange(len(places)):
        n = np.int64(number)
        out[n] = held(field, np.float32(places[n, 0]), np.float32(places[n, 1]), np.float32(places[n, 2]))


@parallel
def carve(field, pose, origin, cell, body, distance, owner):
    """Lessen distance (2nx, 2ny, 2nz) [cells] to that from the mesh where that is nearer, and note whose it is.

    Parameters
    ----------
    field : (px, py, pz) float32 [m]
    pose : (4, 4) float
        From places in the world [m] to samples of the field.
    origin : (3,) float [m]
        Of the grid.
    cell : float [m]
    body : int
        Its number.
    distance : (2nx, 2ny, 2nz) float32
    owner : (2nx, 2ny, 2nz) int32
    """
    step, per = 0.5 * cell, np.float32(1.0 / cell)
    for row in prange(distance.shape[0]):
        i = np.int64(row)
        x = origin[0] + (i + 0.5) * step
        for j in range(distance.shape[1]):
            y = origin[1] + (j + 0.5) * step
            p0 = pose[0, 0] * x + pose[0, 1] * y + pose[0, 3]
            q0 = pose[1, 0] * x + pose[1, 1] * y + pose[1, 3]
            r0 = pose[2, 0] * x + pose[2, 1] * y + pose[2, 3]
            for k in range(distance.shape[2]):
                z = origin[2] + (k + 0.5) * step
                p, q, r = p0 + pose[0, 2] * z, q0 + pose[1, 2] * z, r0 + pose[2, 2] * z
                if not _inside(field, p, q, r):
                    continue
                d = held(field, np.float32(p), np.float32(q), np.float32(r)) * per
                if d < distance[i, j, k]:
                    distance[i, j, k] = d
                    owner[i, j, k] = body
