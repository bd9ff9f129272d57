"""Kernels of the flow on cut faces with a free surface: outflow, pressure's push, velocities beyond the liquid.

u, v and w are velocities on the faces across x, y and z [m/s], of which an axis (0, 1, 2) is treated at a time; weight
is the open fraction of the same faces and wall how fast these move [m/s], float32. phi (nx, ny, nz) is the distance
from the surface [cells], p the pressure times step over density and cell [m/s]; a cell above -least [cells] is no
liquid, a face open by less than closed is shut; out is written.
"""

import numpy as np
from numba import prange

from urst.core.jit import kernel, parallel
from urst.core.solids.wall_kernels import HALF, ONE, ZERO


@parallel
def outflow(velocity, weights, walls, phi, least, source, out):
    """Write minus the net outflow of each liquid cell; closed fractions of faces move with their walls.

    Parameters
    ----------
    velocity : FaceFields [m/s]
    weights : FaceFields
        Open fractions.
    walls : FaceFields
        Velocities of what closes faces [m/s].
    phi : (nx, ny, nz) float32
        Distance from the surface [cells].
    least : float32
        Cells above minus this count as none [cells].
    source : (nx, ny, nz) float32
        Added, where cells are to grow [m/s].
    out : (nx, ny, nz) float32
        Written [m/s].
    """
    u, v, w = velocity.x, velocity.y, velocity.z
    wx, wy, wz = weights.x, weights.y, weights.z
    walls_x, walls_y, walls_z = walls.x, walls.y, walls.z
    nx, ny, nz = phi.shape
    for row in prange(nx):
        i = np.int64(row)
        for j in range(ny):
            for k in range(nz):
                if phi[i, j, k] > -least:
                    out[i, j, k] = ZERO
                    continue
                a, b = wx[i, j, k], wx[i + 1, j, k]
                c, d = wy[i, j, k], wy[i, j + 1, k]
                e, f = wz[i, j, k], wz[i, j, k + 1]
                net = b * u[i + 1, j, k] - a * u[i, j, k] + d * v[i, j + 1, k] - c * v[i, j, k]
                net += f * w[i, j, k + 1] - e * w[i, j, k]
                # a wall that moves drives out what its part of the cell loses
                net += (ONE - b) * walls_x[i + 1, j, k] - (ONE - a) * walls_x[i, j, k]
                net += (ONE - d) * walls_y[i, j + 1, k] - (ONE - c) * walls_y[i, j, k]
                net += (ONE - f) * walls_z[i, j, k + 1] - (ONE - e) * walls_z[i, j, k]
                out[i, j, k] = source[i, j, k] - net


@kernel
def _beside(i, j, k, axis, p):
    a, b, c = i - (axis == 0), j - (axis == 1), k - (axis == 2)
    before = a >= 0 and b >= 0 and c >= 0
    here = i < p.shape[0] and j < p.shape[1] and k < p.shape[2]
    return a, b, c, before, here


@parallel
def push(u, weight, phi, p, axis, least, closed, known):
    """Take pressure's slope from the faces across an axis that are open by `closed` at least and touch liquid, to
    second order at the surface, beyond which air may have a pressure too; mark them in `known` uint8."""
    for row in prange(u.shape[0]):
        i = np.int64(row)
        for j in range(u.shape[1]):
            for k in range(u.shape[2]):
                known[i, j, k] = 0
                if weight[i, j, k] < closed:
                    continue
                a, b, c, before, here = _beside(i, j, k, axis, p)
                wet_before = before and phi[a, b, c] <= -least
                wet_here = here and phi[i, j, k] <= -least
                if not wet_before and not wet_here:
                    continue
                known[i, j, k] = 1
                if wet_before and wet_here:
                    u[i, j, k] -= p[i, j, k] - p[a, b, c]
                elif wet_here:
                    theta = phi[i, j, k] / (phi[i, j, k] - phi[a, b, c]) if before else ONE
                    u[i, j, k] -= (p[i, j, k] - (p[a, b, c] if before else ZERO)) / theta
                else:
                    theta = phi[a, b, c] / (phi[a, b, c] - phi[i, j, k]) if here else ONE
                    u[i, j, k] += (p[a, b, c] - (p[i, j, k] if here else ZERO)) / theta


