"""Sweeps over contacts: sequential impulses, eight manifolds side by side.

A batch holds eight manifolds of one colour, no two of which move the same body, so that its lanes may be solved
together and the batches of a colour in any order. All that a sweep needs lies in one array, field by field with the
lanes innermost: that is what the compiler turns into vector instructions, so the loops over lanes are kept free of
anything but arithmetic.

r is the array of one batch, rows a `Rows`, x a lane and (tx, ty, tz) a twist [N m s].
"""

from typing import NamedTuple

import numpy as np

from urst.core.jit import fused, inline, serial

#: what the sweeps reckon in: they give changes of velocity, which are added up in 64 bits
REAL = np.float32
#: manifolds in a batch
LANES = 8
#: points of a manifold
POINTS = 4
#: most rounds over what still changes much, and batches that they may visit in any case
HOT_ROUNDS, HOT_BATCHES = 32, 64

ZERO, HALF, ONE, THREE, TINY = REAL(0.0), REAL(0.5), REAL(1.0), REAL(3.0), REAL(1e-30)
#: what is not farther apart counts as closed once bodies have moved [m]
SKIN = REAL(2e-5)
#: entries from one component of a vector to the next
Y, Z = LANES, 2 * LANES
#: fields of a manifold: the normal, both tangents, the inverse inertias (xx, xy, xz, yy, yz, zz), inverse masses,
#: friction, restitution, how far its points go along with the second body, the greatest normal impulse of a point; how
#: far the bodies have shifted against each other since the check, and the twist that this owes them; then the sum of
#: all normal impulses
NORMAL, TANGENT, SECOND, TURN_I, TURN_J, MASS_I, MASS_J, FRICTION, BOUNCE, FRACTION, CRUSH, SHIFT, TWIST, LOAD = (
    k * LANES for k in (0, 3, 6, 9, 15, 21, 22, 23, 24, 25, 26, 27, 30, 33)
)
#: how many of them are taken in hand, and where the points begin
GIVEN, HEAD = LOAD, 34 * LANES
#: fields of a point: arms, gap at the check, effective mass, what a normal impulse does along the tangents, inverse
#: of the tangents' block, weight in slip; then what changes: impulses, gap now, speed to leave with
ARM_I, ARM_J, GAP, WEIGHT, COUPLE, BLOCK, SLIP, PUSH, RUB, NOW, LEAVE = (
    k * LANES for k in (0, 3, 6, 7, 8, 10, 13, 14, 15, 17, 18)
)
POINT, CHANGING = 19 * LANES, PUSH
#: numbers of a batch
BATCH = HEAD + POINTS * POINT
#: what is in hand: the fields of a manifold, those of a point, velocities and spins of both bodies, how far they have
#: moved and turned since the check, velocities and spins before, the sum of the impulses of all points, velocities
#: and spins with which the substep began, and by how much the visit was too strong to be the last
HAND, V_I, W_I, V_J, W_J, X_I, Q_I, X_J, Q_J, OLD_I, OLD_J, SUM, C_I, D_I, C_J, D_J, HOT = (
    k * LANES for k in (33, 52, 55, 58, 61, 64, 67, 70, 73, 76, 82, 88, 91, 94, 97, 100, 103)
)
WORK = 104 * LANES


class Rules(NamedTuple):
    """How a sweep treats a contact."""

    h: np.floating
    """substep [s]"""
    recovery: np.floating
    """fraction of an overlap worked off a second [1/s]"""
    push_speed: np.floating
    """fastest way out of an overlap [m/s]"""
    leak: np.floating
    """fraction of its impulse a closed contact forgets a sweep, at most"""
    leak_depth: np.floating
    """overlap that the leak may hold against the recovery [m]"""
    hot_speed: np.floating
    """change of speed by which a manifold calls for another sweep [m/s]"""
    hot_fraction: np.floating
    """the same as a fraction of the faster body's speed"""
    bounce_speed: np.floating
    """approaches slower than this do not bounce [m/s]"""


