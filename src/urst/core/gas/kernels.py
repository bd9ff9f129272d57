"""Kernels of the gas: solids on the grid, sources, forces, divergence and its removal."""

import numpy as np
from numba import prange

from urst.core.jit import parallel, serial

NONE = -1


@serial
def rasterise(planes, face_start, low, high, origin, cell, solid):
    """Write into solid (nx, ny, nz) int32 the convex body each cell's centre is in, or NONE; the first body wins.

    planes (f, 4) and the bounds low, high (n, 3) in world coordinates; origin (3,) and cell [m].
    """
    nx, ny, nz = solid.shape
    solid[:] = NONE
    for b in range(len(low)):
        i0 = max(0, int(np.ceil((low[b, 0] - origin[0]) / cell - 0.5)))
        j0 = max(0, int(np.ceil((low[b, 1] - origin[1]) / cell - 0.5)))
        k0 = max(0, int(np.ceil((low[b, 2] - origin[2]) / cell - 0.5)))
        i1 = min(nx - 1, int(np.floor((high[b, 0] - origin[0]) / cell - 0.5)))
        j1 = min(ny - 1, int(np.floor((high[b, 1] - origin[1]) / cell - 0.5)))
        k1 = min(nz - 1, int(np.floor((high[b, 2] - origin[2]) / cell - 0.5)))
        for i in range(i0, i1 + 1):
            x = origin[0] + (i + 0.5) * cell
            for j in range(j0, j1 + 1):
                y = origin[1] + (j + 0.5) * cell
                for k in range(k0, k1 + 1):
                    if solid[i, j, k] != NONE:
                        continue
                    z = origin[2] + (k + 0.5) * cell
                    inside = True
                    for f in range(face_start[b], face_start[b + 1]):
                        if planes[f, 0] * x + planes[f, 1] * y + planes[f, 2] * z > planes[f, 3]:
                            inside = False
                            break
                    if inside:
                        solid[i, j, k] = b


@parallel
def clear_of_solids(was_open, is_open, out):
    """Write whether a cell and the 26 round it were open before and are open now; beyond the grid counts as open."""
    nx, ny, nz = out.shape
    for row in prange(nx):
        i = np.int64(row)
        for j in range(ny):
            for k in range(nz):
                clear = True
                for a in range(max(0, i - 1), min(nx, i + 2)):
                    for b in range(max(0, j - 1), min(ny, j + 2)):
                        for c in range(max(0, k - 1), min(nz, k + 2)):
                            clear = clear and was_open[a, b, c] and is_open[a, b, c]
                out[i, j, k] = clear


@parallel
def open_faces(solid, axis, position, velocity, spin, origin, cell, weight, wall):
    """Weights (1 open, 0 closed) and wall velocities of the faces across one axis.

    `wall` holds the velocity [m/s] along the axis of the body behind a closed face.
    """
    nx, ny, nz = weight.shape
    d, e = (axis + 1) % 3, (axis + 2) % 3
    for row in prange(nx):
        i = np.int64(row)
        for j in range(ny):
            for k in range(nz):
                a, b, c = i - (axis == 0), j - (axis == 1), k - (axis == 2)
                first = NONE
                if a >= 0 and b >= 0 and c >= 0:
                    first = solid[a, b, c]
                if first == NONE and i < solid.shape[0] and j < solid.shape[1] and k < solid.shape[2]:
                    first = solid[i, j, k]
                weight[i, j, k] = np.float32(1.0) if first == NONE else np.float32(0.0)
                wall[i, j, k] = np.float32(0.0)
                if first != NONE:
                    # the arm from the body's centre to the face along the two other axes
                    at_d = i if d == 0 else (j if d == 1 else k)
                    at_e = i if e == 0 else (j if e == 1 else k)
                    rd = origin[d] + (at_d + 0.5) * cell - position[first, d]
                    re = origin[e] + (at_e + 0.5) * cell - position[first, e]
                    wall[i, j, k] = np.float32(velocity[first, axis] + spin[first, d] * re - spin[first, e] * rd)


