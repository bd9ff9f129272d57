"""Kernels of the gas: sources and forces.

u, v and w are velocities on the faces across x, y and z [m/s], weight the open fraction of those faces, float32;
is_open (nx, ny, nz) uint8 marks cells without solids; is_temperature (k,) bool tells temperatures from concentrations;
scale is one over the cell [1/m], or how strongly dust pushes the air; curl is a `Curl`, whose arrays are vx, vy, vz and
size; out is written.
"""

from typing import NamedTuple

import numpy as np
from numba import prange

from urst.core.jit import parallel, serial
from urst.core.solids.cell_kernels import NONE


class Curl(NamedTuple):
    """Vorticity in cell centres and its length, each (nx, ny, nz) float32 [1/s]."""

    x: np.ndarray
    y: np.ndarray
    z: np.ndarray
    size: np.ndarray


@serial
def splat(births, origin, cell, solid, density, momentum):
    """Add the mass of births to density [kg/m3] and their momentum to momentum (3, nx, ny, nz) [kg/(m2 s)].

    Each fills a cone-shaped ball of its radius; what would fall into solids goes to the open cells. origin (3,), cell
    [m]: of the grid; solid (nx, ny, nz): `NONE` where cells are open.
    """
    position, velocity, mass, radius = births.position, births.velocity, births.mass, births.radius
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
                            fraction = (1.0 - away) / total * mass[p] / volume
                            density[i, j, k] += np.float32(fraction)
                            for c in range(3):
                                momentum[c, i, j, k] += np.float32(fraction * velocity[p, c])


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
def buoyancy(values, used, factor, is_temperature, air, out):
    """Write the fraction of gravity that the air takes on: sum of f C / (air + all C) - sum of f dT / T.

    Concentrations C [kg/m3] weigh on the air, temperatures dT [K] above its own lift it (Boussinesq; Turner 1973,
    Buoyancy Effects in Fluids, sec. 1.3). values (k, nx, ny, nz); used: numbers of those that count; factor f (k,);
    air: its density [kg/m3] and T [K].
    """
    nx, ny, nz = out.shape
    zero, (density, kelvin) = np.float32(0.0), air
    for i in prange(nx):
        for j in range(ny):
            for k in range(nz):
                mass, load, lift = zero, zero, zero
                for n in used:
                    value = values[n, i, j, k]
                    if is_temperature[n]:
                        lift += factor[n] * value
                    else:
                        mass += value
                        load += factor[n] * value
                out[i, j, k] = load / (density + mass) - lift / kelvin


@parallel
def lift(u, weight, axis, fraction, speed):
    """Accelerate the air across one axis: `speed` is gravity times the step [m/s], `fraction` (nx, ny, nz) what of it
    the cells take on."""
    nx, ny, nz = fraction.shape
    half = np.float32(0.5)
    for row in prange(u.shape[0]):
        i = np.int64(row)
        for j in range(u.shape[1]):
            for k in range(u.shape[2]):
                if weight[i, j, k] == 0.0:
                    continue
                both = np.float32(0.0)
                for side in range(2):
                    a, b, c = i - side * (axis == 0), j - side * (axis == 1), k - side * (axis == 2)
                    if a >= 0 and b >= 0 and c >= 0 and a < nx and b < ny and c < nz:
                        both += fraction[a, b, c]
                u[i, j, k] += speed * half * both


@parallel
def diffuse(f, weight, is_open, rate):
    """One implicit step of diffusion along the last axis: tridiagonal lines, each solved by elimination.

    f (a, b, n), changed in place; weight (a, b, n + 1): open fraction of the faces along the line; rate: diffusivity
    times step over cell squared. Nothing passes the two ends of a line.
    """
    rows, columns, n = f.shape
    one = np.float32(1.0)
    for i in prange(rows):
        upper = np.empty(n, np.float32)
        for j in range(columns):
            below, before, last = np.float32(0.0), np.float32(0.0), np.float32(0.0)
            for k in range(n):
                passes = k + 1 < n and is_open[i, j, k] and is_open[i, j, k + 1]
                above = rate * weight[i, j, k + 1] if passes else np.float32(0.0)
                pivot = one + below + above - below * before
                upper[k] = above / pivot
                f[i, j, k] = (f[i, j, k] + below * last) / pivot
                below, before, last = above, upper[k], f[i, j, k]
            for k in range(n - 2, -1, -1):
                f[i, j, k] += upper[k] * f[i, j, k + 1]


@parallel
def vorticity(u, v, w, scale, vx, vy, vz, size):
    """Write the curl of the velocity in the inner cell centres and its length, as `Curl` has them."""
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
def confine(u, weight, axis, curl, amount):
    """Vorticity confinement along one axis: amount (N x vorticity), N the slope of its length (Fedkiw et al. 2001).

    amount (nz,): strength times cell size times dt, by layers of cells.
    """
    vx, vy, vz, size = curl.x, curl.y, curl.z, curl.size
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
                u[i, j, k] += amount[min(k, nz - 1)] * total