@inline
def _against(r, first, second, a, b, x):
    """How a point of the second body, at the arm b, goes against one of the first, at the arm a.

    first, second: where velocity and spin of each stand in hand, or its shift and turn.
    """
    (v, w), (u, q), (ax, ay, az), (bx, by, bz) = first, second, a, b
    return (
        r[u + x] + r[q + Y + x] * bz - r[q + Z + x] * by - r[v + x] - r[w + Y + x] * az + r[w + Z + x] * ay,
        r[u + Y + x] + r[q + Z + x] * bx - r[q + x] * bz - r[v + Y + x] - r[w + Z + x] * ax + r[w + x] * az,
        r[u + Z + x] + r[q + x] * by - r[q + Y + x] * bx - r[v + Z + x] - r[w + x] * ay + r[w + Y + x] * ax,
    )


@inline
def _measure(r):
    """Bring the gaps of the points in hand up to date by how far both bodies have moved since the check."""
    for x in range(LANES):
        ax, ay, az = r[HAND + ARM_I + x], r[HAND + ARM_I + Y + x], r[HAND + ARM_I + Z + x]
        bx, by, bz = r[HAND + ARM_J + x], r[HAND + ARM_J + Y + x], r[HAND + ARM_J + Z + x]
        dx, dy, dz = _against(r, (X_I, Q_I), (X_J, Q_J), (ax, ay, az), (bx, by, bz), x)
        r[HAND + NOW + x] = r[HAND + GAP + x] + r[NORMAL + x] * dx + r[NORMAL + Y + x] * dy + r[NORMAL + Z + x] * dz


@inline
def spun(r, turn, tx, ty, tz, x):
    """What a twist does to the spin of the body whose inverse inertia stands at `turn`."""
    return (
        r[turn + x] * tx + r[turn + LANES + x] * ty + r[turn + 2 * LANES + x] * tz,
        r[turn + LANES + x] * tx + r[turn + 3 * LANES + x] * ty + r[turn + 4 * LANES + x] * tz,
        r[turn + 2 * LANES + x] * tx + r[turn + 4 * LANES + x] * ty + r[turn + 5 * LANES + x] * tz,
    )


@inline
def _add(r, at, sign, dx, dy, dz, x):
    r[at + x] += sign * dx
    r[at + Y + x] += sign * dy
    r[at + Z + x] += sign * dz


@inline
def _shift(r, biased):
    """Move the arms on, so that both bodies are pushed at one point wherever they have come to: angular momentum is
    kept.

    What was pushed before the last move was pushed where the bodies stood then; a new substep begins with the same
    pushes, and owes the twist by which they differ where the bodies stand now.
    """
    for x in range(LANES):
        # each body gives back its part of what is owed
        i, j = biased * r[FRACTION + x], biased * (ONE - r[FRACTION + x])
        tx, ty, tz = r[TWIST + x], r[TWIST + Y + x], r[TWIST + Z + x]
        dx, dy, dz = spun(r, TURN_I, i * tx, i * ty, i * tz, x)
        _add(r, W_I, -ONE, dx, dy, dz, x)
        dx, dy, dz = spun(r, TURN_J, j * tx, j * ty, j * tz, x)
        _add(r, W_J, -ONE, dx, dy, dz, x)
        for c in range(3):
            k = c * LANES + x
            s = r[X_J + k] - r[X_I + k]
            r[TWIST + k] = s - r[SHIFT + k]
            r[SHIFT + k] = s
            r[SUM + k] = ZERO


