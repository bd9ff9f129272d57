"""Kernels of joints: rows between two bodies, each an implicit spring along or about one direction.

rows is a `Rows` of which count are in use and n is the number of one; velocity and moved (m + 1, 6) are the nodes',
inertia an `Inertia`; size is an impulse [N s], [N m s].
"""

from typing import NamedTuple

import numpy as np

from urst.core.bodies.mobility import LOOSE
from urst.core.jit import inline, serial
from urst.core.rigid.state import Inertia

#: kinds of joints, in the order of the document's words
WELD, HINGE, SLIDER, BALL, ROPE, SPRING = range(6)
#: stiffest row that the substeps can carry, as the square of its angular frequency times the substep
PACE = 1.0
#: rows of a joint: three along, three about, a limit and friction
ROWS = 8


class JointState(NamedTuple):
    """`j` joints; a second body of -1 is the world, whose frame stands still."""

    kind: np.ndarray  # (j,) int64
    body: np.ndarray  # (j, 2) int64
    anchor: np.ndarray  # (j, 2, 3) in each body's frame
    axes: np.ndarray  # (j, 2, 3, 3) the axis and two across it, one a row, in each body's frame
    low: np.ndarray  # (j,) limits of the turn or the way [rad] or [m]; of a rope its length
    high: np.ndarray  # (j,)
    stiffness: np.ndarray  # (j,) of a spring [N/m]
    damping: np.ndarray  # (j,) against turning or sliding, or of a spring [N m s] or [N s/m]
    strength: np.ndarray  # (j,) force that it carries [N]
    alive: np.ndarray  # (j,) uint8
    impulse: np.ndarray  # (j, ROWS) over the last substep [N s] or [N m s]
    force: np.ndarray  # (j,) mean over the last check [N]


class JointRows(NamedTuple):
    """`r` rows of a check."""

    of: np.ndarray  # (r, 2) int64 joint and its row
    node: np.ndarray  # (r, 2) int64
    along: np.ndarray  # (r, 3) direction, 0 for what is about one
    about: np.ndarray  # (r, 2, 3) what a unit of spin of each body does
    error: np.ndarray  # (r,) at the check [m] or [rad]
    rate: np.ndarray  # (r,) how fast it is worked off [1/s]; 0 for friction
    soft: np.ndarray  # (r,)
    most: np.ndarray  # (r,) impulse at most
    weight: np.ndarray  # (r,) what a unit impulse does
    total: np.ndarray  # (r,) sum of impulses over the check


class Rule(NamedTuple):
    """What the rows of a check are laid out for."""

    inertia: Inertia
    h: float  # the substep [s]
    lag: float  # by which springs are damped [s]


class Pair(NamedTuple):
    """A joint and the nodes it joins."""

    joint: int
    first: int
    second: int


class Line(NamedTuple):
    """What a row works along, at an arm of each body, and about; 0 for what it does not."""

    along: np.ndarray  # (3,)
    first: np.ndarray  # (3,) [m]
    second: np.ndarray  # (3,) [m]
    about: np.ndarray  # (3,)


