"""Kernels of joints: rows between two bodies, each an implicit spring along or about one direction.

rows is a `JointRows` of which count are in use and n is the number of one; velocity (m + 1, 6) is the nodes',
inertia an `Inertia`; size is an impulse [N s], [N m s].
"""

from typing import NamedTuple

import numpy as np

from urst.core.bodies.mobility import LOOSE
from urst.core.jit import inline, serial
from urst.core.rigid.state import Bodies, Inertia

#: kinds of joints, in the order of the document's words
WELD, HINGE, SLIDER, BALL, ROPE, SPRING = range(6)
#: stiffest row that the substeps can carry, as the square of its angular frequency times the substep
PACE = 1.0
#: rows of a joint: three along, three about, a limit and friction
ROWS, LIMIT = 8, 6


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
    total: np.ndarray  # (j, ROWS) work: impulses over a check
    order: np.ndarray  # (j,) int64 in which they are laid out: those that share a body near each other
    at_once: np.ndarray  # (j,) uint8 which are solved with all others that they are joined to, see `joint_system`


class JointRows(NamedTuple):
    """Room for `r` rows of a substep."""

    of: np.ndarray  # (r, 2) int64 joint and its row
    node: np.ndarray  # (r, 2) int64
    along: np.ndarray  # (r, 3) direction, 0 for what is about one
    about: np.ndarray  # (r, 2, 3) what a unit of spin of each body does
    error: np.ndarray  # (r,) at the beginning of the substep [m] or [rad]
    rate: np.ndarray  # (r,) how fast it is worked off [1/s]; 0 for friction
    soft: np.ndarray  # (r,)
    most: np.ndarray  # (r,) impulse at most
    weight: np.ndarray  # (r,) what a unit impulse does
    at_once: np.ndarray  # (r,) uint8 which are solved with all others, not swept


class Rule(NamedTuple):
    """What the rows of a check are laid out for."""

    inertia: Inertia
    h: float  # the substep [s]
    lag: float  # by which springs are damped [s]


class Stand(NamedTuple):
    """Where the nodes stand and how they go."""

    bodies: Bodies  # at the check
    carrier: np.ndarray  # (n,) int64: the node of each body
    centre: np.ndarray  # (m + 1, 3) of the nodes at the check
    moved: np.ndarray  # (m + 1, 6) shifts and turns since
    velocity: np.ndarray  # (m + 1, 6)


class Pair(NamedTuple):
    """A joint and the nodes it joins."""

    joint: int
    first: int
    second: int
    at_once: int  # whether their rows are solved with all others


class Line(NamedTuple):
    """What a row works along, at an arm of each body, and about; 0 for what it does not."""

    along: np.ndarray  # (3,)
    first: np.ndarray  # (3,) [m]
    second: np.ndarray  # (3,) [m]
    about: np.ndarray  # (3,)


@serial
def room(count):
    """Return room for the rows of so many joints; see `JointRows`."""
    r = ROWS * count
    return JointRows(
        np.zeros((r, 2), np.int64),
        np.zeros((r, 2), np.int64),
        np.zeros((r, 3)),
        np.zeros((r, 2, 3)),
        np.zeros(r),
        np.zeros(r),
        np.zeros(r),
        np.zeros(r),
        np.zeros(r),
        np.zeros(r, np.uint8),
    )


@serial
def lay_out(joints, stand, rule, ahead_by, rows):
    """Lay out the rows of a substep in room for them; return how many there are.

    Errors are those where the nodes stand; directions and arms those `ahead_by` [s] later, as far as can be foreseen:
    in the middle of the substep the rows are of second order, and what swings gains no energy.

    Parameters
    ----------
    joints : JointState
    stand : Stand
    rule : Rule
    ahead_by : float
    rows : JointRows
        Written.
    """
    inertia, h, lag = rule
    position, rotation = stand.bodies.position, stand.bodies.rotation
    world = len(inertia.inverse_mass) - 1
    r = 0
    end, arm, axes = np.zeros((2, 3)), np.zeros((2, 3)), np.zeros((2, 3, 3))
    line, none, ahead, mid = np.zeros(3), np.zeros(3), np.zeros((2, 3)), np.zeros((3, 3))
    turn = np.empty((3, 3))
    for k in joints.order:
        if not joints.alive[k]:
            continue
        i, j = joints.body[k, 0], joints.body[k, 1]
        p, q = stand.carrier[i], stand.carrier[j] if j >= 0 else world
        if p == q or inertia.inverse_mass[p] + inertia.inverse_mass[q] == 0.0:
            continue
        for side in range(2):
            b, node = joints.body[k, side], p if side == 0 else q
            moved = stand.moved[node]
            _turn(moved[3], moved[4], moved[5], turn)
            if b < 0:
                for c in range(3):
                    end[side, c] = joints.anchor[k, side, c]
                    axes[side, :, c] = joints.axes[k, side, :, c]
                    arm[side, c] = 0.0
            else:
                t, a = rotation[b], joints.anchor[k, side]
                for c in range(3):
                    out = t[c, 0] * a[0] + t[c, 1] * a[1] + t[c, 2] * a[2]
                    line[c] = position[b, c] + out - stand.centre[node, c]
                _rotated(turn, line, arm[side])
                for c in range(3):
                    end[side, c] = stand.centre[node, c] + moved[c] + arm[side, c]
                for m in range(3):
                    u = joints.axes[k, side, m]
                    for c in range(3):
                        line[c] = t[c, 0] * u[0] + t[c, 1] * u[1] + t[c, 2] * u[2]
                    _rotated(turn, line, axes[side, m])
            w = stand.velocity[node]
            for c in range(3):
                ahead[side, c] = ahead_by * w[c]
            _turned(arm[side], w, ahead_by, arm[side], ahead[side])
        what, pair = joints.kind[k], Pair(k, p, q, joints.at_once[k])
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
        spin = stand.velocity[p]
        for m in range(3):
            _turned(axes[0, m], spin, ahead_by, mid[m], none)
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
                r = _row(rows, r, LIMIT, pair, Line(none, arm[0], arm[1], axis), beyond, np.inf, rule)
            else:
                r = _row(rows, r, LIMIT, pair, Line(axis, arm[0], arm[1], none), beyond, np.inf, rule)
        if joints.damping[k] > 0.0:
            if what == HINGE:
                r = _row(rows, r, 7, pair, Line(none, arm[0], arm[1], axis), 0.0, 0.0, rule)
            else:
                r = _row(rows, r, 7, pair, Line(axis, arm[0], arm[1], none), 0.0, 0.0, rule)
            rows.rate[r - 1], rows.soft[r - 1] = 0.0, 1.0 / (h * joints.damping[k])
    return r