@inline
def _owe(r, biased):
    """Note the twist that is owed, of what the last shift did to the sum of the pushes before it; see `_shift`."""
    for x in range(LANES):
        n, u, v = r[SUM + x], r[SUM + Y + x], r[SUM + Z + x]
        px = n * r[NORMAL + x] + u * r[TANGENT + x] + v * r[SECOND + x]
        py = n * r[NORMAL + Y + x] + u * r[TANGENT + Y + x] + v * r[SECOND + Y + x]
        pz = n * r[NORMAL + Z + x] + u * r[TANGENT + Z + x] + v * r[SECOND + Z + x]
        dx, dy, dz = r[TWIST + x], r[TWIST + Y + x], r[TWIST + Z + x]
        r[TWIST + x] = (ONE - biased) * (dy * pz - dz * py)
        r[TWIST + Y + x] = (ONE - biased) * (dz * px - dx * pz)
        r[TWIST + Z + x] = (ONE - biased) * (dx * py - dy * px)


@inline
def _speed_of_coming(r, x):
    """How fast the point in hand comes apart, as the bodies came."""
    ax, ay, az = r[HAND + ARM_I + x], r[HAND + ARM_I + Y + x], r[HAND + ARM_I + Z + x]
    bx, by, bz = r[HAND + ARM_J + x], r[HAND + ARM_J + Y + x], r[HAND + ARM_J + Z + x]
    vx, vy, vz = _against(r, (C_I, D_I), (C_J, D_J), (ax, ay, az), (bx, by, bz), x)
    return vx * r[NORMAL + x] + vy * r[NORMAL + Y + x] + vz * r[NORMAL + Z + x]


@inline
def _approach(r, rules):
    """Note which of the points in hand bounce if they are hit in this substep: those that nothing has pressed yet;
    returns whether any is by how the bodies come."""
    any_is = False
    for x in range(LANES):
        bounces = r[BOUNCE + x] > ZERO and r[HAND + PUSH + x] == ZERO
        r[HAND + LEAVE + x] = READY if bounces else ZERO
        any_is = any_is or (bounces and _closes(r, rules, _speed_of_coming(r, x), x))
    return any_is


@inline
def _closes(r, rules, speed, x):
    """Whether the point in hand closes in this substep at a speed, fast enough to bounce."""
    return speed < -rules.bounce_speed and r[HAND + NOW + x] + rules.h * speed < ZERO


@inline
def _take(r, point):
    """Take in hand of a point what tells how it comes: arms, gap, mass; impulse, gap now and speed to leave with."""
    for x in range(8 * LANES):
        r[HAND + x] = point[x]
    for x in range(LANES):
        r[HAND + PUSH + x], r[HAND + NOW + x], r[HAND + LEAVE + x] = point[PUSH + x], point[NOW + x], point[LEAVE + x]


@inline
def _aim(r, rules, goal, k):
    """Note with what speed the points in hand, the k-th of their manifolds, are to leave if they close now, UNMET for
    those that do not; returns whether any does."""
    any_does = False
    for x in range(LANES):
        speed = _speed_of_coming(r, x)
        hits = r[HAND + LEAVE + x] != ZERO and _closes(r, rules, speed, x)
        goal[k * LANES + x] = -r[BOUNCE + x] * speed if hits else UNMET
        if hits:
            any_does = True
            r[HAND + LEAVE + x] = ONE
    return any_does


@inline
def _bounce(r, goal, blow, k):
    """Bring the points in hand nearer to the speed they are to leave with, by what each has been hit with, `blow`;
    returns by how much the worst was off [m/s]."""
    off = ZERO
    for x in range(LANES):
        if goal[k * LANES + x] == UNMET:
            continue
        was = blow[k * LANES + x]
        mass = r[HAND + WEIGHT + x]
        now = max(was + (goal[k * LANES + x] - _speed_of_coming(r, x)) * mass, ZERO)
        blow[k * LANES + x] = now
        p = now - was
        off = max(off, abs(p) / max(mass, TINY))
        px, py, pz = p * r[NORMAL + x], p * r[NORMAL + Y + x], p * r[NORMAL + Z + x]
        ax, ay, az = r[HAND + ARM_I + x], r[HAND + ARM_I + Y + x], r[HAND + ARM_I + Z + x]
        bx, by, bz = r[HAND + ARM_J + x], r[HAND + ARM_J + Y + x], r[HAND + ARM_J + Z + x]
        _add(r, C_I, -r[MASS_I + x], px, py, pz, x)
        _add(r, C_J, r[MASS_J + x], px, py, pz, x)
        ux, uy, uz = spun(r, TURN_I, ay * pz - az * py, az * px - ax * pz, ax * py - ay * px, x)
        _add(r, D_I, -ONE, ux, uy, uz, x)
        ux, uy, uz = spun(r, TURN_J, by * pz - bz * py, bz * px - bx * pz, bx * py - by * px, x)
        _add(r, D_J, ONE, ux, uy, uz, x)
    return off