@serial
def lay_out(joints, bodies, carrier, centre, velocity, start, rule, half):
    """Lay out the rows of a check and add what their last impulses do to the nodes, start (m + 1, 6); see `JointRows`.

    Errors are those at its beginning; directions and arms those in its middle, `half` [s] later, as far as can be
    foreseen: the rows are of second order then, and what swings gains no energy.
    """
    inertia, h, lag = rule
    position, rotation = bodies.position, bodies.rotation
    world = len(inertia.inverse_mass) - 1
    room = ROWS * len(joints.kind)
    rows = JointRows(
        np.zeros((room, 2), np.int64),
        np.zeros((room, 2), np.int64),
        np.zeros((room, 3)),
        np.zeros((room, 2, 3)),
        np.zeros(room),
        np.zeros(room),
        np.zeros(room),
        np.full(room, np.inf),
        np.zeros(room),
        np.zeros(room),
    )
    r = 0
    end, arm, axes = np.zeros((2, 3)), np.zeros((2, 3)), np.zeros((2, 3, 3))
    line, none, ahead, mid = np.zeros(3), np.zeros(3), np.zeros((2, 3)), np.zeros((3, 3))
    for k in range(len(joints.kind)):
        if not joints.alive[k]:
            continue
        i, j = joints.body[k, 0], joints.body[k, 1]
        p, q = carrier[i], carrier[j] if j >= 0 else world
        if p == q or inertia.inverse_mass[p] + inertia.inverse_mass[q] == 0.0:
            continue
        for side in range(2):
            b = joints.body[k, side]
            for c in range(3):
                if b < 0:
                    end[side, c] = joints.anchor[k, side, c]
                    axes[side, :, c] = joints.axes[k, side, :, c]
                    arm[side, c] = 0.0
                    continue
                t, a = rotation[b], joints.anchor[k, side]
                out = t[c, 0] * a[0] + t[c, 1] * a[1] + t[c, 2] * a[2]
                end[side, c] = position[b, c] + out
                arm[side, c] = end[side, c] - centre[carrier[b], c]
                for m in range(3):
                    u = joints.axes[k, side, m]
                    axes[side, m, c] = t[c, 0] * u[0] + t[c, 1] * u[1] + t[c, 2] * u[2]
            w = velocity[carrier[b] if b >= 0 else world]
            for c in range(3):
                ahead[side, c] = half * w[c]
            _turned(arm[side], w, half, arm[side], ahead[side])
        what, pair = joints.kind[k], Pair(k, p, q)
        if what == ROPE or what == SPRING:
            apart = 0.0
            for c in range(3):
                line[c] = end[1, c] - end[0, c]
                apart += line[c] ** 2
            apart = np.sqrt(apart)
            if apart > 1e-9:
                later = 0.0
                for c in range(3):
                    line[c] += ahead[1, c] - ahead[0, c]
                    later += line[c] ** 2
                for c in range(3):
                    line[c] /= np.sqrt(later)
                error = apart - joints.low[k]
                if what == SPRING or error > -0.01 * joints.low[k]:
                    stiff = joints.stiffness[k] if what == SPRING else np.inf
                    r = _row(rows, r, 0, pair, Line(line, arm[0], arm[1], none), error, stiff, rule)
                    if what == ROPE:
                        # it pulls, and does not push
                        rows.most[r - 1] = 0.0
                if what == SPRING and joints.damping[k] > 0.0:
                    r = _row(rows, r, 7, pair, Line(line, arm[0], arm[1], none), 0.0, 0.0, rule)
                    rows.rate[r - 1], rows.soft[r - 1] = 0.0, 1.0 / (h * joints.damping[k])
            continue
        # both are pushed at one point
        for c in range(3):
            gap = 0.5 * (end[1, c] + ahead[1, c] - end[0, c] - ahead[0, c])
            if what != SLIDER:
                arm[0, c] += gap
                arm[1, c] -= gap
        spin = velocity[p]
        for m in range(3):
            _turned(axes[0, m], spin, half, mid[m], none)
        none[:] = 0.0
        reached = 0.0
        for m in range(3):
            error = 0.0
            for c in range(3):
                error += axes[0, m, c] * (end[1, c] - end[0, c])
            if what == SLIDER and m == 0:
                reached = error
                continue
            if what == SLIDER:
                # the second slides along the first: it is pushed where it is
                for c in range(3):
                    line[c] = arm[0, c] + end[1, c] + ahead[1, c] - end[0, c] - ahead[0, c]
                r = _row(rows, r, m, pair, Line(mid[m], line, arm[1], none), error, np.inf, rule)
                continue
            r = _row(rows, r, m, pair, Line(mid[m], arm[0], arm[1], none), error, np.inf, rule)
        if what == BALL:
            continue
        for m in range(3):
            if what == HINGE and m == 0:
                continue
            error = 0.0
            if what == HINGE:
                # how the two axes lie off each other
                cross0 = axes[0, 0, 1] * axes[1, 0, 2] - axes[0, 0, 2] * axes[1, 0, 1]
                cross1 = axes[0, 0, 2] * axes[1, 0, 0] - axes[0, 0, 0] * axes[1, 0, 2]
                cross2 = axes[0, 0, 0] * axes[1, 0, 1] - axes[0, 0, 1] * axes[1, 0, 0]
                error = axes[0, m, 0] * cross0 + axes[0, m, 1] * cross1 + axes[0, m, 2] * cross2
            else:
                # half the sum of the crosses of all three axes is the turn between them
                for n in range(3):
                    u, v = axes[0, n], axes[1, n]
                    error += 0.5 * axes[0, m, 0] * (u[1] * v[2] - u[2] * v[1])
                    error += 0.5 * axes[0, m, 1] * (u[2] * v[0] - u[0] * v[2])
                    error += 0.5 * axes[0, m, 2] * (u[0] * v[1] - u[1] * v[0])
            r = _row(rows, r, 3 + m, pair, Line(none, arm[0], arm[1], mid[m]), error, np.inf, rule)
        if what == WELD:
            continue
        axis = mid[0]
        if what == HINGE:
            sine, cosine = 0.0, 0.0
            for c in range(3):
                sine += axes[0, 2, c] * axes[1, 1, c]
                cosine += axes[0, 1, c] * axes[1, 1, c]
            reached = np.arctan2(sine, cosine)
        beyond = reached - joints.high[k] if reached > joints.high[k] else reached - joints.low[k]
        if reached > joints.high[k] or reached < joints.low[k]:
            if what == HINGE:
                r = _row(rows, r, 6, pair, Line(none, arm[0], arm[1], axis), beyond, np.inf, rule)
            else:
                r = _row(rows, r, 6, pair, Line(axis, arm[0], arm[1], none), beyond, np.inf, rule)
        if joints.damping[k] > 0.0:
            if what == HINGE:
                r = _row(rows, r, 7, pair, Line(none, arm[0], arm[1], axis), 0.0, 0.0, rule)
            else:
                r = _row(rows, r, 7, pair, Line(axis, arm[0], arm[1], none), 0.0, 0.0, rule)
            rows.rate[r - 1], rows.soft[r - 1] = 0.0, 1.0 / (h * joints.damping[k])
    # what has no row any more pushes no more
    old = joints.impulse.copy()
    joints.impulse[:] = 0.0
    for n in range(r):
        k, m = rows.of[n, 0], rows.of[n, 1]
        joints.impulse[k, m] = old[k, m]
        push(rows, n, start, inertia, old[k, m])
    return rows, r


