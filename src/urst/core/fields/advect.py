"""Kernels that carry fields along a flow, on a staggered grid.

Velocities live on the faces: u (nx+1, ny, nz), v (nx, ny+1, nz), w (nx, ny, nz+1), in cells a second here; scalars
in the cell centres. A kernel is handed the offset of its samples from the cell corners: (0.5, 0.5, 0.5) for
scalars, (0, 0.5, 0.5) for u and so on.
"""

import numpy as np
from numba import prange

from urst.core.jit import inline, parallel


@inline
def sample(f, x, y, z):
    """Trilinear value at index coordinates, held constant beyond the samples."""
    nx, ny, nz = f.shape
    x = min(max(x, np.float32(0.0)), np.float32(nx - 1.001))
    y = min(max(y, np.float32(0.0)), np.float32(ny - 1.001))
    z = min(max(z, np.float32(0.0)), np.float32(nz - 1.001))
    # by way of signed integers: a processor turns unsigned ones into floats only in several steps
    p, q, r = np.int32(x), np.int32(y), np.int32(z)
    a, b, c = x - np.float32(p), y - np.float32(q), z - np.float32(r)
    i, j, k = np.uint64(p), np.uint64(q), np.uint64(r)
    one = np.float32(1.0)
    i1, j1, k1 = i + np.uint64(1), j + np.uint64(1), k + np.uint64(1)
    low = (one - b) * ((one - c) * f[i, j, k] + c * f[i, j, k1]) + b * ((one - c) * f[i, j1, k] + c * f[i, j1, k1])
    high = (one - b) * ((one - c) * f[i1, j, k] + c * f[i1, j, k1]) + b * ((one - c) * f[i1, j1, k] + c * f[i1, j1, k1])
    return (one - a) * low + a * high


@inline
def flow(u, v, w, x, y, z):
    """Velocity at grid coordinates (in cells from the grid's corner)."""
    h = np.float32(0.5)
    return sample(u, x, y - h, z - h), sample(v, x - h, y, z - h), sample(w, x - h, y - h, z)


@parallel
def carry(f, u, v, w, dt, ox, oy, oz, out):
    """Semi-Lagrangian step, traced back by the midpoint rule (Stam 1999; Bridson 2015, ch. 3)."""
    nx, ny, nz = f.shape
    half = np.float32(0.5) * dt
    for i in prange(nx):
        for j in range(ny):
            for k in range(nz):
                x, y, z = np.float32(i) + ox, np.float32(j) + oy, np.float32(k) + oz
                a, b, c = flow(u, v, w, x, y, z)
                a, b, c = flow(u, v, w, x - half * a, y - half * b, z - half * c)
                out[i, j, k] = sample(f, x - dt * a - ox, y - dt * b - oy, z - dt * c - oz)


@parallel
def correct(f, ahead, back, u, v, w, dt, ox, oy, oz, out):
    """MacCormack correction: out = ahead + (f - back) / 2, within the values it came from (Selle et al. 2008).

    `ahead` is the semi-Lagrangian step of f, `back` that of `ahead` with -dt.
    """
    nx, ny, nz = f.shape
    half = np.float32(0.5) * dt
    for i in prange(nx):
        for j in range(ny):
            for k in range(nz):
                x, y, z = np.float32(i) + ox, np.float32(j) + oy, np.float32(k) + oz
                a, b, c = flow(u, v, w, x, y, z)
                a, b, c = flow(u, v, w, x - half * a, y - half * b, z - half * c)
                x = min(max(x - dt * a - ox, np.float32(0.0)), np.float32(nx - 1.001))
                y = min(max(y - dt * b - oy, np.float32(0.0)), np.float32(ny - 1.001))
                z = min(max(z - dt * c - oz, np.float32(0.0)), np.float32(nz - 1.001))
                p, q, r = np.uint64(x), np.uint64(y), np.uint64(z)
                least, most = f[p, q, r], f[p, q, r]
                for d in range(1, 8):
                    value = f[p + np.uint64(d & 1), q + np.uint64((d >> 1) & 1), r + np.uint64(d >> 2)]
                    least, most = min(least, value), max(most, value)
                value = ahead[i, j, k] + np.float32(0.5) * (f[i, j, k] - back[i, j, k])
                out[i, j, k] = min(max(value, least), most)
