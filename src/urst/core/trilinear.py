"""Fields sampled straight between their samples, the one way for all grids.

Places are index coordinates: a whole number is a sample. Numbers keep the precision of the field and the place.

f is a field of three axes, (p, q, r) a sample's indices and (x, y, z) a place.
"""

import numpy as np

from urst.core.jit import kernel


@kernel
def clamped(x, n):
    """An index coordinate held within the `n` samples of an axis."""
    return min(max(x, np.float32(0.0)), np.float32(n) - np.float32(1.001))


@kernel
def between(f, p, q, r, a, b, c):
    """The value at shares (a, b, c) of the way from the sample (p, q, r) to the one after it along each axis."""
    # unsigned, so that none is taken for an index from the end
    i, j, k = np.uint64(p), np.uint64(q), np.uint64(r)
    i1, j1, k1 = i + np.uint64(1), j + np.uint64(1), k + np.uint64(1)
    near = f[i, j, k] + c * (f[i, j, k1] - f[i, j, k])
    up = f[i, j1, k] + c * (f[i, j1, k1] - f[i, j1, k])
    far = f[i1, j, k] + c * (f[i1, j, k1] - f[i1, j, k])
    both = f[i1, j1, k] + c * (f[i1, j1, k1] - f[i1, j1, k])
    near, far = near + b * (up - near), far + b * (both - far)
    return near + a * (far - near)


@kernel
def corners(f, p, q, r):
    """The sample (p, q, r) and those after it, the last axis the quickest."""
    i, j, k = np.uint64(p), np.uint64(q), np.uint64(r)
    i1, j1, k1 = i + np.uint64(1), j + np.uint64(1), k + np.uint64(1)
    return f[i, j, k], f[i, j, k1], f[i, j1, k], f[i, j1, k1], f[i1, j, k], f[i1, j, k1], f[i1, j1, k], f[i1, j1, k1]


@kernel
def slopes(eight, a, b, c):
    """The value at shares (a, b, c) of the way between eight corners, and its slope along each axis a sample."""
    near, near_on, up, up_on, far, far_on, both, both_on = eight
    near_z, up_z, far_z, both_z = near_on - near, up_on - up, far_on - far, both_on - both
    near, up, far, both = near + c * near_z, up + c * up_z, far + c * far_z, both + c * both_z
    near_y, far_y = up - near, both - far
    near, far = near + b * near_y, far + b * far_y
    near_z, far_z = near_z + b * (up_z - near_z), far_z + b * (both_z - far_z)
    along = far - near
    return near + a * along, along, near_y + a * (far_y - near_y), near_z + a * (far_z - near_z)


@kernel
def held(f, x, y, z):
    """The value at a place, constant beyond the samples."""
    x, y, z = clamped(x, f.shape[0]), clamped(y, f.shape[1]), clamped(z, f.shape[2])
    # by way of signed integers: a processor turns unsigned ones into floats only in several steps
    p, q, r = np.int32(x), np.int32(y), np.int32(z)
    return between(f, p, q, r, x - np.float32(p), y - np.float32(q), z - np.float32(r))


@kernel
def onward(f, x, y, z):
    """The value at a place, going on straight beyond the samples, as a distance does."""
    p = min(max(np.int32(np.floor(x)), 0), f.shape[0] - 2)
    q = min(max(np.int32(np.floor(y)), 0), f.shape[1] - 2)
    r = min(max(np.int32(np.floor(z)), 0), f.shape[2] - 2)
    return between(f, p, q, r, x - np.float32(p), y - np.float32(q), z - np.float32(r))


@kernel
def in_cells(f, x, y, z):
    """The value of what lies in cells' middles at a place in cells from the grid's corner, constant beyond them."""
    half = np.float32(0.5)
    return held(f, x - half, y - half, z - half)
