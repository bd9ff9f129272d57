"""Kernels that carry fields along a flow, on a staggered grid.

Velocities live on the faces: u (nx+1, ny, nz), v (nx, ny+1, nz), w (nx, ny, nz+1), in cells a second here; scalars
in the cell centres. A field's place on the grid is told by `axis`: 0, 1, 2 for the faces across x, y, z, CENTRE for
cell centres. Where a sample comes from is traced once for all fields with the same place.

In what follows f is the field that is carried, ahead the same after the plain step, and out what is written; origin and
goal (`Places`) tell where each sample comes from and goes to. was_open, is_open and is_clear (nx, ny, nz) bool mark
cells without solids before and after the step, and those with none near.
"""

from typing import NamedTuple

import numpy as np
from numba import prange

from urst.core.jit import kernel, parallel
from urst.core.trilinear import clamped, held

CENTRE = -1
#: motion within a step so small that the velocity does not change along it to single precision [cells]
STILL = np.float32(1e-3)


class Places(NamedTuple):
    """Index coordinates of each sample somewhere else, float32."""

    x: np.ndarray
    y: np.ndarray
    z: np.ndarray


@kernel
def flow(u, v, w, x, y, z):
    """Velocity at grid coordinates (in cells from the grid's corner)."""
    h = np.float32(0.5)
    return held(u, x, y - h, z - h), held(v, x - h, y, z - h), held(w, x - h, y - h, z)


@kernel
def _mean(f, a0, a1, b0, b1, c0, c1):
    total = f[a0, b0, c0] + f[a1, b0, c0] + f[a0, b1, c0] + f[a1, b1, c0]
    total += f[a0, b0, c1] + f[a1, b0, c1] + f[a0, b1, c1] + f[a1, b1, c1]
    return np.float32(0.125) * total


@kernel
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


@kernel
def _midpoint(u, v, w, dt, at, own):
    """Velocity half a step back along the velocity `own` at a sample, which it is where that is next to none."""
    half, (x, y, z), (a, b, c) = np.float32(0.5), at, own
    if max(abs(dt * a), abs(dt * b), abs(dt * c)) < STILL:
        return a, b, c
    return flow(u, v, w, x - half * dt * a, y - half * dt * b, z - half * dt * c)


@kernel
def _offset(axis):
    """Where a sample lies within its cell."""
    half, none = np.float32(0.5), np.float32(0.0)
    return none if axis == 0 else half, none if axis == 1 else half, none if axis == 2 else half


@parallel
def trace(faces, dt, axis, origin):
    """Write where each sample was `dt` seconds ago, by the midpoint rule (Bridson 2015, ch. 3).

    Parameters
    ----------
    faces : FaceFields
        Velocity [cells/s].
    dt : float32 [s]
    axis : int
        Where the samples lie.
    origin : Places
        Written.
    """
    nx, ny, nz = origin.x.shape
    u, v, w, from_x, from_y, from_z = faces.x, faces.y, faces.z, origin.x, origin.y, origin.z
    ox, oy, oz = _offset(axis)
    for row in prange(nx):
        i = np.int64(row)
        for j in range(ny):
            for k in range(nz):
                x, y, z = np.float32(i) + ox, np.float32(j) + oy, np.float32(k) + oz
                a, b, c = _midpoint(u, v, w, dt, (x, y, z), _own_flow(u, v, w, axis, i, j, k))
                from_x[i, j, k] = clamped(x - dt * a - ox, nx)
                from_y[i, j, k] = clamped(y - dt * b - oy, ny)
                from_z[i, j, k] = clamped(z - dt * c - oz, nz)


@parallel
def trace_both(faces, dt, axis, origin, goal):
    """Write where each sample was `dt` seconds ago and where it will be as long after; see `trace`."""
    nx, ny, nz = origin.x.shape
    u, v, w = faces.x, faces.y, faces.z
    from_x, from_y, from_z, to_x, to_y, to_z = origin.x, origin.y, origin.z, goal.x, goal.y, goal.z
    ox, oy, oz = _offset(axis)
    for row in prange(nx):
        i = np.int64(row)
        for j in range(ny):
            for k in range(nz):
                x, y, z = np.float32(i) + ox, np.float32(j) + oy, np.float32(k) + oz
                own = _own_flow(u, v, w, axis, i, j, k)
                a, b, c = _midpoint(u, v, w, dt, (x, y, z), own)
                from_x[i, j, k] = clamped(x - dt * a - ox, nx)
                from_y[i, j, k] = clamped(y - dt * b - oy, ny)
                from_z[i, j, k] = clamped(z - dt * c - oz, nz)
                a, b, c = _midpoint(u, v, w, -dt, (x, y, z), own)
                to_x[i, j, k] = clamped(x + dt * a - ox, nx)
                to_y[i, j, k] = clamped(y + dt * b - oy, ny)
                to_z[i, j, k] = clamped(z + dt * c - oz, nz)


@parallel
def gather(f, origin, out):
    """Semi-Lagrangian step (Stam 1999): the value from where each sample was, `origin` (`Places`)."""
    nx, ny, nz = f.shape
    from_x, from_y, from_z = origin.x, origin.y, origin.z
    for i in prange(nx):
        for j in range(ny):
            for k in range(nz):
                out[i, j, k] = held(f, from_x[i, j, k], from_y[i, j, k], from_z[i, j, k])


@kernel
def _limited(f, value, x, y, z):
    """A value held within those round the place it came from."""
    one = np.uint64(1)
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
                back = held(ahead, to_x[i, j, k], to_y[i, j, k], to_z[i, j, k])
                value = ahead[i, j, k] + np.float32(0.5) * (f[i, j, k] - back)
                out[i, j, k] = _limited(f, value, from_x[i, j, k], from_y[i, j, k], from_z[i, j, k])


@kernel
def _weighed(f, is_open, x, y, z):
    """Trilinear value from the open cells of the eight round a place, and how much of the weight they have."""
    x, y, z = clamped(x, f.shape[0]), clamped(y, f.shape[1]), clamped(z, f.shape[2])
    p, q, r = np.int32(x), np.int32(y), np.int32(z)
    a, b, c = x - np.float32(p), y - np.float32(q), z - np.float32(r)
    zero, one = np.float32(0.0), np.float32(1.0)
    total, fraction = zero, zero
    for di in range(2):
        wi = a if di else one - a
        for dj in range(2):
            wj = wi * (b if dj else one - b)
            for dk in range(2):
                w = wj * (c if dk else one - c)
                i, j, k = np.uint64(p + di), np.uint64(q + dj), np.uint64(r + dk)
                if is_open[i, j, k]:
                    total += w * f[i, j, k]
                    fraction += w
    return (total / fraction if fraction > np.float32(1e-6) else zero), fraction


@parallel
def gather_open(f, was_open, is_open, origin, out):
    """Semi-Lagrangian step of what a solid neither holds nor lets through.

    Only what was in cells open before counts; cells closed now get 0.
    """
    nx, ny, nz = f.shape
    from_x, from_y, from_z = origin.x, origin.y, origin.z
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
                    value = ahead[i, j, k] + np.float32(0.5) * (f[i, j, k] - back)
                    out[i, j, k] = _limited(f, value, x, y, z)