@inline
def _solve(r, rules, biased):
    """Visit the points in hand, one a lane: first along the normal, then along the tangents."""
    for x in range(LANES):
        nx, ny, nz = r[NORMAL + x], r[NORMAL + Y + x], r[NORMAL + Z + x]
        tx, ty, tz = r[TANGENT + x], r[TANGENT + Y + x], r[TANGENT + Z + x]
        sx, sy, sz = r[SECOND + x], r[SECOND + Y + x], r[SECOND + Z + x]
        along, other = r[FRACTION + x], ONE - r[FRACTION + x]
        dx, dy, dz = along * r[SHIFT + x], along * r[SHIFT + Y + x], along * r[SHIFT + Z + x]
        ex, ey, ez = other * r[SHIFT + x], other * r[SHIFT + Y + x], other * r[SHIFT + Z + x]
        ax, ay, az = r[HAND + ARM_I + x] + dx, r[HAND + ARM_I + Y + x] + dy, r[HAND + ARM_I + Z + x] + dz
        bx, by, bz = r[HAND + ARM_J + x] - ex, r[HAND + ARM_J + Y + x] - ey, r[HAND + ARM_J + Z + x] - ez
        vx, vy, vz = _against(r, (V_I, W_I), (V_J, W_J), (ax, ay, az), (bx, by, bz), x)
        gap, mass, push = r[HAND + NOW + x], r[HAND + WEIGHT + x], r[HAND + PUSH + x]
        speed = vx * nx + vy * ny + vz * nz
        leave = max(r[HAND + LEAVE + x], ZERO)
        leak = biased * min(rules.leak, rules.recovery * rules.leak_depth * mass / max(push, TINY))
        closed_bias = biased * max(rules.recovery * gap, -rules.push_speed) - (ONE - biased) * leave
        # the relaxing sweep finds what has just been stopped at no distance but that of rounding, and of visits left
        # out; what bounces and has not been met yet is to come as fast as it does
        skin = (ONE - biased) * (SKIN if push > ZERO or r[BOUNCE + x] == ZERO else ZERO)
        opened = gap > skin and (biased > ZERO or leave == ZERO)
        leak = ZERO if opened else leak
        bias = gap / rules.h if opened else closed_bias
        new = max(push - (ONE - leak) * mass * (speed + bias) - leak * push, ZERO)
        # what is squeezed beyond its strength gives way
        new = min(new, r[CRUSH + x])
        # what is open is met when it closes, not in the relaxing sweep before
        new = min(new, push) if opened and biased == ZERO else new
        dn = new - push
        r[HAND + PUSH + x] = new
        # friction, felt through what the normal impulse has just changed
        u = vx * tx + vy * ty + vz * tz + r[HAND + COUPLE + x] * dn
        w = vx * sx + vy * sy + vz * sz + r[HAND + COUPLE + Y + x] * dn
        rub, turn = r[HAND + RUB + x], r[HAND + RUB + Y + x]
        limit = r[FRICTION + x] * new
        stick_p = rub - r[HAND + BLOCK + x] * u - r[HAND + BLOCK + Y + x] * w
        stick_q = turn - r[HAND + BLOCK + Y + x] * u - r[HAND + BLOCK + Z + x] * w
        weight = r[HAND + SLIP + x]
        slip_p, slip_q = rub - weight * u, turn - weight * w
        size = np.sqrt(slip_p * slip_p + slip_q * slip_q)
        factor = limit / max(size, limit + TINY)
        sticks = stick_p * stick_p + stick_q * stick_q <= limit * limit
        new_p = stick_p if sticks else slip_p * factor
        new_q = stick_q if sticks else slip_q * factor
        r[HAND + RUB + x], r[HAND + RUB + Y + x] = new_p, new_q
        dp, dq = new_p - rub, new_q - turn
        px, py, pz = dn * nx + dp * tx + dq * sx, dn * ny + dp * ty + dq * sy, dn * nz + dp * tz + dq * sz
        _add(r, V_I, -r[MASS_I + x], px, py, pz, x)
        _add(r, V_J, r[MASS_J + x], px, py, pz, x)
        ux, uy, uz = spun(r, TURN_I, ay * pz - az * py, az * px - ax * pz, ax * py - ay * px, x)
        _add(r, W_I, -ONE, ux, uy, uz, x)
        ux, uy, uz = spun(r, TURN_J, by * pz - bz * py, bz * px - bx * pz, bx * py - by * px, x)
        _add(r, W_J, ONE, ux, uy, uz, x)