@parallel
def momentum(u, weight, phi, axis, least, closed, out):
    """Write the momentum of the liquid at the faces across an axis that pressure acts on, a plane each, in cells of
    density 1.

    The mass at a face is its open fraction, and of that what lies below the surface.
    """
    for row in prange(u.shape[0]):
        i, total = np.int64(row), 0.0
        for j in range(u.shape[1]):
            for k in range(u.shape[2]):
                if weight[i, j, k] < closed:
                    continue
                a, b, c, before, here = _beside(i, j, k, axis, phi)
                wet_before = before and phi[a, b, c] <= -least
                wet_here = here and phi[i, j, k] <= -least
                theta = ZERO
                if wet_before and wet_here:
                    theta = ONE
                elif wet_here:
                    theta = phi[i, j, k] / (phi[i, j, k] - phi[a, b, c]) if before else ONE
                elif wet_before:
                    theta = phi[a, b, c] / (phi[a, b, c] - phi[i, j, k]) if here else ONE
                total += float(weight[i, j, k] * theta * u[i, j, k])
        out[i] = total


@kernel
def _gives(known, weight, closed, i, j, k):
    return known[i, j, k] and weight[i, j, k] >= closed


@parallel
def spread(u, weight, closed, known, fresh, now):
    """Give faces without a velocity the mean of those beside that have one (`known`); `fresh` and `now`: written, with
    these.

    Faces open by less than `closed` take and do not give: nothing spreads through walls.
    """
    nx, ny, nz = u.shape
    # the first and the last that are known along z
    ends = np.empty((nx, ny, 2), np.int64)
    for row in prange(nx):
        i = np.int64(row)
        for j in range(ny):
            low, high = nz, np.int64(-1)
            for k in range(nz):
                if known[i, j, k]:
                    low, high = min(low, k), k
            ends[i, j, 0], ends[i, j, 1] = low, high
    for row in prange(nx):
        i = np.int64(row)
        for j in range(ny):
            low, high = ends[i, j, 0] - 1, ends[i, j, 1] + 1
            for side in range(2):
                a, b = min(max(i - 1 + 2 * side, 0), nx - 1), min(max(j - 1 + 2 * side, 0), ny - 1)
                low, high = min(low, ends[a, j, 0]), max(high, ends[a, j, 1])
                low, high = min(low, ends[i, b, 0]), max(high, ends[i, b, 1])
            for k in range(nz):
                fresh[i, j, k], now[i, j, k] = u[i, j, k], known[i, j, k]
                if known[i, j, k]:
                    continue
                if k < low or k > high:
                    fresh[i, j, k] = ZERO
                    continue
                total, count = ZERO, ZERO
                for f in range(6):
                    step = 2 * (f & 1) - 1
                    a, b, c = i + step * (f >> 1 == 0), j + step * (f >> 1 == 1), k + step * (f >> 1 == 2)
                    if min(a, b, c) < 0 or a >= nx or b >= ny or c >= nz:
                        continue
                    if _gives(known, weight, closed, a, b, c):
                        total, count = total + u[a, b, c], count + ONE
                if count > ZERO:
                    fresh[i, j, k], now[i, j, k] = total / count, 1
                else:
                    fresh[i, j, k] = ZERO


@kernel
def _across(middle, i, j, k, axis):
    """How the distance from walls rises along an axis about a cell, over two cells."""
    nx, ny, nz = middle.shape
    a, b, c = axis == 0, axis == 1, axis == 2
    ahead = middle[min(i + a, nx - 1), min(j + b, ny - 1), min(k + c, nz - 1)]
    return ahead - middle[max(i - a, 0), max(j - b, 0), max(k - c, 0)]


