"""Fields of cells at places between their middles, in kernels."""

import numpy as np

from urst.core.jit import inline

ZERO, HALF, ONE = np.float32(0.0), np.float32(0.5), np.float32(1.0)


@inline
def between(f, x, y, z):
    """A field of cells at a place, straight between their middles."""
    x = min(max(x - HALF, ZERO), np.float32(f.shape[0] - 1.001))
    y = min(max(y - HALF, ZERO), np.float32(f.shape[1] - 1.001))
    z = min(max(z - HALF, ZERO), np.float32(f.shape[2] - 1.001))
    i, j, k = np.int32(x), np.int32(y), np.int32(z)
    a, b, c = x - np.float32(i), y - np.float32(j), z - np.float32(k)
    low = (ONE - b) * ((ONE - c) * f[i, j, k] + c * f[i, j, k + 1]) + b * (
        (ONE - c) * f[i, j + 1, k] + c * f[i, j + 1, k + 1]
    )
    i += 1
    high = (ONE - b) * ((ONE - c) * f[i, j, k] + c * f[i, j, k + 1]) + b * (
        (ONE - c) * f[i, j + 1, k] + c * f[i, j + 1, k + 1]
    )
    return (ONE - a) * low + a * high