@serial
def warm(joints, rows, count, start, inertia):
    """Add what the last impulses of the rows that are swept do to the nodes, start (m + 1, 6)."""
    old = joints.impulse.copy()
    # what has no row any more pushes no more, what is solved at once begins anew
    joints.impulse[:] = 0.0
    for n in range(count):
        k, m = rows.of[n, 0], rows.of[n, 1]
        if not rows.at_once[n]:
            joints.impulse[k, m] = old[k, m]
            push(rows, n, start, inertia, old[k, m])


@inline
def spun(a, x, y, z):
    """What a twist (x, y, z) does to the spin of a node of inverse inertia a (6,)."""
    return a[0] * x + a[1] * y + a[2] * z, a[1] * x + a[3] * y + a[4] * z, a[2] * x + a[4] * y + a[5] * z


@serial
def _turn(x, y, z, out):
    """Write the rotation by a turn (x, y, z) [rad], out (3, 3)."""
    angle = np.sqrt(x * x + y * y + z * z)
    a = np.sin(angle) / angle if angle > 1e-8 else 1.0
    b = (1.0 - np.cos(angle)) / (angle * angle) if angle > 1e-4 else 0.5
    out[0, 0], out[0, 1], out[0, 2] = 1.0 - b * (y * y + z * z), b * x * y - a * z, b * x * z + a * y
    out[1, 0], out[1, 1], out[1, 2] = b * x * y + a * z, 1.0 - b * (x * x + z * z), b * y * z - a * x
    out[2, 0], out[2, 1], out[2, 2] = b * x * z - a * y, b * y * z + a * x, 1.0 - b * (x * x + y * y)


@inline
def _rotated(turn, vector, out):
    for c in range(3):
        out[c] = turn[c, 0] * vector[0] + turn[c, 1] * vector[1] + turn[c, 2] * vector[2]


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
        x, y, z = spun(inertia.inverse[rows.node[r, side]], b[0], b[1], b[2])
        weight += b[0] * x + b[1] * y + b[2] * z
        weight += inertia.inverse_mass[rows.node[r, side]] * (along[0] ** 2 + along[1] ** 2 + along[2] ** 2)
    rows.most[r] = np.inf
    rows.along[r, 0], rows.along[r, 1], rows.along[r, 2] = along[0], along[1], along[2]
    rows.error[r], rows.rate[r], rows.weight[r], rows.at_once[r] = error, 1.0 / (h + lag), weight, pair.at_once
    stiff = stiffness if pair.at_once else min(stiffness, PACE / (h * h * max(weight, 1e-30)))
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
    x, y, z = spun(inertia.inverse[i], a[0], a[1], a[2])
    v[3] -= size * x
    v[4] -= size * y
    v[5] -= size * z
    x, y, z = spun(inertia.inverse[j], b[0], b[1], b[2])
    w[3] += size * x
    w[4] += size * y
    w[5] += size * z


@inline
def rate(rows, n, velocity):
    """How fast a row's ends part at velocities (m + 1, 6) [m/s], [rad/s]."""
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
def sweep(joints, rows, count, velocity, inertia, backward):
    """One sweep over the rows that are not solved at once: springs taken implicitly, see `bond_kernels.sweep`."""
    for number in range(count):
        n = count - 1 - number if backward else number
        if rows.at_once[n]:
            continue
        k, m = rows.of[n, 0], rows.of[n, 1]
        old = joints.impulse[k, m]
        wrong = rate(rows, n, velocity) + rows.rate[n] * rows.error[n]
        new = old - (wrong + rows.soft[n] * old) / (rows.weight[n] + rows.soft[n])
        new = min(new, rows.most[n])
        joints.impulse[k, m] = new
        push(rows, n, velocity, inertia, new - old)


@serial
def renew(joints):
    """Forget the impulses of joints that are solved at once."""
    for k in range(len(joints.kind)):
        if joints.at_once[k]:
            joints.impulse[k] = 0.0


@serial
def note(joints):
    """Add up the impulses of a substep."""
    joints.total[:] += joints.impulse


@serial
def weigh(joints, rows, count, interval):
    """Write the forces over a check of `interval` [s], of joints that have rows: what sleeps goes on bearing what it
    bore."""
    for n in range(count):
        k = rows.of[n, 0]
        square, what = 0.0, joints.kind[k]
        for m in range(ROWS):
            if m < 3 or (m >= 6 and what != HINGE):
                square += (joints.total[k, m] / interval) ** 2
        joints.force[k] = np.sqrt(square)
    joints.total[:] = 0.0


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
