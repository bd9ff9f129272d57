"""Kernels of liquid too deep to need particles: its flow on the grid alone, and the zones between the two.

u, v and w are velocities on the faces across x, y and z [m/s], phi and depth (nx, ny, nz) float32 the distance from the
surface and how deep a cell lies under it [cells]; position (n, 3) float32 are particles' places [cells]; zone (nx, ny,
nz) uint8 is one of the three.
"""

import numpy as np
from numba import prange

from urst.core.jit import kernel, parallel, serial
from urst.core.liquid.level_kernels import BAND
from urst.core.liquid.particle_kernels import sample, slopes_at
from urst.core.liquid.settings import SIDEWAYS
from urst.core.solids.wall_kernels import HALF, ONE, ZERO

#: what a cell holds: as it comes; particles in number; none
LEFT, FILLED, BARE = 0, 1, 2
#: the way from what is filled to what is bare [cells]
STRIP = np.float32(1.0)
#: set where the particles of a cell go
ANEW = 256
#: particles that a cell may have too many or too few of where they are kept in number, and so few of eight are hardly
#: any
ODD, HARDLY = 1, 3
#: deeper than this there are particles or the flow is known without [cells]
WET = np.float32(1.5)
#: below this fraction of eight particles their velocity counts for nothing so deep
FEW = np.float32(1.0)


@serial
def deepen(depth):
    """Make depths that end at that of the level set's band distances to its rim and on (chamfer distance: Borgefors
    1986), in place.

    Parameters
    ----------
    depth : (nx, ny, nz) float32
        Negative outside [cells].
    """
    nx, ny, nz = depth.shape
    edge = BAND - np.float32(0.5)
    for i in range(nx):
        for j in range(ny):
            for k in range(nz):
                if depth[i, j, k] >= edge:
                    depth[i, j, k] = np.float32(1e6)
    for turn in range(2):
        for a in range(nx):
            for b in range(ny):
                for c in range(nz):
                    i, j, k = (a, b, c) if turn == 0 else (nx - 1 - a, ny - 1 - b, nz - 1 - c)
                    if depth[i, j, k] < edge:
                        continue
                    s = -1 if turn == 0 else 1
                    for p in range(-1, 2):
                        for q in range(-1, 2):
                            for r in range(-1, 2):
                                before = p == s or (p == 0 and (q == s or (q == 0 and r == s)))
                                x, y, z = i + p, j + q, k + r
                                if before and 0 <= x < nx and 0 <= y < ny and 0 <= z < nz:
                                    length = np.sqrt(np.float32(p * p + q * q + r * r))
                                    depth[i, j, k] = min(depth[i, j, k], depth[x, y, z] + length)


@kernel
def _beside(kept, i, j, k):
    for a in range(max(i - SIDEWAYS, 0), min(i + SIDEWAYS + 1, kept.shape[0])):
        for b in range(max(j - SIDEWAYS, 0), min(j + SIDEWAYS + 1, kept.shape[1])):
            for c in range(max(k - SIDEWAYS, 0), min(k + SIDEWAYS + 1, kept.shape[2])):
                if kept[a, b, c]:
                    return True
    return False


@parallel
def zones(depth, kept, most, zone):
    """Write where there are particles: LEFT near the surface and where they are `kept` (cells, bool), FILLED before
    `most` [cells] deep and beside where they are kept, BARE beyond."""
    nx, ny, nz = depth.shape
    for row in prange(nx):
        i = np.int64(row)
        for j in range(ny):
            for k in range(nz):
                d = depth[i, j, k]
                if d <= most - STRIP or kept[i, j, k]:
                    zone[i, j, k] = LEFT
                else:
                    zone[i, j, k] = FILLED if d <= most or _beside(kept, i, j, k) else BARE


@serial
def occupied(position, bits, count):
    """Note which eighths of cells hold particles, bits (cells) uint8, and how many each cell holds, count (cells)
    int32."""
    for p in range(len(position)):
        x, y, z = position[p, 0], position[p, 1], position[p, 2]
        i, j, k = np.int32(x), np.int32(y), np.int32(z)
        eighth = (x - np.float32(i) >= HALF) + 2 * (y - np.float32(j) >= HALF) + 4 * (z - np.float32(k) >= HALF)
        bits[i, j, k] |= np.uint8(1 << eighth)
        count[i, j, k] += 1


