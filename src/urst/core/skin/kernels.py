"""Kernels of the surface: the distance on a finer grid, single drops, volume, normals. Lengths are in cells of the
finer grid unless said.

phi and distance (nx, ny, nz) float32 are negative in the liquid; position (n, 3) and velocity (n, 3) [m/s] are
particles'; total (cells, 3) and sums are added up over count or weight (cells) of them; met (nx, ny, nz) uint8 marks
cells that `meet_thin` has changed, and blocked which of their faces thin walls close.
"""

import numpy as np
from numba import prange

from urst.core.jit import inline, parallel, serial
from urst.core.solids.face_bits import face
from urst.core.trilinear import onward

ZERO, HALF, ONE = np.float32(0.0), np.float32(0.5), np.float32(1.0)
#: liquid and air beside a wall reach at least so far from it [cells of the coarser grid]
LEAST = np.float32(0.05)


@inline
def _weights(t, out):
    """Of the four values about a place t between the middle two (Catmull & Rom 1974)."""
    out[0] = HALF * t * (t * (np.float32(2.0) - t) - ONE)
    out[1] = HALF * (t * t * (np.float32(3.0) * t - np.float32(5.0)) + np.float32(2.0))
    out[2] = HALF * t * (t * (np.float32(4.0) - np.float32(3.0) * t) + ONE)
    out[3] = HALF * t * t * (t - ONE)


@inline
def _clamp(i, n):
    return min(max(i, 0), n - 1)


@parallel
def refine(phi, walls, ratio, overlap, out):
    """Write the distance from the surface on a finer grid, bounded by walls [cells of the coarser one].

    Parameters
    ----------
    phi : (nx, ny, nz) float32
        Distance from the surface, negative within.
    walls : (nx, ny, nz) float32
        Distance from walls, negative within these.
    ratio : float
        Coarser cells an edge of a finer one.
    overlap : float32
        How far the liquid goes into walls.
    out : finer cells, float32
    """
    nx, ny, nz = phi.shape
    for row in prange(out.shape[0]):
        i = np.int64(row)
        wx, wy, wz = np.empty(4, np.float32), np.empty(4, np.float32), np.empty(4, np.float32)
        x = (i + 0.5) * ratio - 0.5
        a = int(np.floor(x))
        _weights(np.float32(x - a), wx)
        fx = np.float32(x - a)
        for j in range(out.shape[1]):
            y = (j + 0.5) * ratio - 0.5
            b = int(np.floor(y))
            _weights(np.float32(y - b), wy)
            fy = np.float32(y - b)
            for k in range(out.shape[2]):
                z = (k + 0.5) * ratio - 0.5
                c = int(np.floor(z))
                near = phi[_clamp(a, nx), _clamp(b, ny), _clamp(c, nz)]
                if near > np.float32(2.5):
                    out[i, j, k] = near
                    continue
                total = ZERO
                if near < np.float32(-2.5):
                    total = near
                else:
                    _weights(np.float32(z - c), wz)
                    for p in range(4):
                        for q in range(4):
                            w = wx[p] * wy[q]
                            for r in range(4):
                                total += (
                                    w * wz[r] * phi[_clamp(a - 1 + p, nx), _clamp(b - 1 + q, ny), _clamp(c - 1 + r, nz)]
                                )
                fz, away = np.float32(z - c), ZERO
                for p in range(2):
                    for q in range(2):
                        for r in range(2):
                            w = (fx if p else ONE - fx) * (fy if q else ONE - fy) * (fz if r else ONE - fz)
                            away += w * walls[_clamp(a + p, nx), _clamp(b + q, ny), _clamp(c + r, nz)]
                out[i, j, k] = max(total, -(away + overlap))