@inline
def _spun(a, x, y, z):
    return a[0] * x + a[1] * y + a[2] * z, a[1] * x + a[3] * y + a[4] * z, a[2] * x + a[4] * y + a[5] * z


@serial
def _turned(vector, w, time, out, shift):
    """Turn a vector by the spin of a velocity w (6,) over a time; what it moves by is added to `shift`."""
    x, y, z = vector[0], vector[1], vector[2]
    u, v, s = time * w[3], time * w[4], time * w[5]
    # the turn to second order, of unchanged length
    dx, dy, dz = v * z - s * y, s * x - u * z, u * y - v * x
    ex, ey, ez = v * dz - s * dy, s * dx - u * dz, u * dy - v * dx
    before = np.sqrt(x * x + y * y + z * z)
    nx, ny, nz = x + dx + 0.5 * ex, y + dy + 0.5 * ey, z + dz + 0.5 * ez
    after = np.sqrt(nx * nx + ny * ny + nz * nz)
    f = before / after if after > 0.0 else 1.0
    out[0], out[1], out[2] = f * nx, f * ny, f * nz
    shift[0] += out[0] - x
    shift[1] += out[1] - y
    shift[2] += out[2] - z


@serial
def _row(rows, r, m, pair, line, error, stiffness, rule):
    """Write row `m` of a joint as the `r`th; return the number of the next."""
    along, about, inertia, h, lag = line.along, line.about, rule.inertia, rule.h, rule.lag
    rows.of[r, 0], rows.of[r, 1], rows.node[r, 0], rows.node[r, 1] = pair.joint, m, pair.first, pair.second
    weight = 0.0
    for side in range(2):
        a = line.first if side == 0 else line.second
        b = rows.about[r, side]
        b[0] = about[0] + a[1] * along[2] - a[2] * along[1]
        b[1] = about[1] + a[2] * along[0] - a[0] * along[2]
        b[2] = about[2] + a[0] * along[1] - a[1] * along[0]
        x, y, z = _spun(inertia.inverse[rows.node[r, side]], b[0], b[1], b[2])
        weight += b[0] * x + b[1] * y + b[2] * z
        weight += inertia.inverse_mass[rows.node[r, side]] * (along[0] ** 2 + along[1] ** 2 + along[2] ** 2)
    rows.along[r, 0], rows.along[r, 1], rows.along[r, 2] = along[0], along[1], along[2]
    rows.error[r], rows.rate[r], rows.weight[r] = error, 1.0 / (h + lag), weight
    stiff = min(stiffness, PACE / (h * h * max(weight, 1e-30)))
    rows.soft[r] = 1.0 / (h * (h + lag) * stiff) if stiff > 0.0 else 0.0
    return r + 1