@parallel
def hold(u, weight, wall):
    """Give closed faces the velocity of their wall."""
    for row in prange(u.shape[0]):
        i = np.int64(row)
        for j in range(u.shape[1]):
            for k in range(u.shape[2]):
                if weight[i, j, k] == 0.0:
                    u[i, j, k] = wall[i, j, k]


@parallel
def divergence(u, v, w, solid, out):
    """out = minus the net outflow of each open cell, 0 in solids."""
    nx, ny, nz = out.shape
    for row in prange(nx):
        i = np.int64(row)
        for j in range(ny):
            for k in range(nz):
                if solid[i, j, k] != NONE:
                    out[i, j, k] = np.float32(0.0)
                else:
                    net = u[i + 1, j, k] - u[i, j, k] + v[i, j + 1, k] - v[i, j, k] + w[i, j, k + 1] - w[i, j, k]
                    out[i, j, k] = -net


@parallel
def subtract_gradient(u, weight, p, axis):
    """u -= w (p_here - p_before) across one axis; p is 0 beyond the grid."""
    zero = np.float32(0.0)
    for row in prange(u.shape[0]):
        i = np.int64(row)
        for j in range(u.shape[1]):
            for k in range(u.shape[2]):
                if weight[i, j, k] == 0.0:
                    continue
                here, before = zero, zero
                if i < p.shape[0] and j < p.shape[1] and k < p.shape[2]:
                    here = p[i, j, k]
                a, b, c = i - (axis == 0), j - (axis == 1), k - (axis == 2)
                if a >= 0 and b >= 0 and c >= 0:
                    before = p[a, b, c]
                u[i, j, k] -= weight[i, j, k] * (here - before)


@serial
def splat(position, velocity, mass, origin, cell, radius, solid, density, momentum):
    """Add the mass [kg] of points to density [kg/m3] and their momentum to momentum (3, nx, ny, nz) [kg/(m2 s)].

    Each point fills a cone-shaped ball of `radius` [m]; what would fall into solids goes to the open cells.
    """
    nx, ny, nz = density.shape
    volume = cell * cell * cell
    for p in range(len(position)):
        x = (position[p, 0] - origin[0]) / cell - 0.5
        y = (position[p, 1] - origin[1]) / cell - 0.5
        z = (position[p, 2] - origin[2]) / cell - 0.5
        reach = max(radius / cell, 1.0)
        i0, i1 = max(0, int(np.ceil(x - reach))), min(nx - 1, int(np.floor(x + reach)))
        j0, j1 = max(0, int(np.ceil(y - reach))), min(ny - 1, int(np.floor(y + reach)))
        k0, k1 = max(0, int(np.ceil(z - reach))), min(nz - 1, int(np.floor(z + reach)))
        total = 0.0
        for sweep in range(2):
            if sweep == 1 and total <= 0.0:
                break
            for i in range(i0, i1 + 1):
                for j in range(j0, j1 + 1):
                    for k in range(k0, k1 + 1):
                        if solid[i, j, k] != NONE:
                            continue
                        away = np.sqrt((i - x) ** 2 + (j - y) ** 2 + (k - z) ** 2) / reach
                        if away >= 1.0:
                            continue
                        if sweep == 0:
                            total += 1.0 - away
                        else:
                            share = (1.0 - away) / total * mass[p] / volume
                            density[i, j, k] += np.float32(share)
                            for c in range(3):
                                momentum[c, i, j, k] += np.float32(share * velocity[p, c])


@parallel
def push(u, weight, axis, added, momentum, air, scale):
    """Share the momentum of the dust just added with the air across one axis: both move on together."""
    nx, ny, nz = added.shape
    half = np.float32(0.5)
    for row in prange(u.shape[0]):
        i = np.int64(row)
        for j in range(u.shape[1]):
            for k in range(u.shape[2]):
                if weight[i, j, k] == 0.0:
                    continue
                m, f = np.float32(0.0), np.float32(0.0)
                for side in range(2):
                    a, b, c = i - side * (axis == 0), j - side * (axis == 1), k - side * (axis == 2)
                    if a >= 0 and b >= 0 and c >= 0 and a < nx and b < ny and c < nz:
                        m += half * added[a, b, c]
                        f += half * momentum[a, b, c]
                u[i, j, k] = (air * u[i, j, k] + scale * f) / (air + scale * m)


