"""Kernels that carry fields along a flow, on a staggered grid.

Velocities live on the faces: u (nx+1, ny, nz), v (nx, ny+1, nz), w (nx, ny, nz+1), in cells a second here; scalars
in the cell centres. A field's place on the grid is told by `axis`: 0, 1, 2 for the faces across x, y, z, CENTRE for
cell centres. Where a sample comes from is traced once for all fields with the same place.
"""

from typing import NamedTuple

import numpy as np
from numba import prange

from urst.core.jit import inline, parallel

CENTRE = -1
#: motion within a step so small that the velocity does not change along it to single precision [cells]
STILL = np.float32(1e-3)


class Places(NamedTuple):
    """Index coordinates of each sample somewhere else, float32."""

    x: np.ndarray
    y: np.ndarray
    z: np.ndarray


@inline
def _clamped(x, n):
    """An index coordinate held within the `n` samples of an axis."""
    return min(max(x, np.float32(0.0)), np.float32(n) - np.float32(1.001))


@inline
def sample(f, x, y, z):
    """Trilinear value at index coordinates, held constant beyond the samples."""
    x, y, z = _clamped(x, f.shape[0]), _clamped(y, f.shape[1]), _clamped(z, f.shape[2])
    # by way of signed integers: a processor turns unsigned ones into floats only in several steps
    p, q, r = np.int32(x), np.int32(y), np.int32(z)
    a, b, c = x - np.float32(p), y - np.float32(q), z - np.float32(r)
    i, j, k = np.uint64(p), np.uint64(q), np.uint64(r)
    i1, j1, k1 = i + np.uint64(1), j + np.uint64(1), k + np.uint64(1)
    near = f[i, j, k] + c * (f[i, j, k1] - f[i, j, k])
    up = f[i, j1, k] + c * (f[i, j1, k1] - f[i, j1, k])
    far = f[i1, j, k] + c * (f[i1, j, k1] - f[i1, j, k])
    both = f[i1, j1, k] + c * (f[i1, j1, k1] - f[i1, j1, k])
    near, far = near + b * (up - near), far + b * (both - far)
    return near + a * (far - near)


@inline
def flow(u, v, w, x, y, z):
    """Velocity at grid coordinates (in cells from the grid's corner)."""
    h = np.float32(0.5)
    return sample(u, x, y - h, z - h), sample(v, x - h, y, z - h), sample(w, x - h, y - h, z)


@inline
def _mean(f, a0, a1, b0, b1, c0, c1):
    total = f[a0, b0, c0] + f[a1, b0, c0] + f[a0, b1, c0] + f[a1, b1, c0]
    total += f[a0, b0, c1] + f[a1, b0, c1] + f[a0, b1, c1] + f[a1, b1, c1]
    return np.float32(0.125) * total


@inline
def _own_flow(u, v, w, axis, i, j, k):
    """Velocity at a sample itself: the mean of the faces round it."""
    half = np.float32(0.5)
    if axis == CENTRE:
        a, b, c = u[i, j, k] + u[i + 1, j, k], v[i, j, k] + v[i, j + 1, k], w[i, j, k] + w[i, j, k + 1]
        return half * a, half * b, half * c
    # the cells to both sides of the face
    p, q, r = max(i - (axis == 0), 0), max(j - (axis == 1), 0), max(k - (axis == 2), 0)
    i1, j1, k1 = min(i, v.shape[0] - 1), min(j, u.shape[1] - 1), min(k, u.shape[2] - 1)
    if axis == 0:
        return u[i, j, k], _mean(v, p, i1, j, j + 1, k, k), _mean(w, p, i1, j, j, k, k + 1)
    if axis == 1:
        return _mean(u, i, i + 1, q, j1, k, k), v[i, j, k], _mean(w, i, i, q, j1, k, k + 1)
    return _mean(u, i, i + 1, j, j, r, k1), _mean(v, i, i, j, j + 1, r, k1), w[i, j, k]


@inline
def _midpoint(u, v, w, dt, x, y, z, a, b, c):
    """Velocity half a step back along the velocity at a sample, which it is where that is next to none."""
    half = np.float32(0.5)
    if max(abs(dt * a), abs(dt * b), abs(dt * c)) < STILL:
        return a, b, c
    return flow(u, v, w, x - half * dt * a, y - half * dt * b, z - half * dt * c)


@inline
def _offset(axis):
    """Where a sample lies within its cell."""
    half, none = np.float32(0.5), np.float32(0.0)
    return none if axis == 0 else half, none if axis == 1 else half, none if axis == 2 else half


@parallel
def trace(u, v, w, dt, axis, from_x, from_y, from_z):
    """Where each sample was `dt` seconds ago, in index coordinates, by the midpoint rule (Bridson 2015, ch. 3)."""
    nx, ny, nz = from_x.shape
    ox, oy, oz = _offset(axis)
    for row in prange(nx):
        i = np.int64(row)
        for j in range(ny):
            for k in range(nz):
                x, y, z = np.float32(i) + ox, np.float32(j) + oy, np.float32(k) + oz
                a, b, c = _own_flow(u, v, w, axis, i, j, k)
                a, b, c = _midpoint(u, v, w, dt, x, y, z, a, b, c)
                from_x[i, j, k] = _clamped(x - dt * a - ox, nx)
                from_y[i, j, k] = _clamped(y - dt * b - oy, ny)
                from_z[i, j, k] = _clamped(z - dt * c - oz, nz)


