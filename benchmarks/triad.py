"""The yardstick: a triad a = b + s c over float32, in the same run as what is measured."""

import time
from statistics import median

import numpy as np
from numba import prange

from urst.core.jit import parallel


@parallel
def _triad(a, b, c, s):
    for i in prange(len(a)):
        a[i] = b[i] + s * c[i]


def triad_seconds_per_element() -> float:
    """Seconds the triad takes for one element, from memory rather than cache."""
    n = 32_000_000
    a, b, c = (np.ones(n, np.float32) for _ in range(3))
    _triad(a, b, c, np.float32(2))
    return timed(lambda: _triad(a, b, c, np.float32(2)), 7) / n


def timed(work, times: int = 5) -> float:
    """Median wall seconds of some runs after a warm-up."""
    work()
    seconds = []
    for _ in range(times):
        began = time.perf_counter()
        work()
        seconds.append(time.perf_counter() - began)
    return median(seconds)