@parallel
def lift(u, weight, axis, gravity, density, heat, dt, heaviness, air, kelvin):
    """Weight of the dust and lift of warm air along one axis.

    The mixture accelerates by g (heaviness C / (air + C) - dT / T): dust of concentration C weighs on the air,
    warmth dT lifts it (Boussinesq; Turner 1973, Buoyancy Effects in Fluids, sec. 1.3).
    """
    nx, ny, nz = density.shape
    half = np.float32(0.5)
    for row in prange(u.shape[0]):
        i = np.int64(row)
        for j in range(u.shape[1]):
            for k in range(u.shape[2]):
                if weight[i, j, k] == 0.0:
                    continue
                c, t = np.float32(0.0), np.float32(0.0)
                for side in range(2):
                    a, b, d = i - side * (axis == 0), j - side * (axis == 1), k - side * (axis == 2)
                    if a >= 0 and b >= 0 and d >= 0 and a < nx and b < ny and d < nz:
                        c += half * density[a, b, d]
                        t += half * heat[a, b, d]
                u[i, j, k] += dt * gravity * (heaviness * c / (air + c) - t / kelvin)


@parallel
def vorticity(u, v, w, scale, vx, vy, vz, size):
    """Curl of the velocity in the inner cell centres [1/s], and its length."""
    nx, ny, nz = size.shape
    q = np.float32(0.25) * scale
    for row in prange(1, nx - 1):
        i = np.int64(row)
        for j in range(1, ny - 1):
            for k in range(1, nz - 1):
                wy = w[i, j + 1, k] + w[i, j + 1, k + 1] - w[i, j - 1, k] - w[i, j - 1, k + 1]
                vz_ = v[i, j, k + 1] + v[i, j + 1, k + 1] - v[i, j, k - 1] - v[i, j + 1, k - 1]
                uz = u[i, j, k + 1] + u[i + 1, j, k + 1] - u[i, j, k - 1] - u[i + 1, j, k - 1]
                wx = w[i + 1, j, k] + w[i + 1, j, k + 1] - w[i - 1, j, k] - w[i - 1, j, k + 1]
                vx_ = v[i + 1, j, k] + v[i + 1, j + 1, k] - v[i - 1, j, k] - v[i - 1, j + 1, k]
                uy = u[i, j + 1, k] + u[i + 1, j + 1, k] - u[i, j - 1, k] - u[i + 1, j - 1, k]
                a, b, c = q * (wy - vz_), q * (uz - wx), q * (vx_ - uy)
                vx[i, j, k], vy[i, j, k], vz[i, j, k] = a, b, c
                size[i, j, k] = np.sqrt(a * a + b * b + c * c)


@parallel
def confine(u, weight, axis, vx, vy, vz, size, amount):
    """Vorticity confinement along one axis: amount (N x vorticity), N the slope of its length (Fedkiw et al. 2001).

    `amount` is strength times cell size times dt.
    """
    nx, ny, nz = size.shape
    half = np.float32(0.5)
    for row in prange(u.shape[0]):
        i = np.int64(row)
        for j in range(u.shape[1]):
            for k in range(u.shape[2]):
                if weight[i, j, k] == 0.0:
                    continue
                total = np.float32(0.0)
                for side in range(2):
                    a, b, c = i - side * (axis == 0), j - side * (axis == 1), k - side * (axis == 2)
                    if a < 1 or b < 1 or c < 1 or a >= nx - 1 or b >= ny - 1 or c >= nz - 1:
                        continue
                    gx = size[a + 1, b, c] - size[a - 1, b, c]
                    gy = size[a, b + 1, c] - size[a, b - 1, c]
                    gz = size[a, b, c + 1] - size[a, b, c - 1]
                    length = np.sqrt(gx * gx + gy * gy + gz * gz) + np.float32(1e-6)
                    if axis == 0:
                        total += half * (gy * vz[a, b, c] - gz * vy[a, b, c]) / length
                    elif axis == 1:
                        total += half * (gz * vx[a, b, c] - gx * vz[a, b, c]) / length
                    else:
                        total += half * (gx * vy[a, b, c] - gy * vx[a, b, c]) / length
                u[i, j, k] += amount * total