@parallel
def lacking(zone, depth, touched, distance, bits, count, out):
    """Write what is to become of cells, out (cells) uint16: the eighths of them that particles are to be born in, and
    ANEW where all that there are go first.

    FILLED cells with too few or too many are filled anew, so that what wells up is neither thin nor thick; so are the
    eighths of those less deep that hardly hold any. BARE ones are emptied. Nothing is born in cells that a thin wall
    goes through.

    Parameters
    ----------
    zone, depth, bits, count : (nx, ny, nz)
    touched : (nx, ny, nz) uint8
        Cells that there are thin walls in.
    distance : (2nx, 2ny, 2nz) float32
        From walls [cells].
    out : (nx, ny, nz) uint16
    """
    nx, ny, nz = zone.shape
    for row in prange(nx):
        i = np.int64(row)
        for j in range(ny):
            for k in range(nz):
                out[i, j, k] = ANEW if zone[i, j, k] == BARE else 0
                if touched[i, j, k] != 0 or zone[i, j, k] == BARE:
                    continue
                if zone[i, j, k] == LEFT and depth[i, j, k] <= WET:
                    continue
                room, open_ = 0, 0
                for e in range(8):
                    if distance[2 * i + (e & 1), 2 * j + ((e >> 1) & 1), 2 * k + (e >> 2)] > ZERO:
                        room += 1
                        open_ |= 1 << e
                off = count[i, j, k] - room
                if zone[i, j, k] == FILLED:
                    if off < -ODD or off > ODD:
                        out[i, j, k] = np.uint16(open_ | ANEW)
                elif 8 * count[i, j, k] <= HARDLY * room:
                    out[i, j, k] = np.uint16(open_ & ~np.int64(bits[i, j, k]))


@parallel
def take_up(position, u, v, w, step, velocity, affine):
    """Give newborn particles (n, 3) [cells] the flow that comes to them in a step of so many cells for 1 m/s:
    velocity (n, 3) and its slopes affine (n, 3, 3), written."""
    for number in prange(len(position)):
        p = np.int64(number)
        x, y, z = position[p, 0], position[p, 1], position[p, 2]
        half = HALF * step
        a, b, c = sample(u, 0, x, y, z), sample(v, 1, x, y, z), sample(w, 2, x, y, z)
        mx, my, mz = x - half * a, y - half * b, z - half * c
        x -= step * sample(u, 0, mx, my, mz)
        y -= step * sample(v, 1, mx, my, mz)
        z -= step * sample(w, 2, mx, my, mz)
        velocity[p, 0], affine[p, 0, 0], affine[p, 0, 1], affine[p, 0, 2] = slopes_at(u, 0, x, y, z)
        velocity[p, 1], affine[p, 1, 0], affine[p, 1, 1], affine[p, 1, 2] = slopes_at(v, 1, x, y, z)
        velocity[p, 2], affine[p, 2, 0], affine[p, 2, 1], affine[p, 2, 2] = slopes_at(w, 2, x, y, z)


@kernel
def _weights(t):
    """Of the four values about a place t between the middle two (Catmull & Rom 1974)."""
    s = ONE - t
    return (
        -HALF * t * s * s,
        ONE - HALF * t * t * (np.float32(5.0) - np.float32(3.0) * t),
        HALF * t * (ONE + t * (np.float32(4.0) - np.float32(3.0) * t)),
        -HALF * t * t * s,
    )


@kernel
def _row(f, i, j, k, p, q, r, s):
    return p * f[i, j, k - 1] + q * f[i, j, k] + r * f[i, j, k + 1] + s * f[i, j, k + 2]