@inline
def _sway(r, v, old, mass, turn, x):
    """Squares of what a visit has changed of a node's motion and of what it is now, spin as the speed it has at the
    arm of inertia."""
    arm = THREE * r[mass + x] / max(r[turn + x] + r[turn + 3 * LANES + x] + r[turn + 5 * LANES + x], TINY)
    change, speed = ZERO, ZERO
    for c in range(3):
        k = c * LANES + x
        shift, swing = r[v + k] - r[old + k], r[v + 3 * LANES + k] - r[old + 3 * LANES + k]
        change += shift * shift + arm * (swing * swing)
        speed += r[v + k] * r[v + k] + arm * (r[v + 3 * LANES + k] * r[v + 3 * LANES + k])
    return change, speed


@inline
def _heat(r, rules):
    """Note by how much the change of motion exceeds what may be left as it is."""
    for x in range(LANES):
        change, speed = _sway(r, V_I, OLD_I, MASS_I, TURN_I, x)
        other, its = _sway(r, V_J, OLD_J, MASS_J, TURN_J, x)
        least = max(rules.hot_speed * rules.hot_speed, rules.hot_fraction * rules.hot_fraction * max(speed, its))
        r[HOT + x] = max(change, other) - least


#: rounds in which the points of one manifold find how they bounce together, and what speed they may be wrong by, of the
#: least that bounces
TOGETHER, NEARLY = 16, REAL(0.02)
#: times that a blow is passed on within a substep at most, and sweeps' worth of batches that this may visit
BLOWS, BLOW_SWEEPS = 100, 2
#: a point that is not hit
UNMET = REAL(-1.0)
#: in place of the speed that a point leaves with: it bounces if it is hit
READY = REAL(-1.0)


class Motion(NamedTuple):
    """How `n` bodies and what stands go; velocities are linear and angular."""

    velocity: np.ndarray
    """(n + 1, 6) [m/s], [rad/s]: changed"""
    moved: np.ndarray
    """(n + 1, 6) since the check [m], [rad]"""
    came: np.ndarray
    """(n + 1, 6): the velocities with which the substep began, then those that bounces leave"""


class Calls(NamedTuple):
    """What is to be visited again."""

    todo: np.ndarray
    """(batches,) uint8"""
    hot: np.ndarray
    """(n + 1,) uint8: bodies of manifolds that call for another visit"""
    blow: np.ndarray
    """(batches,) uint8: those that hold what bounces in this substep"""
    met: np.ndarray
    """(batches,) uint8: those that a blow has come to"""