@inline
def _across(i, j, k, side, shape):
    """The cell across a face: sides in pairs along x, y, z, before and behind; -1 beyond the grid."""
    step = 1 if side & 1 else -1
    i, j, k = (
        i + (step if side // 2 == 0 else 0),
        j + (step if side // 2 == 1 else 0),
        k + (step if side // 2 == 2 else 0),
    )
    if min(i, j, k) < 0 or i >= shape[0] or j >= shape[1] or k >= shape[2]:
        return -1, -1, -1
    return i, j, k


@parallel
def meet_thin(phi, walls, blocked, out, met):
    """Let the surface run along walls thinner than a cell that part liquid from air, and not somewhere between two
    cells' middles.

    Parameters
    ----------
    phi, walls : (nx, ny, nz) float32
        Distances from the surface and from walls.
    blocked : (nx, ny, nz) uint8
        See `LiquidFrame`.
    out : (nx, ny, nz) float32
        Written: phi, such that straight between cells it is nothing on the wall.
    met : (nx, ny, nz) uint8
        Written: where that is so.
    """
    for row in prange(phi.shape[0]):
        i = np.int64(row)
        for j in range(phi.shape[1]):
            for k in range(phi.shape[2]):
                here = phi[i, j, k]
                found, seen = here, np.uint8(0)
                for side in range(6):
                    if not blocked[i, j, k] & face(side):
                        continue
                    p, q, r = _across(i, j, k, side, phi.shape)
                    if p < 0 or (phi[p, q, r] < ZERO) == (here < ZERO):
                        continue
                    seen = np.uint8(1)
                    if here < ZERO:
                        found = max(found, -max(walls[i, j, k], LEAST))
                    else:
                        inside = max(walls[p, q, r], LEAST)
                        fraction = max(walls[i, j, k], LEAST) / inside
                        found = min(found, fraction * min(-phi[p, q, r], inside))
                out[i, j, k], met[i, j, k] = found, seen


@parallel
def follow_thin(phi, met, blocked, out):
    """Let cells beside those that `meet_thin` has changed be no farther from the surface than a cell more; out (nx,
    ny, nz), written."""
    for row in prange(phi.shape[0]):
        i = np.int64(row)
        for j in range(phi.shape[1]):
            for k in range(phi.shape[2]):
                found = phi[i, j, k]
                for side in range(6):
                    p, q, r = _across(i, j, k, side, phi.shape)
                    if p < 0 or not met[p, q, r] or blocked[i, j, k] & face(side):
                        continue
                    if found < ZERO and phi[p, q, r] < ZERO:
                        found = max(found, phi[p, q, r] - ONE)
                    elif found > ZERO and phi[p, q, r] > ZERO:
                        found = min(found, phi[p, q, r] + ONE)
                out[i, j, k] = found


@serial
def gather_drops(position, reach, weight, sums):
    """Add up particles about each cell's middle: weight (cells) and weighted places sums (cells, 3) (Zhu & Bridson
    2005).

    Parameters
    ----------
    position : (n, 3) float32
    reach : float
        Radius of the kernel.
    weight : (nx, ny, nz) float32
    sums : (nx, ny, nz, 3) float32
    """
    nx, ny, nz = weight.shape
    whole = int(np.ceil(reach))
    for p in range(len(position)):
        x, y, z = position[p, 0] - HALF, position[p, 1] - HALF, position[p, 2] - HALF
        i, j, k = int(np.rint(x)), int(np.rint(y)), int(np.rint(z))
        for a in range(max(i - whole, 0), min(i + whole + 1, nx)):
            for b in range(max(j - whole, 0), min(j + whole + 1, ny)):
                for c in range(max(k - whole, 0), min(k + whole + 1, nz)):
                    square = ((a - x) ** 2 + (b - y) ** 2 + (c - z) ** 2) / (reach * reach)
                    if square < 1.0:
                        w = np.float32((1.0 - square) ** 3)
                        weight[a, b, c] += w
                        sums[a, b, c, 0] += w * x
                        sums[a, b, c, 1] += w * y
                        sums[a, b, c, 2] += w * z


@parallel
def join_drops(weight, sums, radius, scale, out):
    """Lessen the distance, out (cells), to that from drops: of a radius about the mean place of the particles near a
    cell, times `scale`."""
    nx, ny, nz = out.shape
    for row in prange(nx):
        i = np.int64(row)
        for j in range(ny):
            for k in range(nz):
                w = weight[i, j, k]
                if w > np.float32(1e-6):
                    x = np.float32(i) - sums[i, j, k, 0] / w
                    y = np.float32(j) - sums[i, j, k, 1] / w
                    z = np.float32(k) - sums[i, j, k, 2] / w
                    out[i, j, k] = min(out[i, j, k], scale * (np.sqrt(x * x + y * y + z * z) - radius))


@parallel
def volume(distance, level, scale, out):
    """Write how many cells lie below a level, a plane each, out (nx,), each by the share that a flat surface leaves
    it; distances are `scale` times too large."""
    for row in prange(distance.shape[0]):
        i, total = np.int64(row), 0.0
        for j in range(distance.shape[1]):
            for k in range(distance.shape[2]):
                total += min(max(0.5 - float(distance[i, j, k] - level) / scale, 0.0), 1.0)
        out[i] = total


@parallel
def normals(distance, places, out):
    """Write the slopes of the distance at places (n, 3), in cells between their middles, of length 1: out (n, 3)."""
    for row in prange(len(places)):
        p = np.int64(row)
        x, y, z = places[p, 0], places[p, 1], places[p, 2]
        a = onward(distance, x + 0.5, y, z) - onward(distance, x - 0.5, y, z)
        b = onward(distance, x, y + 0.5, z) - onward(distance, x, y - 0.5, z)
        c = onward(distance, x, y, z + 0.5) - onward(distance, x, y, z - 0.5)
        size = max(np.sqrt(a * a + b * b + c * c), 1e-12)
        out[p, 0], out[p, 1], out[p, 2] = a / size, b / size, c / size


@serial
def mean_velocity(position, velocity, total, count):
    """Add up velocities (n, 3) of particles by the cell that they are in: total (cells, 3) and count (cells)."""
    nx, ny, nz = count.shape
    for p in range(len(position)):
        i, j, k = _clamp(int(position[p, 0]), nx), _clamp(int(position[p, 1]), ny), _clamp(int(position[p, 2]), nz)
        count[i, j, k] += ONE
        for c in range(3):
            total[i, j, k, c] += velocity[p, c]


@parallel
def velocities(places, total, count, out):
    """Write the velocity at places (n, 3) [cells]: the mean of the particles in the 27 cells about each, out (n, 3);
    0 where there are none."""
    nx, ny, nz = count.shape
    for row in prange(len(places)):
        p = np.int64(row)
        i, j, k = int(np.floor(places[p, 0])), int(np.floor(places[p, 1])), int(np.floor(places[p, 2]))
        x, y, z, n = ZERO, ZERO, ZERO, ZERO
        for a in range(max(i - 1, 0), min(i + 2, nx)):
            for b in range(max(j - 1, 0), min(j + 2, ny)):
                for c in range(max(k - 1, 0), min(k + 2, nz)):
                    n += count[a, b, c]
                    x += total[a, b, c, 0]
                    y += total[a, b, c, 1]
                    z += total[a, b, c, 2]
        if n > ZERO:
            x, y, z = x / n, y / n, z / n
        out[p, 0], out[p, 1], out[p, 2] = x, y, z