@parallel
def hold(u, weight, wall, middle, axis, closed):
    """Give closed faces that walls cross squarely the velocity of these; middle (cells): distance from walls."""
    nx, ny, nz = middle.shape
    d, e = (axis + 1) % 3, (axis + 2) % 3
    for row in prange(u.shape[0]):
        i = np.int64(row)
        for j in range(u.shape[1]):
            for k in range(u.shape[2]):
                if weight[i, j, k] >= closed:
                    continue
                x, y, z = min(i, nx - 1), min(j, ny - 1), min(k, nz - 1)
                a, b, c = max(i - (axis == 0), 0), max(j - (axis == 1), 0), max(k - (axis == 2), 0)
                own = np.float32(4.0) * (middle[x, y, z] - middle[a, b, c])
                one = _across(middle, x, y, z, d) + _across(middle, a, b, c, d)
                two = _across(middle, x, y, z, e) + _across(middle, a, b, c, e)
                if own * own >= HALF * (own * own + one * one + two * two):
                    u[i, j, k] = wall[i, j, k]


@parallel
def filter_short(u, known, out):
    """Write u less its shortest waves, where all 26 faces about it are known: those of two faces go, longer ones
    hardly change.

    u - 0.2 (I - B)^2 u with the binomial mean B along each axis.
    """
    nx, ny, nz = u.shape
    fifth, quarter = np.float32(0.2), np.float32(0.0625)
    for row in prange(nx):
        i = np.int64(row)
        for j in range(ny):
            for k in range(nz):
                out[i, j, k] = u[i, j, k]
                if i < 2 or j < 2 or k < 2 or i > nx - 3 or j > ny - 3 or k > nz - 3 or not known[i, j, k]:
                    continue
                # (I - B)^2 along an axis is a sixteenth of the fourth difference
                if known[i - 2, j, k] and known[i - 1, j, k] and known[i + 1, j, k] and known[i + 2, j, k]:
                    four = np.float32(6.0) * u[i, j, k] - np.float32(4.0) * (u[i - 1, j, k] + u[i + 1, j, k])
                    out[i, j, k] -= fifth * quarter * (four + u[i - 2, j, k] + u[i + 2, j, k])
                if known[i, j - 2, k] and known[i, j - 1, k] and known[i, j + 1, k] and known[i, j + 2, k]:
                    four = np.float32(6.0) * u[i, j, k] - np.float32(4.0) * (u[i, j - 1, k] + u[i, j + 1, k])
                    out[i, j, k] -= fifth * quarter * (four + u[i, j - 2, k] + u[i, j + 2, k])
                if known[i, j, k - 2] and known[i, j, k - 1] and known[i, j, k + 1] and known[i, j, k + 2]:
                    four = np.float32(6.0) * u[i, j, k] - np.float32(4.0) * (u[i, j, k - 1] + u[i, j, k + 1])
                    out[i, j, k] -= fifth * quarter * (four + u[i, j, k - 2] + u[i, j, k + 2])


@parallel
def crowding(density, room, phi, full, gain, least, out):
    """Write by how much each cell holds too much, as a fraction of it: in the deep too little counts as well.

    Parameters
    ----------
    density : (nx, ny, nz) float32
        Particles weighed into cells.
    room : (nx, ny, nz) float32
        Open fraction of what is weighed into each.
    phi : (nx, ny, nz) float32
    full : float32
        Particles that fill a cell.
    gain : float32
        Fraction of it that is wanted away.
    least : float32
        Cells above -least count as none [cells].
    out : (nx, ny, nz) float32
    """
    nx, ny, nz = phi.shape
    for row in prange(nx):
        i = np.int64(row)
        for j in range(ny):
            for k in range(nz):
                out[i, j, k] = ZERO
                if phi[i, j, k] > -least or room[i, j, k] < np.float32(0.1):
                    continue
                more = density[i, j, k] / (full * room[i, j, k]) - ONE
                if phi[i, j, k] > np.float32(-1.3):
                    more = max(more, ZERO)
                out[i, j, k] = gain * min(max(more, -HALF), ONE) * room[i, j, k]