@fused
def _collide(rows, motion, rules, calls):
    """Let what bounces do so manifold by manifold, in the batches that hold a blow: `motion.came` becomes how bodies
    leave, those that were struck are hot. Returns how many batches were visited and whether any bounced."""
    came, done, called = motion.came, 0, False
    r, goal, blow = np.empty(WORK, REAL), np.empty(POINTS * LANES, REAL), np.empty(POINTS * LANES, REAL)
    for b in range(len(rows.slots)):
        if calls.blow[b] == 0:
            continue
        done += 1
        calls.blow[b], calls.met[b] = 0, 1
        numbers, body = rows.numbers[b], rows.body[b]
        for k in range(GIVEN):
            r[k] = numbers[k]
        for x in range(LANES):
            i, j = body[0, x], body[1, x]
            for c in range(6):
                r[C_I + c * LANES + x], r[C_J + c * LANES + x] = came[i, c], came[j, c]
        hits = False
        for k in range(rows.slots[b]):
            point = numbers[HEAD + k * POINT : HEAD + (k + 1) * POINT]
            _take(r, point)
            hits = _aim(r, rules, goal, k) or hits
            for x in range(LANES):
                point[LEAVE + x] = r[HAND + LEAVE + x]
        if not hits:
            continue
        called = True
        blow[:] = ZERO
        for _ in range(TOGETHER):
            off = ZERO
            for k in range(rows.slots[b]):
                _take(r, numbers[HEAD + k * POINT : HEAD + (k + 1) * POINT])
                off = max(off, _bounce(r, goal, blow, k))
            if off < NEARLY * rules.bounce_speed:
                break
        for x in range(LANES):
            total = ZERO
            for k in range(rows.slots[b]):
                total += blow[k * LANES + x]
            if total == ZERO:
                continue
            i, j = body[0, x], body[1, x]
            for c in range(6):
                came[i, c], came[j, c] = r[C_I + c * LANES + x], r[C_J + c * LANES + x]
            calls.hot[i], calls.hot[j] = 1, 1
    return done, called


@fused
def _part(rows, motion, met):
    """Note with what speed points leave that have bounced: that which is left to them after all others have."""
    came, r = motion.came, np.empty(WORK, REAL)
    for b in range(len(rows.slots)):
        if met[b] == 0:
            continue
        met[b] = 0
        numbers, body = rows.numbers[b], rows.body[b]
        for k in range(3 * LANES):
            r[NORMAL + k] = numbers[NORMAL + k]
        for x in range(LANES):
            i, j = body[0, x], body[1, x]
            for c in range(6):
                r[C_I + c * LANES + x], r[C_J + c * LANES + x] = came[i, c], came[j, c]
        for k in range(rows.slots[b]):
            point = numbers[HEAD + k * POINT : HEAD + (k + 1) * POINT]
            _take(r, point)
            for x in range(LANES):
                speed = max(_speed_of_coming(r, x), ZERO)
                point[LEAVE + x] = speed if r[HAND + LEAVE + x] > ZERO else ZERO


@serial
def collide(rows, reach, motion, rules, calls):
    """Let what bounces do so by Newton's law of impact, manifold by manifold and again until nothing closes, so that a
    blow goes through what touches as it does through what nearly does.

    Parameters
    ----------
    rows : Rows
    reach : Reach
    motion : Motion
    rules : Rules
    calls : Calls
        Of `blow` those that begin; cleared.
    """
    hot, left = calls.hot, BLOW_SWEEPS * max(len(rows.slots), HOT_BATCHES)
    for _ in range(BLOWS):
        done, called = _collide(rows, motion, rules, calls)
        left -= done
        if not called:
            break
        for k in range(len(hot) - 1):
            if hot[k]:
                hot[k] = 0
                for q in range(reach.start[k], reach.start[k + 1]):
                    b = reach.batch[q]
                    calls.blow[b] = 1 if rows.bounces[b] else 0
        if left <= 0:
            break
    calls.blow[:] = 0
    hot[len(hot) - 1] = 0
    _part(rows, motion, calls.met)


