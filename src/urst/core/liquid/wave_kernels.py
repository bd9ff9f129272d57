"""Kernels of waves: sums over their trains.

depth [m] is that of the still water, time in seconds.
"""

from typing import NamedTuple

import numpy as np
from numba import prange

from urst.core.jit import parallel


class Trains(NamedTuple):
    """`m` trains of waves."""

    amplitude: np.ndarray  # (m,) [m]
    omega: np.ndarray  # (m,) [rad/s]
    k: np.ndarray  # (m,) [1/m]
    heading: np.ndarray  # (m, 2) unit vectors
    phase: np.ndarray  # (m,) [rad]


@parallel
def surface(places, trains, time, out):
    """Add to out (n,) how high trains of waves stand over places (n, 2 or 3) at a time [s], [m]."""
    amplitude, omega, k, heading, phase = trains
    for row in prange(len(places)):
        p, total = np.int64(row), 0.0
        for w in range(len(omega)):
            along = places[p, 0] * heading[w, 0] + places[p, 1] * heading[w, 1]
            total += amplitude[w] * np.cos(k[w] * along - omega[w] * time + phase[w])
        out[p] += total


@parallel
def velocity(places, height, depth, trains, time, out):
    """Write how the water goes at places (n, 3), at a height (n,) of 0 or less over the still surface, out (n, 3)
    [m/s]; the rest as for `surface`."""
    amplitude, omega, k, heading, phase = trains
    for row in prange(len(places)):
        p, u, v, up = np.int64(row), 0.0, 0.0, 0.0
        z = height[p]
        for w in range(len(omega)):
            angle = k[w] * (places[p, 0] * heading[w, 0] + places[p, 1] * heading[w, 1]) - omega[w] * time + phase[w]
            # cosh and sinh of k (z + d) over sinh k d, without what overflows
            a, b = np.exp(k[w] * z), np.exp(-k[w] * (z + 2.0 * depth))
            size = amplitude[w] * omega[w] / (1.0 - np.exp(-2.0 * k[w] * depth))
            along = size * (a + b) * np.cos(angle)
            u += along * heading[w, 0]
            v += along * heading[w, 1]
            up += size * (a - b) * np.sin(angle)
        out[p, 0], out[p, 1], out[p, 2] = u, v, up