@inline
def push(rows, n, velocity, inertia, size):
    """Apply an impulse along a row to both nodes."""
    d, i, j = rows.along[n], rows.node[n, 0], rows.node[n, 1]
    a, b, v, w = rows.about[n, 0], rows.about[n, 1], velocity[i], velocity[j]
    mi, mj = inertia.inverse_mass[i] * size, inertia.inverse_mass[j] * size
    v[0] -= mi * d[0]
    v[1] -= mi * d[1]
    v[2] -= mi * d[2]
    w[0] += mj * d[0]
    w[1] += mj * d[1]
    w[2] += mj * d[2]
    x, y, z = _spun(inertia.inverse[i], a[0], a[1], a[2])
    v[3] -= size * x
    v[4] -= size * y
    v[5] -= size * z
    x, y, z = _spun(inertia.inverse[j], b[0], b[1], b[2])
    w[3] += size * x
    w[4] += size * y
    w[5] += size * z


@inline
def _rate(rows, n, velocity):
    d, i, j = rows.along[n], rows.node[n, 0], rows.node[n, 1]
    a, b, v, w = rows.about[n, 0], rows.about[n, 1], velocity[i], velocity[j]
    return (
        d[0] * (w[0] - v[0])
        + d[1] * (w[1] - v[1])
        + d[2] * (w[2] - v[2])
        + b[0] * w[3]
        + b[1] * w[4]
        + b[2] * w[5]
        - a[0] * v[3]
        - a[1] * v[4]
        - a[2] * v[5]
    )


@serial
def sweep(joints, rows, count, velocity, moved, inertia, backward):
    """One sweep over the rows: springs taken implicitly, see `bond_kernels.sweep`."""
    for number in range(count):
        n = count - 1 - number if backward else number
        k, m = rows.of[n, 0], rows.of[n, 1]
        old = joints.impulse[k, m]
        wrong = _rate(rows, n, velocity) + rows.rate[n] * (rows.error[n] + _rate(rows, n, moved))
        new = old - (wrong + rows.soft[n] * old) / (rows.weight[n] + rows.soft[n])
        new = min(new, rows.most[n])
        joints.impulse[k, m] = new
        push(rows, n, velocity, inertia, new - old)


@serial
def note(joints, rows, count, interval):
    """Add up the impulses of a substep, and at the end of a check of `interval` [s] (0 before) write the forces."""
    if interval == 0.0:
        for n in range(count):
            rows.total[n] += joints.impulse[rows.of[n, 0], rows.of[n, 1]]
        return
    square = np.zeros(len(joints.kind))
    for n in range(count):
        d = rows.along[n]
        if d[0] != 0.0 or d[1] != 0.0 or d[2] != 0.0:
            square[rows.of[n, 0]] += (rows.total[n] / interval) ** 2
    for k in range(len(square)):
        joints.force[k] = np.sqrt(square[k])


@serial
def join(n, kind, body, alive, label):
    """Join the labels (n,) of loose bodies that joints hold together; see `bond_kernels.clusters`."""
    changed = True
    while changed:
        changed = False
        for k in range(len(body)):
            i, j = body[k, 0], body[k, 1]
            if alive[k] and j >= 0 and kind[i] == LOOSE and kind[j] == LOOSE and label[i] != label[j]:
                low, high = min(label[i], label[j]), max(label[i], label[j])
                for b in range(n):
                    if label[b] == high:
                        label[b] = low
                changed = True