@fused
def _sweep(rows, motion, rules, biased, afresh, calls):
    """Visit batches in order: all of them, with gaps brought up to date, if `afresh`, else those to do.

    Returns how many batches were visited and whether any called.
    """
    velocity, moved, came, todo, hot = motion.velocity, motion.moved, motion.came, calls.todo, calls.hot
    done, called = 0, False
    r = np.empty(WORK, REAL)
    for b in range(len(rows.slots)):
        if not afresh and todo[b] == 0:
            continue
        done += 1
        numbers, body = rows.numbers[b], rows.body[b]
        for x in range(LANES):
            i, j = body[0, x], body[1, x]
            for c in range(6):
                r[V_I + c * LANES + x] = velocity[i, c]
                r[V_J + c * LANES + x] = velocity[j, c]
        for k in range(GIVEN):
            r[k] = numbers[k]
        bounces = afresh and biased > ZERO and rows.bounces[b]
        if afresh:
            for x in range(LANES):
                i, j = body[0, x], body[1, x]
                for c in range(6):
                    r[X_I + c * LANES + x] = moved[i, c]
                    r[X_J + c * LANES + x] = moved[j, c]
            if bounces:
                for x in range(LANES):
                    i, j = body[0, x], body[1, x]
                    for c in range(6):
                        r[C_I + c * LANES + x] = came[i, c]
                        r[C_J + c * LANES + x] = came[j, c]
            _shift(r, biased)
        for k in range(6 * LANES):
            r[OLD_I + k], r[OLD_J + k] = r[V_I + k], r[V_J + k]
        for k in range(rows.slots[b]):
            f = HEAD + k * POINT
            point = numbers[f : f + POINT]
            for x in range(POINT):
                r[HAND + x] = point[x]
            if afresh:
                for x in range(3 * LANES):
                    r[SUM + x] += r[HAND + PUSH + x]
                _measure(r)
                if bounces and _approach(r, rules):
                    calls.blow[b] = 1
            _solve(r, rules, biased)
            for x in range(CHANGING, POINT):
                point[x] = r[HAND + x]
        if afresh:
            _owe(r, biased)
            for x in range(6 * LANES):
                numbers[SHIFT + x] = r[SHIFT + x]
        _heat(r, rules)
        for x in range(LANES):
            i, j = body[0, x], body[1, x]
            for c in range(6):
                velocity[i, c] = r[V_I + c * LANES + x]
                velocity[j, c] = r[V_J + c * LANES + x]
            if r[HOT + x] > ZERO and rows.manifold[b, x] >= 0:
                hot[i], hot[j], called = 1, 1, True
    return done, called


@fused
def note(rows):
    """Add the normal impulses of the substep, as they are in the end, to what each manifold has carried."""
    for b in range(len(rows.slots)):
        r = rows.numbers[b]
        for q in range(rows.slots[b]):
            f = HEAD + q * POINT + PUSH
            for x in range(LANES):
                r[LOAD + x] += r[f + x]


class Reach(NamedTuple):
    """Which batches hold a body."""

    start: np.ndarray  # (n + 2,) int64 into the next
    batch: np.ndarray  # (k,) int64


@serial
def reach(body, manifold, free):
    """List for each body that may be moved the batches that hold it; see `Reach`."""
    n = len(free)
    start = np.zeros(n + 1, np.int64)
    for b in range(len(body)):
        for x in range(LANES):
            if manifold[b, x] >= 0:
                for side in range(2):
                    if free[body[b, side, x]]:
                        start[body[b, side, x] + 1] += 1
    for k in range(n):
        start[k + 1] += start[k]
    batch, at = np.empty(start[n], np.int64), start[:-1].copy()
    for b in range(len(body)):
        for x in range(LANES):
            if manifold[b, x] >= 0:
                for side in range(2):
                    k = body[b, side, x]
                    if free[k]:
                        batch[at[k]] = b
                        at[k] += 1
    return Reach(start, batch)


