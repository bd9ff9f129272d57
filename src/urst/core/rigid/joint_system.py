"""All rows of joints at once: a chain, a linkage or a hoist is solved as one, however much heavier one link is than
another.

The rows' effective masses J M^-1 J^T make a symmetric matrix in which those meet that share a node. In an order in
which joined joints are near each other it has a narrow envelope, within which its Cholesky factor stays (George & Liu
1981, Computer Solution of Large Sparse Positive Definite Systems, ch. 4).
"""

from typing import NamedTuple

import numpy as np

from urst.core.jit import inline, serial
from urst.core.rigid.joint_kernels import LIMIT, push, rate, spun

#: what a row gives, as a fraction of its own effective mass: of rows that say the same twice each bears its share,
#: where rounding would drive them against each other
GIVE = 1e-5
#: pivots are no less than this fraction of a row's own effective mass, whatever rounding leaves
_LEAST = 1e-9


class Factor(NamedTuple):
    """The lower Cholesky factor of `d` rows that are solved at once, row by row within the envelope."""

    row: np.ndarray
    """(d,) int64, of all rows"""
    first: np.ndarray
    """(d,) int64: the first column of each row"""
    start: np.ndarray
    """(d + 1,) int64: where each begins"""
    entry: np.ndarray
    """the factor"""


@inline
def _shared(rows, inertia, n, m):
    """What a unit impulse along row m does along row n."""
    found = 0.0
    for side in range(2):
        node = rows.node[n, side]
        for other in range(2):
            if rows.node[m, other] != node:
                continue
            sign = 1.0 if side == other else -1.0
            a, b, d, e = rows.about[n, side], rows.about[m, other], rows.along[n], rows.along[m]
            x, y, z = spun(inertia.inverse[node], b[0], b[1], b[2])
            found += sign * (a[0] * x + a[1] * y + a[2] * z)
            found += sign * inertia.inverse_mass[node] * (d[0] * e[0] + d[1] * e[1] + d[2] * e[2])
    return found


@inline
def _takes_part(rows, n, gives):
    # a limit stops, it does not swing
    return rows.at_once[n] and (gives or (rows.soft[n] == 0.0 and rows.of[n, 1] != LIMIT))


@serial
def factor(rows, count, inertia, gives):
    """Factor the rows that are solved at once.

    Parameters
    ----------
    rows : JointRows
    count : int
        How many there are.
    inertia : Inertia
    gives : bool
        Whether those of springs and friction take part.

    Returns
    -------
    Factor
    """
    d = 0
    for n in range(count):
        if _takes_part(rows, n, gives):
            d += 1
    row, first, start = np.empty(d, np.int64), np.empty(d, np.int64), np.zeros(d + 1, np.int64)
    earliest = np.full(len(inertia.inverse_mass), d)
    d = 0
    for n in range(count):
        if not _takes_part(rows, n, gives):
            continue
        row[d], first[d] = n, d
        for side in range(2):
            node = rows.node[n, side]
            if inertia.inverse_mass[node] > 0.0 or inertia.inverse[node, 0] > 0.0:
                earliest[node] = min(earliest[node], d)
                first[d] = min(first[d], earliest[node])
        start[d + 1] = start[d] + d + 1 - first[d]
        d += 1
    entry = np.empty(start[d])
    for i in range(d):
        n, at = row[i], start[i] - first[i]
        for j in range(first[i], i + 1):
            value = _shared(rows, inertia, n, row[j])
            if j == i:
                value += rows.soft[n] + GIVE * value
            begin = start[j] - first[j]
            for k in range(max(first[i], first[j]), j):
                value -= entry[at + k] * entry[begin + k]
            if j < i:
                entry[at + j] = value / entry[begin + j]
            else:
                least = _LEAST * rows.weight[n]
                entry[at + i] = np.sqrt(value if value > least else max(least, 1e-30))
    return Factor(row, first, start, entry)


@serial
def _solve(f, x):
    """Solve for x (d,) in place."""
    for i in range(len(x)):
        at, value = f.start[i] - f.first[i], x[i]
        for k in range(f.first[i], i):
            value -= f.entry[at + k] * x[k]
        x[i] = value / f.entry[at + i]
    for i in range(len(x) - 1, -1, -1):
        at = f.start[i] - f.first[i]
        x[i] /= f.entry[at + i]
        for k in range(f.first[i], i):
            x[k] -= f.entry[at + k] * x[i]


@inline
def _push_all(joints, rows, f, x, velocity, held, inertia):
    for i in range(len(x)):
        n = f.row[i]
        joints.impulse[rows.of[n, 0], rows.of[n, 1]] += x[i]
        push(rows, n, velocity, inertia, x[i])
        push(rows, n, held, inertia, x[i])


@serial
def solve(joints, rows, f, velocity, held, inertia):
    """Bring all rows of the factor to where they belong at once.

    Parameters
    ----------
    joints : JointState
        Impulses are added to.
    rows : JointRows
        In the middle of the substep.
    f : Factor
    velocity : (m + 1, 6)
        Changed.
    held : (m + 1, 6)
        The changes are added.
    inertia : Inertia
    """
    x = np.empty(len(f.row))
    for i in range(len(x)):
        n = f.row[i]
        x[i] = -rate(rows, n, velocity) - rows.rate[n] * rows.error[n]
    _solve(f, x)
    _push_all(joints, rows, f, x, velocity, held, inertia)


@serial
def swing(joints, rows, f, velocity, held, inertia):
    """Turn velocities from where rigid joints hold them over one substep to where they hold them over the next.

    What goes along one chord of its circle is mirrored at the tangent between both, which goes on along the next chord
    as fast as before.

    Parameters
    ----------
    joints : JointState
        Impulses are added to.
    rows : JointRows
        At the end of the substep.
    f : Factor
        Of rows that do not give.
    velocity : (m + 1, 6)
        Changed.
    held : (m + 1, 6)
        The changes are added.
    inertia : Inertia
    """
    x = np.empty(len(f.row))
    for i in range(len(x)):
        x[i] = -2.0 * rate(rows, f.row[i], velocity)
    _solve(f, x)
    _push_all(joints, rows, f, x, velocity, held, inertia)
