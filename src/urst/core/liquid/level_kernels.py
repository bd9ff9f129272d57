"""Kernels of the liquid's surface as a signed distance [cells], negative within.

phi (nx, ny, nz) float32 is that distance, wanted the same from particles, fraction (nx, ny, nz) what of a cell is open,
reach (nx, ny, nz) uint32 which cells about it are reached past thin walls; u, v and w are velocities on the faces
across x, y and z [m/s], and step how many cells 1 m/s goes in the step; out is written.
"""

from typing import NamedTuple

import numpy as np
from numba import prange

from urst.core.jit import kernel, parallel, serial
from urst.core.liquid.particle_kernels import sample
from urst.core.solids.face_bits import HIGH_X, HIGH_Y, HIGH_Z, LOW_X, LOW_Y, LOW_Z
from urst.core.solids.thin_kernels import ALL, apart, cell_of, reached
from urst.core.solids.wall_kernels import HALF, ONE, ZERO
from urst.core.trilinear import in_cells

#: reach of the kernel that particles are counted with [cells]
REACH = np.float32(1.5)
#: the distance is kept up to here [cells]
BAND = np.float32(5.0)
#: corrections by particles reach so far [cells], and what is smaller is noise
FAR, NOISE = np.float32(1.2), np.float32(0.15)
#: the surface is raised for its volume so much sooner than brought to the particles
SOONER = np.float32(4.0)


@kernel
def _kernel(square):
    t = ONE - square / (REACH * REACH)
    return t * t * t if t > ZERO else ZERO


@kernel
def _clip(x, most):
    return min(max(x, -most), most)


@kernel
def _depth(fraction):
    """How deep below a flat surface the middle of the kernel lies if so much of it is full [cells]: the integral of (1
    - x^2)^4
    turned about, by Newton's method."""
    s = min(max(fraction, ZERO), ONE)
    t = _clip((s - HALF) * np.float32(1.0 / 1.2305), np.float32(0.98))
    for _ in range(4):
        q = t * t
        full = HALF + np.float32(1.2304688) * t * (
            ONE
            - q
            * (
                np.float32(4.0 / 3.0)
                - q * (np.float32(6.0 / 5.0) - q * (np.float32(4.0 / 7.0) - q * np.float32(1.0 / 9.0)))
            )
        )
        slope = np.float32(1.2304688) * (ONE - q) ** 4
        t = _clip(t - (full - s) / max(slope, np.float32(1e-2)), np.float32(0.999))
    return t * REACH


class Room(NamedTuple):
    """Where liquid may be."""

    fraction: np.ndarray
    """(nx, ny, nz) float32: open fraction of each cell"""
    distance: np.ndarray
    """(2nx, 2ny, 2nz) float32 from walls [cells]"""
    home: np.ndarray
    """of thin walls, see `solids.thin_kernels`"""