@serial
def solve_all(rows, reach, motion, rules, biased, calls):
    """One sweep over all contacts, then more over those that still change much, as many batches as one sweep has at
    most.

    Parameters
    ----------
    rows : Rows
    reach : Reach
    motion : Motion
    rules : Rules
    biased : float
        1 while overlaps are worked off, else 0.
    calls : Calls
        Work.
    """
    total, todo, hot = len(rows.slots), calls.todo, calls.hot
    _, called = _sweep(rows, motion, rules, biased, True, calls)
    left = max(total, HOT_BATCHES)
    for _ in range(HOT_ROUNDS):
        if not called or left <= 0:
            break
        todo[:] = 0
        for k in range(len(hot) - 1):
            if hot[k]:
                hot[k] = 0
                for q in range(reach.start[k], reach.start[k + 1]):
                    todo[reach.batch[q]] = 1
        done, called = _sweep(rows, motion, rules, biased, False, calls)
        left -= done
    hot[:] = 0


@fused
def _sum_up(r, f, out):
    """Add up the impulses of a point a lane and their moments about both nodes, 9 numbers a lane."""
    for x in range(LANES):
        u, v, w = r[f + PUSH + x], r[f + RUB + x], r[f + RUB + Y + x]
        px = u * r[NORMAL + x] + v * r[TANGENT + x] + w * r[SECOND + x]
        py = u * r[NORMAL + Y + x] + v * r[TANGENT + Y + x] + w * r[SECOND + Y + x]
        pz = u * r[NORMAL + Z + x] + v * r[TANGENT + Z + x] + w * r[SECOND + Z + x]
        ax, ay, az = r[f + ARM_I + x], r[f + ARM_I + Y + x], r[f + ARM_I + Z + x]
        bx, by, bz = r[f + ARM_J + x], r[f + ARM_J + Y + x], r[f + ARM_J + Z + x]
        _add(out, 0, ONE, px, py, pz, x)
        _add(out, 3 * LANES, ONE, ay * pz - az * py, az * px - ax * pz, ax * py - ay * px, x)
        _add(out, 6 * LANES, ONE, by * pz - bz * py, bz * px - bx * pz, bx * py - by * px, x)


@fused
def _answer(r, out, gained):
    """What such impulses do to velocity and spin of both nodes, 12 numbers a lane."""
    for x in range(LANES):
        for c in range(3):
            gained[c * LANES + x] = -r[MASS_I + x] * out[c * LANES + x]
            gained[(6 + c) * LANES + x] = r[MASS_J + x] * out[c * LANES + x]
        tx, ty, tz = spun(r, TURN_I, out[3 * LANES + x], out[4 * LANES + x], out[5 * LANES + x], x)
        gained[3 * LANES + x], gained[4 * LANES + x], gained[5 * LANES + x] = -tx, -ty, -tz
        tx, ty, tz = spun(r, TURN_J, out[6 * LANES + x], out[7 * LANES + x], out[8 * LANES + x], x)
        gained[9 * LANES + x], gained[10 * LANES + x], gained[11 * LANES + x] = tx, ty, tz


@serial
def warm(rows, start):
    """Sum up what the impulses of the rows do to each node's velocity, start (n + 1, 6)."""
    out, gained = np.empty(9 * LANES, REAL), np.empty(12 * LANES, REAL)
    for b in range(len(rows.slots)):
        r, body = rows.numbers[b], rows.body[b]
        out[:] = ZERO
        for q in range(rows.slots[b]):
            _sum_up(r, HEAD + q * POINT, out)
        _answer(r, out, gained)
        for x in range(LANES):
            i, j = body[0, x], body[1, x]
            for c in range(6):
                start[i, c] += gained[c * LANES + x]
                start[j, c] += gained[(6 + c) * LANES + x]
