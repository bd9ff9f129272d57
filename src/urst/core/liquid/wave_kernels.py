"""Kernels of waves: sums over their trains."""

import numpy as np
from numba import prange

from urst.core.jit import parallel


@parallel
def surface(places, amplitude, omega, k, way, phase, time, out):
    """Add to out (n,) how high trains of waves stand over places (n, 2 or 3) [m].

    amplitude [m], omega [rad/s], k [1/m], phase [rad] (m,) and way (m, 2) are those of the trains, time [s].
    """
    for row in prange(len(places)):
        p, total = np.int64(row), 0.0
        for w in range(len(omega)):
            along = places[p, 0] * way[w, 0] + places[p, 1] * way[w, 1]
            total += amplitude[w] * np.cos(k[w] * along - omega[w] * time + phase[w])
        out[p] += total


@parallel
def velocity(places, height, depth, amplitude, omega, k, way, phase, time, out):
    """Write how the water goes at places (n, 3), at a height (n,) of 0 or less over the still surface, out (n, 3)
    [m/s]; the rest as for `surface`."""
    for row in prange(len(places)):
        p, u, v, up = np.int64(row), 0.0, 0.0, 0.0
        z = height[p]
        for w in range(len(omega)):
            angle = k[w] * (places[p, 0] * way[w, 0] + places[p, 1] * way[w, 1]) - omega[w] * time + phase[w]
            # cosh and sinh of k (z + d) over sinh k d, without what overflows
            a, b = np.exp(k[w] * z), np.exp(-k[w] * (z + 2.0 * depth))
            size = amplitude[w] * omega[w] / (1.0 - np.exp(-2.0 * k[w] * depth))
            along = size * (a + b) * np.cos(angle)
            u += along * way[w, 0]
            v += along * way[w, 1]
            up += size * (a - b) * np.sin(angle)
        out[p, 0], out[p, 1], out[p, 2] = u, v, up
