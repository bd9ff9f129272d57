"""Kernels that sample a face field about points and deposit into it with the same weights.

weight (faces, float32) is the open fraction of each face across `axis` (0, 1, 2), about an `About` with the n points;
out is written or added to.
"""

from typing import NamedTuple

import numpy as np
from numba import prange

from urst.core.jit import inline, parallel, serial


class About(NamedTuple):
    """Places on a grid, and how far about each is looked."""

    points: np.ndarray
    """(n, 3) float64 [m]"""
    reach: np.ndarray
    """(n,) half-width of the hat [cells]"""
    origin: np.ndarray
    """(3,) the grid's corner [m]"""
    cell: float
    """[m]"""


@inline
def _span(p, axis, about, shape, at, first, last):
    """Index coordinates of a point among the faces across `axis`, and the faces within its reach."""
    reach = about.reach
    for c in range(3):
        at[c] = (about.points[p, c] - about.origin[c]) / about.cell - (0.0 if c == axis else 0.5)
        first[c] = max(0, int(np.ceil(at[c] - reach[p])))
        last[c] = min(shape[c] - 1, int(np.floor(at[c] + reach[p])))


@inline
def _hat(i, j, k, at, reach):
    return (
        max(0.0, 1.0 - abs(i - at[0]) / reach)
        * max(0.0, 1.0 - abs(j - at[1]) / reach)
        * max(0.0, 1.0 - abs(k - at[2]) / reach)
    )


@parallel
def sample(u, weight, axis, about, out, response):
    """Write into column `axis` of out (n, 3) the mean of u about each point, and of response the sum of squared
    weights."""
    for p in prange(len(about.points)):
        at, first, last = np.empty(3), np.empty(3, np.int64), np.empty(3, np.int64)
        _span(p, axis, about, u.shape, at, first, last)
        total, value, square = 0.0, 0.0, 0.0
        for i in range(first[0], last[0] + 1):
            for j in range(first[1], last[1] + 1):
                for k in range(first[2], last[2] + 1):
                    w = _hat(i, j, k, at, about.reach[p]) * weight[i, j, k]
                    total += w
                    value += w * u[i, j, k]
                    square += w * w
        if total > 0.0:
            out[p, axis] = value / total
            response[p, axis] = square / (total * total)


@serial
def deposit(out, weight, axis, about, amount):
    """Add each point's amount (n,) to out (faces, float64), spread by the weights `sample` uses; points in their
    order."""
    at, first, last = np.empty(3), np.empty(3, np.int64), np.empty(3, np.int64)
    for p in range(len(about.points)):
        if amount[p] == 0.0:
            continue
        _span(p, axis, about, out.shape, at, first, last)
        total = 0.0
        for i in range(first[0], last[0] + 1):
            for j in range(first[1], last[1] + 1):
                for k in range(first[2], last[2] + 1):
                    total += _hat(i, j, k, at, about.reach[p]) * weight[i, j, k]
        if total <= 0.0:
            continue
        for i in range(first[0], last[0] + 1):
            for j in range(first[1], last[1] + 1):
                for k in range(first[2], last[2] + 1):
                    out[i, j, k] += amount[p] * (_hat(i, j, k, at, about.reach[p]) * weight[i, j, k] / total)


@serial
def take_over(held, out, axis, about):
    """Add to out (faces, float32) what deposits at these points have put into `held`, and set that to 0.

    Returns what `out` has gained, rounding included.
    """
    at, first, last = np.empty(3), np.empty(3, np.int64), np.empty(3, np.int64)
    gained = 0.0
    for p in range(len(about.points)):
        _span(p, axis, about, out.shape, at, first, last)
        for i in range(first[0], last[0] + 1):
            for j in range(first[1], last[1] + 1):
                for k in range(first[2], last[2] + 1):
                    if held[i, j, k] != 0.0:
                        before = np.float64(out[i, j, k])
                        out[i, j, k] = np.float32(before + held[i, j, k])
                        gained += np.float64(out[i, j, k]) - before
                        held[i, j, k] = 0.0
    return gained


@serial
def clear(out, axis, about):
    """Set to 0 all that deposits at these points have touched."""
    at, first, last = np.empty(3), np.empty(3, np.int64), np.empty(3, np.int64)
    for p in range(len(about.points)):
        _span(p, axis, about, out.shape, at, first, last)
        for i in range(first[0], last[0] + 1):
            for j in range(first[1], last[1] + 1):
                for k in range(first[2], last[2] + 1):
                    out[i, j, k] = 0.0
