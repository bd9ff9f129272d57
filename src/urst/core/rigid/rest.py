"""Which bodies sleep, and what wakes them.

A body that has hardly moved for a while, with neighbours as calm, is left out of everything and stands like a wall.
What would move it wakes it: something that comes at it, a load far above what it bore, a support that goes.

m is the `Manifolds`, marks are their `Marks`, rest is a `Rest`; weight is the size of gravity [m/s2], dt the check [s].
"""

from typing import NamedTuple

import numpy as np

from urst.core.bodies.mobility import ABSENT, DRIVEN, LOOSE
from urst.core.jit import kernel, serial
from urst.core.rigid.detect import NEAR

#: how little [m] and how slowly [m/s] a body must move, and for how long [s], before it sleeps
DRIFT, SLOW, SLEEP_AFTER = 2.5e-4, 0.05, 0.5
#: neighbours must have been as calm for this long [s]
CALM = 0.25
#: a body standing deeper in another does not sleep [m]
DEEP = 1e-3
#: a body that comes faster wakes what it meets [m/s]
KNOCK = 0.1
#: a load wakes that exceeds so many times the one it fell asleep under by so many times its weight
SURGE = 3.0
#: a neighbour that moves so far wakes [m]
SHIFT = 1e-3


class Rest(NamedTuple):
    """How long `n` bodies have been calm, and where they were when that began."""

    calm: np.ndarray  # (n,) [s]
    position: np.ndarray  # (n, 3)
    rotation: np.ndarray  # (n, 3, 3)


class Marks(NamedTuple):
    """How `p` pairs stood when one of them fell asleep."""

    set: np.ndarray  # (p,) uint8
    load: np.ndarray  # (p,) force between them [N]
    place: np.ndarray  # (p, 2, 3)
    turn: np.ndarray  # (p, 2, 3, 3)


def no_marks(p: int) -> Marks:
    """Return marks of `p` pairs, none set."""
    return Marks(np.zeros(p, np.uint8), np.zeros(p), np.zeros((p, 2, 3)), np.zeros((p, 2, 3, 3)))


@kernel
def _travel(place, turn, position, rotation, radius):
    """How far a body has moved at most."""
    shift, swing = 0.0, 0.0
    for a in range(3):
        shift += (position[a] - place[a]) ** 2
        for b in range(3):
            swing += (rotation[a, b] - turn[a, b]) ** 2
    return np.sqrt(shift) + radius * np.sqrt(0.5 * swing)


@serial
def count(bodies, rest, dt):
    """Count how long each body has been calm."""
    for b in range(len(bodies.mass)):
        if bodies.kind[b] == LOOSE and bodies.awake[b]:
            _count(bodies, rest, b, dt)


@kernel
def _count(bodies, rest, b, dt):
    v = bodies.velocity[b]
    still = np.sqrt(v[0] * v[0] + v[1] * v[1] + v[2] * v[2]) + bodies.swing[b] < SLOW
    place, turn, position, rotation = rest.position[b], rest.rotation[b], bodies.position[b], bodies.rotation[b]
    if still and _travel(place, turn, position, rotation, bodies.radius[b]) < DRIFT:
        rest.calm[b] += dt
        return
    rest.calm[b] = 0.0
    for c in range(3):
        place[c] = position[c]
        for d in range(3):
            turn[c, d] = rotation[c, d]


@serial
def put_to_sleep(bodies, m, load, rest, marks, label, sleepy):
    """Put calm bodies with calm neighbours to sleep.

    `load` (p,) [N]: what the pairs carry; `label` (n,) is the same for bodies that must sleep together, the least of
    their numbers; `sleepy` (n,) uint8 is for work.
    """
    n = len(bodies.mass)
    for b in range(n):
        sleepy[b] = bodies.kind[b] == LOOSE and bodies.awake[b] and rest.calm[b] >= SLEEP_AFTER
    for p in range(len(m.state)):
        if m.state[p] != NEAR or m.size[p] == 0:
            continue
        i, j = m.body[p, 0], m.body[p, 1]
        if not (sleepy[i] or sleepy[j]) or m.gap[p] > DRIFT:
            continue
        for side in range(2):
            a, b = (i, j) if side == 0 else (j, i)
            moving = bodies.kind[b] == LOOSE and bodies.awake[b] and rest.calm[b] < CALM
            v, w = bodies.velocity[b], bodies.spin[b]
            moving = moving or (
                bodies.kind[b] == DRIVEN
                and (abs(v[0]) + abs(v[1]) + abs(v[2]) + abs(w[0]) + abs(w[1]) + abs(w[2])) > 0.0
            )
            if moving or m.gap[p] < -DEEP:
                sleepy[a] = 0
    for b in range(n):
        if not sleepy[b] and bodies.kind[b] == LOOSE and bodies.awake[b]:
            sleepy[label[b]] = 0
    for b in range(n):
        sleepy[b] = sleepy[b] and sleepy[label[b]]
    some = False
    for b in range(n):
        if sleepy[b]:
            bodies.awake[b] = 0
            bodies.velocity[b] = 0.0
            bodies.spin[b] = 0.0
            some = True
    if some:
        for p in range(len(m.state)):
            for side in range(2):
                if sleepy[m.body[p, side]] and not marks.set[p]:
                    _mark(bodies, m, load, marks, p)


@serial
def _mark(bodies, m, load, marks, p):
    marks.set[p] = m.state[p] == NEAR and m.size[p] > 0 and m.gap[p] < DRIFT
    marks.load[p] = load[p]
    for side in range(2):
        b = m.body[p, side]
        marks.place[p, side] = bodies.position[b]
        marks.turn[p, side] = bodies.rotation[b]


@serial
def wake_before(bodies, m, marks, weight, dt, wake):
    """Mark in `wake` (n,) the sleepers that something comes at, or whose neighbour has gone; returns whether there are
    any."""
    some = False
    for p in range(len(m.state)):
        i, j = m.body[p, 0], m.body[p, 1]
        for side in range(2):
            s, a = (i, j) if side == 0 else (j, i)
            if bodies.kind[s] != LOOSE or bodies.awake[s]:
                continue
            mover = (bodies.kind[a] == LOOSE and bodies.awake[a]) or bodies.kind[a] == DRIVEN
            if not mover:
                if bodies.kind[a] == ABSENT and marks.set[p]:
                    wake[s], some = 1, True
                continue
            fast = m.need[p] - dt * dt * weight > (KNOCK if bodies.kind[a] == LOOSE else 1e-6) * dt
            if m.state[p] == NEAR and m.gap[p] <= m.need[p] and fast:
                wake[s], some = 1, True
            elif marks.set[p]:
                k = 1 - side
                travel = _travel(
                    marks.place[p, k], marks.turn[p, k], bodies.position[a], bodies.rotation[a], bodies.radius[a]
                )
                if travel > SHIFT:
                    wake[s], some = 1, True
    return some


@serial
def wake_after(bodies, m, load, marks, weight, wake):
    """Mark in `wake` (n,) the sleepers that carry far more than they fell asleep under; returns whether there are
    any."""
    some = False
    for p in range(len(m.state)):
        if load[p] <= 0.0:
            continue
        for side in range(2):
            s, a = m.body[p, side], m.body[p, 1 - side]
            if bodies.kind[s] != LOOSE or bodies.awake[s] or not (bodies.awake[a] or bodies.kind[a] == DRIVEN):
                continue
            known = marks.load[p] if marks.set[p] else 0.0
            if load[p] > SURGE * (known + weight * bodies.mass[s]):
                wake[s], some = 1, True
    return some