@kernel
def _smooth(f, x, y, z):
    """A field between its values, by a cubic that does not leave the eight nearest; straight beside the grid's
    sides."""
    nx, ny, nz = f.shape
    x = min(max(x, ZERO), np.float32(nx - 1.001))
    y = min(max(y, ZERO), np.float32(ny - 1.001))
    z = min(max(z, ZERO), np.float32(nz - 1.001))
    i, j, k = np.int64(np.int32(x)), np.int64(np.int32(y)), np.int64(np.int32(z))
    a, b, c = x - np.float32(i), y - np.float32(j), z - np.float32(k)
    f0, f1, f2, f3 = f[i, j, k], f[i, j, k + 1], f[i, j + 1, k], f[i, j + 1, k + 1]
    f4, f5, f6, f7 = f[i + 1, j, k], f[i + 1, j, k + 1], f[i + 1, j + 1, k], f[i + 1, j + 1, k + 1]
    if i < 1 or j < 1 or k < 1 or i > nx - 3 or j > ny - 3 or k > nz - 3:
        low = (ONE - b) * ((ONE - c) * f0 + c * f1) + b * ((ONE - c) * f2 + c * f3)
        high = (ONE - b) * ((ONE - c) * f4 + c * f5) + b * ((ONE - c) * f6 + c * f7)
        return (ONE - a) * low + a * high
    x0, x1, x2, x3 = _weights(a)
    y0, y1, y2, y3 = _weights(b)
    p, q, r, s = _weights(c)
    total = ZERO
    for n in range(4):
        w = x0 if n == 0 else (x1 if n == 1 else (x2 if n == 2 else x3))
        h = i - 1 + n
        total += w * (
            y0 * _row(f, h, j - 1, k, p, q, r, s)
            + y1 * _row(f, h, j, k, p, q, r, s)
            + y2 * _row(f, h, j + 1, k, p, q, r, s)
            + y3 * _row(f, h, j + 2, k, p, q, r, s)
        )
    least = min(min(min(f0, f1), min(f2, f3)), min(min(f4, f5), min(f6, f7)))
    most = max(max(max(f0, f1), max(f2, f3)), max(max(f4, f5), max(f6, f7)))
    return min(max(total, least), most)


@parallel
def carry(flow, axis, zone, depth, step, mass, out):
    """Write what the flow carries to faces across an axis that have no particles to say it: velocity `out` and weight
    `mass`.

    It comes from where it was a step before (semi-Lagrangian: Robert 1981, by the midpoint rule and a cubic that
    makes no new extremes). Faces between cells that are FILLED or BARE go by the grid alone; so do those deep in the
    liquid that hardly a particle is near.

    Parameters
    ----------
    flow : FaceFields [m/s]
    axis : int
    zone, depth : (nx, ny, nz)
    step : float32
        Cells that 1 m/s goes in the step.
    mass, out : faces, float32
        Of the particles; changed.
    """
    u, v, w = flow.x, flow.y, flow.z
    field = u if axis == 0 else (v if axis == 1 else w)
    nx, ny, nz = zone.shape
    ox = ZERO if axis == 0 else HALF
    oy = ZERO if axis == 1 else HALF
    oz = ZERO if axis == 2 else HALF
    for row in prange(out.shape[0]):
        i = np.int64(row)
        for j in range(out.shape[1]):
            for k in range(out.shape[2]):
                a, b, c = max(i - (axis == 0), 0), max(j - (axis == 1), 0), max(k - (axis == 2), 0)
                p, q, r = min(i, nx - 1), min(j, ny - 1), min(k, nz - 1)
                if zone[a, b, c] == LEFT or zone[p, q, r] == LEFT:
                    if mass[i, j, k] >= FEW or min(depth[a, b, c], depth[p, q, r]) < WET:
                        continue
                x, y, z = np.float32(i) + ox, np.float32(j) + oy, np.float32(k) + oz
                half = HALF * step
                f, g, h = sample(u, 0, x, y, z), sample(v, 1, x, y, z), sample(w, 2, x, y, z)
                mx, my, mz = x - half * f, y - half * g, z - half * h
                x -= step * sample(u, 0, mx, my, mz)
                y -= step * sample(v, 1, mx, my, mz)
                z -= step * sample(w, 2, mx, my, mz)
                out[i, j, k] = _smooth(field, x - ox, y - oy, z - oz)
                mass[i, j, k] = ONE


@parallel
def middles(u, v, w, phi, beyond, out):
    """Write the flow at cells' middles, out (nx, ny, nz, 3) [m/s], 0 where they lie `beyond` the surface [cells]."""
    nx, ny, nz = phi.shape
    for row in prange(nx):
        i = np.int64(row)
        for j in range(ny):
            for k in range(nz):
                wet = ONE if phi[i, j, k] < beyond else ZERO
                out[i, j, k, 0] = wet * HALF * (u[i, j, k] + u[i + 1, j, k])
                out[i, j, k, 1] = wet * HALF * (v[i, j, k] + v[i, j + 1, k])
                out[i, j, k, 2] = wet * HALF * (w[i, j, k] + w[i, j, k + 1])