@parallel
def count(position, cell_list, within, phi, full, deep, wanted):
    """Write where particles say the surface is, `wanted` (cells), where it is not far or they are beyond.

    Parameters
    ----------
    position : (n, 3) float32
        Of particles, sorted by cell.
    cell_list : CellList
    within : Room
        What lies behind thin walls does not count.
    phi : (nx, ny, nz) float32
    full : float32
        Sum of the kernel over particles deep in the liquid.
    deep : float32
        Cells deeper than this are not looked at [cells].
    wanted : (nx, ny, nz) float32
    """
    nx, ny, nz = phi.shape
    start, owner_cell, reach = cell_list.start, cell_list.owner_cell, cell_list.reach
    fraction, distance, home = within.fraction, within.distance, within.home
    for row in prange(nx):
        i = np.int64(row)
        for j in range(ny):
            for k in range(nz):
                wanted[i, j, k] = phi[i, j, k]
                cell = (i * ny + j) * nz + k
                here = start[cell + 1] > start[cell]
                far = phi[i, j, k] < -deep or (phi[i, j, k] > np.float32(3.0) and not here)
                if far or fraction[i, j, k] < np.float32(0.05):
                    continue
                x, y, z = np.float32(i) + HALF, np.float32(j) + HALF, np.float32(k) + HALF
                total, walled, free = ZERO, False, reach[i, j, k] == ALL
                # the kernel is nothing in cells farther away
                for a in range(max(i - 1, 0), min(i + 2, nx)):
                    for b in range(max(j - 1, 0), min(j + 2, ny)):
                        low, high = (a * ny + b) * nz + max(k - 1, 0), (a * ny + b) * nz + min(k + 1, nz - 1)
                        for p in range(start[low], start[high + 1]):
                            if not free:
                                find_owner_cells = np.int64(owner_cell[p])
                                if not reached(
                                    reach,
                                    i,
                                    j,
                                    k,
                                    find_owner_cells // (ny * nz),
                                    (find_owner_cells // nz) % ny,
                                    find_owner_cells % nz,
                                ):
                                    continue
                            dx, dy, dz = position[p, 0] - x, position[p, 1] - y, position[p, 2] - z
                            total += _kernel(dx * dx + dy * dy + dz * dz)
                        for c in range(max(k - 1, 0), min(k + 2, nz)):
                            walled = walled or fraction[a, b, c] < ONE
                room = ONE
                if walled or not free or min(i, j, k) < 2 or i > nx - 3 or j > ny - 3 or k > nz - 3:
                    seen, whole = ZERO, ZERO
                    for a in range(2 * i - 2, 2 * i + 4):
                        for b in range(2 * j - 2, 2 * j + 4):
                            for c in range(2 * k - 2, 2 * k + 4):
                                u = np.float32(0.5) * np.float32(a) + np.float32(0.25) - x
                                v = np.float32(0.5) * np.float32(b) + np.float32(0.25) - y
                                w = np.float32(0.5) * np.float32(c) + np.float32(0.25) - z
                                g = _kernel(u * u + v * v + w * w)
                                whole += g
                                if (
                                    min(a, b, c) >= 0
                                    and a < distance.shape[0]
                                    and b < distance.shape[1]
                                    and c < distance.shape[2]
                                ):
                                    if not free:
                                        r, s, t = cell_of(home, a // 2, b // 2, c // 2, a, b, c)
                                        if r < 0 or not reached(reach, i, j, k, r, s, t):
                                            continue
                                    d = distance[a, b, c]
                                    seen += g * min(max(HALF + d + d, ZERO), ONE)
                    room = seen / whole
                if room > np.float32(0.15):
                    wanted[i, j, k] = -_depth(total / (full * room))


@parallel
def correct(phi, wanted, u, v, w, step, raised):
    """Bring the distance nearer to where particles say it is, and let the surface rise by `raised` (cells), in
    proportion to how far the liquid moves in the step.

    Where they fill what is taken for air it is liquid at once.
    """
    nx, ny, nz = phi.shape
    for row in prange(nx):
        i = np.int64(row)
        for j in range(ny):
            for k in range(nz):
                if wanted[i, j, k] < ZERO and phi[i, j, k] - wanted[i, j, k] > FAR:
                    # what has come together in the air is liquid again
                    phi[i, j, k] = wanted[i, j, k]
                    continue
                if abs(phi[i, j, k]) > np.float32(3.0):
                    continue
                a = HALF * (u[i, j, k] + u[i + 1, j, k])
                b = HALF * (v[i, j, k] + v[i, j + 1, k])
                c = HALF * (w[i, j, k] + w[i, j, k + 1])
                moves = ONE - np.exp(-np.sqrt(a * a + b * b + c * c) * step)
                off = _clip(wanted[i, j, k], FAR) - _clip(phi[i, j, k], FAR)
                off = off - NOISE if off > NOISE else (off + NOISE if off < -NOISE else ZERO)
                phi[i, j, k] += moves * off - min(ONE, SOONER * moves) * raised


@parallel
def close_gaps(phi, fraction, reach, wide, out):
    """Write the distance, in which small gaps in the liquid are none: where particles do not come, in crevices, there
    would be one for ever, which sucks.

    A cell is in the liquid if all cells about it are that are open by `wide`, and there is one.
    """
    nx, ny, nz = phi.shape
    for row in prange(nx):
        i = np.int64(row)
        for j in range(ny):
            for k in range(nz):
                out[i, j, k] = phi[i, j, k]
                if phi[i, j, k] < -HALF or phi[i, j, k] > np.float32(3.0) or fraction[i, j, k] < np.float32(0.02):
                    continue
                wet, dry = False, False
                for a in range(max(i - 1, 0), min(i + 2, nx)):
                    for b in range(max(j - 1, 0), min(j + 2, ny)):
                        for c in range(max(k - 1, 0), min(k + 2, nz)):
                            if (
                                fraction[a, b, c] >= wide
                                and not (a == i and b == j and c == k)
                                and reached(reach, i, j, k, a, b, c)
                            ):
                                wet = wet or phi[a, b, c] < ZERO
                                dry = dry or phi[a, b, c] >= ZERO
                if wet and not dry:
                    out[i, j, k] = -HALF


@kernel
def _cubic(a, b, c, d, t):
    """Catmull-Rom between b and c, held between the two where it would leave the four."""
    p = b + HALF * t * (
        c - a + t * (a + a - np.float32(5.0) * b + np.float32(4.0) * c - d + t * (np.float32(3.0) * (b - c) + d - a))
    )
    low, high = min(min(a, b), min(c, d)), max(max(a, b), max(c, d))
    return min(max(p, low), high)


@kernel
def _along_z(f, i, j, k, t):
    nz = f.shape[2]
    return _cubic(f[i, j, max(k - 1, 0)], f[i, j, k], f[i, j, min(k + 1, nz - 1)], f[i, j, min(k + 2, nz - 1)], t)


@kernel
def _along_y(f, i, j, k, s, t):
    ny = f.shape[1]
    return _cubic(
        _along_z(f, i, max(j - 1, 0), k, t),
        _along_z(f, i, j, k, t),
        _along_z(f, i, min(j + 1, ny - 1), k, t),
        _along_z(f, i, min(j + 2, ny - 1), k, t),
        s,
    )


@kernel
def _tricubic(f, x, y, z):
    nx, ny, nz = f.shape
    x = min(max(x - HALF, ZERO), np.float32(nx - 1.001))
    y = min(max(y - HALF, ZERO), np.float32(ny - 1.001))
    z = min(max(z - HALF, ZERO), np.float32(nz - 1.001))
    i, j, k = np.int32(x), np.int32(y), np.int32(z)
    r, s, t = x - np.float32(i), y - np.float32(j), z - np.float32(k)
    return _cubic(
        _along_y(f, max(i - 1, 0), j, k, s, t),
        _along_y(f, i, j, k, s, t),
        _along_y(f, min(i + 1, nx - 1), j, k, s, t),
        _along_y(f, min(i + 2, nx - 1), j, k, s, t),
        r,
    )


@parallel
def advect(phi, u, v, w, step, reach, out):
    """Carry the distance along the flow, back by the midpoint rule; far from the surface it stays. For reach see
    `thin_kernels`."""
    nx, ny, nz = phi.shape
    for row in prange(nx):
        i = np.int64(row)
        for j in range(ny):
            for k in range(nz):
                if abs(phi[i, j, k]) >= BAND:
                    out[i, j, k] = phi[i, j, k]
                    continue
                x, y, z = np.float32(i) + HALF, np.float32(j) + HALF, np.float32(k) + HALF
                half = HALF * step
                a, b, c = sample(u, 0, x, y, z), sample(v, 1, x, y, z), sample(w, 2, x, y, z)
                if a == ZERO and b == ZERO and c == ZERO:
                    out[i, j, k] = phi[i, j, k]
                    continue
                mx, my, mz = x - half * a, y - half * b, z - half * c
                a, b, c = sample(u, 0, mx, my, mz), sample(v, 1, mx, my, mz), sample(w, 2, mx, my, mz)
                x, y, z = x - step * a, y - step * b, z - step * c
                if reach[i, j, k] != ALL:
                    out[i, j, k] = apart(phi, reach, i, j, k, x, y, z)
                    continue
                far = abs(phi[i, j, k]) > np.float32(3.0)
                out[i, j, k] = in_cells(phi, x, y, z) if far else _tricubic(phi, x, y, z)


@kernel
def _solve(a, b, c):
    """The distance whose slope is 1 beside neighbours at a <= b <= c (Zhao 2005)."""
    d = a + ONE
    if d > b:
        d = HALF * (a + b + np.sqrt(max(np.float32(2.0) - (a - b) * (a - b), ZERO)))
        if d > c:
            s = a + b + c
            q = s * s - np.float32(3.0) * (a * a + b * b + c * c - ONE)
            d = (s + np.sqrt(max(q, ZERO))) / np.float32(3.0)
    return d


@serial
def redistance(phi, held, blocked):
    """Make phi a distance again, out to BAND: cells beside the surface, and those `held` (cells) uint8, stay as near
    as they are. Across blocked faces, a bit each as `thin_kernels` has them, cells are not neighbours.

    Fast sweeping (Zhao 2005, A fast sweeping method for Eikonal equations).
    """
    nx, ny, nz = phi.shape
    fixed = np.zeros(phi.shape, np.uint8)
    for i in range(nx):
        for j in range(ny):
            for k in range(nz):
                here, wall = phi[i, j, k] <= ZERO, blocked[i, j, k]
                beside = held[i, j, k] != 0 and abs(phi[i, j, k]) < BAND
                if i > 0 and not wall & LOW_X and (phi[i - 1, j, k] <= ZERO) != here:
                    beside = True
                if i < nx - 1 and not wall & HIGH_X and (phi[i + 1, j, k] <= ZERO) != here:
                    beside = True
                if j > 0 and not wall & LOW_Y and (phi[i, j - 1, k] <= ZERO) != here:
                    beside = True
                if j < ny - 1 and not wall & HIGH_Y and (phi[i, j + 1, k] <= ZERO) != here:
                    beside = True
                if k > 0 and not wall & LOW_Z and (phi[i, j, k - 1] <= ZERO) != here:
                    beside = True
                if k < nz - 1 and not wall & HIGH_Z and (phi[i, j, k + 1] <= ZERO) != here:
                    beside = True
                fixed[i, j, k] = beside
    for i in range(nx):
        for j in range(ny):
            for k in range(nz):
                if not fixed[i, j, k]:
                    phi[i, j, k] = BAND if phi[i, j, k] > ZERO else -BAND
                elif held[i, j, k] == 0:
                    # no cell beside the surface is farther from it
                    phi[i, j, k] = _clip(phi[i, j, k], ONE)
    for turn in range(8):
        for ii in range(nx):
            i = ii if turn & 1 else nx - 1 - ii
            for jj in range(ny):
                j = jj if turn & 2 else ny - 1 - jj
                for kk in range(nz):
                    k = kk if turn & 4 else nz - 1 - kk
                    if fixed[i, j, k]:
                        continue
                    here = phi[i, j, k]
                    sign = ONE if here > ZERO else -ONE
                    a = min(sign * phi[max(i - 1, 0), j, k], sign * phi[min(i + 1, nx - 1), j, k])
                    b = min(sign * phi[i, max(j - 1, 0), k], sign * phi[i, min(j + 1, ny - 1), k])
                    c = min(sign * phi[i, j, max(k - 1, 0)], sign * phi[i, j, min(k + 1, nz - 1)])
                    wall = blocked[i, j, k]
                    if wall:
                        a = min(
                            BAND if wall & LOW_X else sign * phi[max(i - 1, 0), j, k],
                            BAND if wall & HIGH_X else sign * phi[min(i + 1, nx - 1), j, k],
                        )
                        b = min(
                            BAND if wall & LOW_Y else sign * phi[i, max(j - 1, 0), k],
                            BAND if wall & HIGH_Y else sign * phi[i, min(j + 1, ny - 1), k],
                        )
                        c = min(
                            BAND if wall & LOW_Z else sign * phi[i, j, max(k - 1, 0)],
                            BAND if wall & HIGH_Z else sign * phi[i, j, min(k + 1, nz - 1)],
                        )
                    # whatever is nearer than a fixed neighbour of the other sign is none
                    if min(min(a, b), c) >= BAND:
                        continue
                    low, high = min(a, min(b, c)), max(a, max(b, c))
                    middle = a + b + c - low - high
                    d = _solve(low, middle, high)
                    if d < sign * here:
                        phi[i, j, k] = sign * d


@parallel
def slow_down(u, rate, slow):
    """Calm what hardly moves: u loses a share `rate`, less the faster it is against `slow` [m/s]."""
    for row in prange(u.shape[0]):
        i = np.int64(row)
        for j in range(u.shape[1]):
            for k in range(u.shape[2]):
                s = u[i, j, k] / slow
                u[i, j, k] *= ONE - rate * np.exp(-s * s)
