"""Impulses that have done what they were for.

A substep begins with what contacts did in the last one. Where a blow takes many visits to pass through what it meets,
as when something heavy is driven into a wall that cannot give way, impulses go on growing until all stands and, begun
with again, throw it back: what was solved becomes a spring. So clusters of bodies that press each other hard begin
with that fraction of their impulses that leaves the least energy, which is the exact line search along them.
"""

import numpy as np

from urst.core.jit import inline, serial
from urst.core.rigid.sweeps import (
    ARM_I,
    ARM_J,
    CRUSH,
    FRACTION,
    HEAD,
    LANES,
    MASS_I,
    MASS_J,
    NORMAL,
    POINT,
    PUSH,
    REAL,
    RUB,
    SECOND,
    SHIFT,
    TANGENT,
    TURN_I,
    TURN_J,
    ZERO,
    Y,
    Z,
    spun,
)
from urst.core.rigid.union_find import root

#: most times that impulses are begun with again
MOST = 4.0


@inline
def _sum(r, x, slots, out):
    """Sum up the impulses of a lane: the whole, and its moments about both bodies, out (9,)."""
    out[:] = ZERO
    # where both bodies have come to, as in the sweeps
    dx, dy, dz = r[FRACTION + x] * r[SHIFT + x], r[FRACTION + x] * r[SHIFT + Y + x], r[FRACTION + x] * r[SHIFT + Z + x]
    ex, ey, ez = r[SHIFT + x] - dx, r[SHIFT + Y + x] - dy, r[SHIFT + Z + x] - dz
    for q in range(slots):
        f = HEAD + q * POINT
        u, v, w = r[f + PUSH + x], r[f + RUB + x], r[f + RUB + Y + x]
        px = u * r[NORMAL + x] + v * r[TANGENT + x] + w * r[SECOND + x]
        py = u * r[NORMAL + Y + x] + v * r[TANGENT + Y + x] + w * r[SECOND + Y + x]
        pz = u * r[NORMAL + Z + x] + v * r[TANGENT + Z + x] + w * r[SECOND + Z + x]
        ax, ay, az = r[f + ARM_I + x] + dx, r[f + ARM_I + Y + x] + dy, r[f + ARM_I + Z + x] + dz
        bx, by, bz = r[f + ARM_J + x] - ex, r[f + ARM_J + Y + x] - ey, r[f + ARM_J + Z + x] - ez
        out[0] += px
        out[1] += py
        out[2] += pz
        out[3] += ay * pz - az * py
        out[4] += az * px - ax * pz
        out[5] += ax * py - ay * px
        out[6] += by * pz - bz * py
        out[7] += bz * px - bx * pz
        out[8] += bx * py - by * px


@inline
def _give(r, x, i, j, p, factor, velocity):
    """Add to the velocities of both bodies what a fraction of the impulses of a lane does."""
    for c in range(3):
        velocity[i, c] -= factor * r[MASS_I + x] * p[c]
        velocity[j, c] += factor * r[MASS_J + x] * p[c]
    tx, ty, tz = spun(r, TURN_I, p[3], p[4], p[5], x)
    velocity[i, 3] -= factor * tx
    velocity[i, 4] -= factor * ty
    velocity[i, 5] -= factor * tz
    tx, ty, tz = spun(r, TURN_J, p[6], p[7], p[8], x)
    velocity[j, 3] += factor * tx
    velocity[j, 4] += factor * ty
    velocity[j, 5] += factor * tz


@inline
def _work(p, v, w):
    """What impulses do along velocities of both bodies."""
    total = 0.0
    for c in range(3):
        total += p[c] * (w[c] - v[c]) + p[6 + c] * w[3 + c] - p[3 + c] * v[3 + c]
    return total


@serial
def rescale_impulses(rows, free, velocity, least):
    """Bring the impulses of clusters that press each other hard to the share that leaves the least energy.

    Parameters
    ----------
    rows : Rows
        Their impulses are written.
    free : (n + 1,) bool
    velocity : (n + 1, 6)
        With what the impulses do; written.
    least : float
        A contact counts that changes the speed of its bodies by more [m/s].
    """
    n, batches = len(free), len(rows.slots)
    some, count = np.empty((batches * LANES, 2), np.int64), 0
    for b in range(batches):
        r = rows.numbers[b]
        for x in range(LANES):
            if rows.manifold[b, x] < 0:
                continue
            push = ZERO
            for q in range(rows.slots[b]):
                push += r[HEAD + q * POINT + PUSH + x]
            if push * (r[MASS_I + x] + r[MASS_J + x]) > least:
                some[count, 0], some[count, 1] = b, x
                count += 1
    if count == 0:
        return
    parent, gained = np.arange(n), np.zeros((n, 6), REAL)
    pushes = np.empty((count, 9), REAL)
    for k in range(count):
        b, x = some[k]
        i, j = rows.body[b, 0, x], rows.body[b, 1, x]
        _sum(rows.numbers[b], x, rows.slots[b], pushes[k])
        _give(rows.numbers[b], x, i, j, pushes[k], REAL(1.0), gained)
        if free[i] and free[j]:
            parent[root(parent, i)] = root(parent, j)
    # what is squeezed beyond its strength has no state of least energy to grow towards
    gives, costs, most = np.zeros(n), np.zeros(n), np.full(n, MOST)
    for k in range(count):
        b, x = some[k]
        i, j = rows.body[b, 0, x], rows.body[b, 1, x]
        c = root(parent, i if free[i] else j)
        own = _work(pushes[k], gained[i], gained[j])
        costs[c] += own
        if np.isfinite(rows.numbers[b][CRUSH + x]):
            most[c] = 1.0
        gives[c] += own - _work(pushes[k], velocity[i], velocity[j])
    for k in range(count):
        b, x = some[k]
        r, i, j = rows.numbers[b], rows.body[b, 0, x], rows.body[b, 1, x]
        c = root(parent, i if free[i] else j)
        factor = REAL(min(max(gives[c] / costs[c], 0.0), most[c])) if costs[c] > 0.0 else REAL(1.0)
        if factor != REAL(1.0):
            _give(r, x, i, j, pushes[k], factor - REAL(1.0), velocity)
            for q in range(rows.slots[b]):
                f = HEAD + q * POINT + PUSH
                r[f + x] *= factor
                r[f + Y + x] *= factor
                r[f + Z + x] *= factor