@parallel
def trace_both(faces, dt, axis, from_x, from_y, from_z, to_x, to_y, to_z):
    """Where each sample was `dt` seconds ago and where it will be as long after; `faces`: a `Flow`."""
    nx, ny, nz = from_x.shape
    u, v, w = faces.x, faces.y, faces.z
    ox, oy, oz = _offset(axis)
    for row in prange(nx):
        i = np.int64(row)
        for j in range(ny):
            for k in range(nz):
                x, y, z = np.float32(i) + ox, np.float32(j) + oy, np.float32(k) + oz
                p, q, r = _own_flow(u, v, w, axis, i, j, k)
                a, b, c = _midpoint(u, v, w, dt, x, y, z, p, q, r)
                from_x[i, j, k] = _clamped(x - dt * a - ox, nx)
                from_y[i, j, k] = _clamped(y - dt * b - oy, ny)
                from_z[i, j, k] = _clamped(z - dt * c - oz, nz)
                a, b, c = _midpoint(u, v, w, -dt, x, y, z, p, q, r)
                to_x[i, j, k] = _clamped(x + dt * a - ox, nx)
                to_y[i, j, k] = _clamped(y + dt * b - oy, ny)
                to_z[i, j, k] = _clamped(z + dt * c - oz, nz)


@parallel
def gather(f, from_x, from_y, from_z, out):
    """Semi-Lagrangian step (Stam 1999): the value from where each sample was."""
    nx, ny, nz = f.shape
    for i in prange(nx):
        for j in range(ny):
            for k in range(nz):
                out[i, j, k] = sample(f, from_x[i, j, k], from_y[i, j, k], from_z[i, j, k])


@inline
def _limited(f, ahead, back, i, j, k, x, y, z):
    """ahead + (f - back) / 2, within the values round the place it came from."""
    one = np.uint64(1)
    value = ahead[i, j, k] + np.float32(0.5) * (f[i, j, k] - back)
    p, q, r = np.uint64(np.int32(x)), np.uint64(np.int32(y)), np.uint64(np.int32(z))
    least, most = f[p, q, r], f[p, q, r]
    for a in (p, p + one):
        for b in (q, q + one):
            for c in (r, r + one):
                least, most = min(least, f[a, b, c]), max(most, f[a, b, c])
    return min(max(value, least), most)


@parallel
def correct(f, ahead, origin, goal, out):
    """MacCormack correction: out = ahead + (f - back) / 2, within the values it came from (Selle et al. 2008).

    `ahead` is the semi-Lagrangian step of f; `origin` (`Places`) is where each sample was, `goal` where it will be,
    so that `back` is `ahead` from there.
    """
    nx, ny, nz = f.shape
    from_x, from_y, from_z, to_x, to_y, to_z = origin.x, origin.y, origin.z, goal.x, goal.y, goal.z
    for i in prange(nx):
        for j in range(ny):
            for k in range(nz):
                back = sample(ahead, to_x[i, j, k], to_y[i, j, k], to_z[i, j, k])
                out[i, j, k] = _limited(f, ahead, back, i, j, k, from_x[i, j, k], from_y[i, j, k], from_z[i, j, k])


@inline
def _weighed(f, is_open, x, y, z):
    """Trilinear value from the open cells of the eight round a place, and how much of the weight they have."""
    x, y, z = _clamped(x, f.shape[0]), _clamped(y, f.shape[1]), _clamped(z, f.shape[2])
    p, q, r = np.int32(x), np.int32(y), np.int32(z)
    a, b, c = x - np.float32(p), y - np.float32(q), z - np.float32(r)
    zero, one = np.float32(0.0), np.float32(1.0)
    total, share = zero, zero
    for di in range(2):
        wi = a if di else one - a
        for dj in range(2):
            wj = wi * (b if dj else one - b)
            for dk in range(2):
                w = wj * (c if dk else one - c)
                i, j, k = np.uint64(p + di), np.uint64(q + dj), np.uint64(r + dk)
                if is_open[i, j, k]:
                    total += w * f[i, j, k]
                    share += w
    return (total / share if share > np.float32(1e-6) else zero), share


@parallel
def gather_open(f, was_open, is_open, from_x, from_y, from_z, out):
    """Semi-Lagrangian step of what a solid neither holds nor lets through.

    Only what was in cells open before counts; cells closed now get 0.
    """
    nx, ny, nz = f.shape
    for i in prange(nx):
        for j in range(ny):
            for k in range(nz):
                value = np.float32(0.0)
                if is_open[i, j, k]:
                    value, _ = _weighed(f, was_open, from_x[i, j, k], from_y[i, j, k], from_z[i, j, k])
                out[i, j, k] = value


@parallel
def correct_open(f, ahead, is_clear, origin, goal, out):
    """MacCormack correction of the same, where both ends of the way lie clear of solids; elsewhere the plain step
    stands.

    Beside a solid that moves, the two ways do not mirror each other, and the correction would make dust from nothing.
    """
    nx, ny, nz = f.shape
    from_x, from_y, from_z, to_x, to_y, to_z = origin.x, origin.y, origin.z, goal.x, goal.y, goal.z
    whole = np.float32(0.9999)
    for i in prange(nx):
        for j in range(ny):
            for k in range(nz):
                out[i, j, k] = ahead[i, j, k]
                if not is_clear[i, j, k]:
                    continue
                x, y, z = from_x[i, j, k], from_y[i, j, k], from_z[i, j, k]
                _, here = _weighed(f, is_clear, x, y, z)
                back, there = _weighed(ahead, is_clear, to_x[i, j, k], to_y[i, j, k], to_z[i, j, k])
                if here > whole and there > whole:
                    out[i, j, k] = _limited(f, ahead, back, i, j, k, x, y, z)
