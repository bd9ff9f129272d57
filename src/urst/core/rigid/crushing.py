"""What is squeezed by something that nothing stops.

What is driven pushes as hard as it takes. Between it and what cannot give way no impulses keep bodies apart, and those
that are sought grow without end. Matter ends that: a body bears its compressive strength over its cross-section, and
beyond it is crushed where it is pressed. So contacts of what a moving driven body presses pass no more than the weaker
of both bodies bears. How far matter softens, sinks and interlocks is chosen for brittle matter, not measured.

m is a `Manifolds`, bodies a `Bodies`, most (p,) the greatest force of each pair [N].
"""

import numpy as np

from urst.core.bodies.mobility import DRIVEN, LOOSE
from urst.core.jit import inline, serial
from urst.core.rigid.detect import NEAR
from urst.core.rigid.union_find import root

#: matter is crushed where it bears more than this fraction of its strength, or has been pressed into other matter by
#: this fraction of its radius
CRUSHES, SUNK = 0.5, 0.03
#: once shortened by this fraction it is rubble, which bears this fraction of what it did
STRAIN, RUBBLE = 0.05, 0.1
#: nothing bears more in compression [Pa]
HARDEST = 1e9
#: friction of faces that have been pressed into each other, at least
INTERLOCK = 1.0
#: what is crushed takes up the work that squeezes it: it leaves no faster than so many times as fast as what presses it
LEAVES = 2.0


@inline
def _speed(v):
    return np.sqrt(v[0] * v[0] + v[1] * v[1] + v[2] * v[2])


@inline
def _rim(bodies, b):
    """How fast any point of a body goes, at most."""
    return _speed(bodies.velocity[b]) + bodies.radius[b] * _speed(bodies.spin[b])


@inline
def _bears(bodies, b, strength, depth, x, y, z):
    """The force at which body b, crushed by some depth [m], is crushed on along a direction in its own frame [N].

    Its cross-section is its volume over its length along that direction, and that the length of the box whose mass is
    spread as far.
    """
    i = bodies.inertia[b]
    spread = 0.5 * (i[0, 0] + i[1, 1] + i[2, 2])
    for c in range(3):
        a = x if c == 0 else (y if c == 1 else z)
        spread -= a * (i[c, 0] * x + i[c, 1] * y + i[c, 2] * z)
    length = np.sqrt(12.0 * max(spread, 1e-30) / bodies.mass[b])
    return strength[b] / length * max(1.0 - (1.0 - RUBBLE) * depth / (STRAIN * length), RUBBLE)


@serial
def limits(m, bodies, carrier, strength, most, fastest):
    """Write the greatest force that the contacts of each pair pass, without end where nothing driven presses.

    Parameters
    ----------
    m : Manifolds
    bodies : Bodies
    carrier : (n,) int64
        The node that moves each body.
    strength : (n,)
        Compressive strength of each body times its volume [N m].
    most : (p,)
        Written [N].
    fastest : (n,)
        Written: with what speed bodies may leave when they are crushed [m/s].
    """
    most[:], fastest[:] = np.inf, np.inf
    n, some = len(bodies.mass), False
    for b in range(n):
        some = some or (bodies.kind[b] == DRIVEN and _rim(bodies, b) > 0.0)
    if not some:
        return
    # what touches moves on together; carriers of compounds are numbered behind the bodies
    parent = np.arange(2 * n)
    touching, count = np.empty(len(m.state), np.int64), 0
    for p in range(len(m.state)):
        if m.size[p] == 0 or m.state[p] != NEAR or m.gap[p] > m.need[p]:
            continue
        touching[count] = p
        count += 1
        i, j = m.body[p, 0], m.body[p, 1]
        if bodies.kind[i] == LOOSE and bodies.kind[j] == LOOSE:
            parent[root(parent, carrier[i])] = root(parent, carrier[j])
    presser = np.zeros(2 * n)
    for k in range(count):
        for side in range(2):
            d, b = m.body[touching[k], side], m.body[touching[k], 1 - side]
            if bodies.kind[d] == DRIVEN and bodies.kind[b] == LOOSE:
                first = root(parent, carrier[b])
                presser[first] = max(presser[first], _rim(bodies, d))
    for k in range(count):
        p = touching[k]
        a, r = m.axis[p], bodies.rotation[m.body[p, 0]]
        depth = max(-m.gap[p], 0.0) if m.crushed[p] else 0.0
        for side in range(2):
            b = m.body[p, side]
            speed = presser[root(parent, carrier[b])]
            if bodies.kind[b] != LOOSE or speed == 0.0:
                continue
            fastest[b] = LEAVES * speed
            x, y, z = a[0], a[1], a[2]
            if side == 1:
                t = bodies.rotation[b]
                u = r[0, 0] * x + r[0, 1] * y + r[0, 2] * z
                v = r[1, 0] * x + r[1, 1] * y + r[1, 2] * z
                w = r[2, 0] * x + r[2, 1] * y + r[2, 2] * z
                x = t[0, 0] * u + t[1, 0] * v + t[2, 0] * w
                y = t[0, 1] * u + t[1, 1] * v + t[2, 1] * w
                z = t[0, 2] * u + t[1, 2] * v + t[2, 2] * w
            most[p] = min(most[p], _bears(bodies, b, strength, depth, x, y, z))


@serial
def note(m, load, most, bodies, before, fastest):
    """Note which pairs have been crushed, and hold their bodies to the speed with which they may leave.

    Parameters
    ----------
    m : Manifolds
    load : (p,)
        Mean force between the bodies of each pair [N].
    most : (p,)
    bodies : Bodies
        Their velocities are written.
    before : (n, 3)
        Their velocities before: what was faster then may stay so [m/s].
    fastest : (n,)
        See `limits`.
    """
    for p in range(len(m.state)):
        i, j = m.body[p, 0], m.body[p, 1]
        sunk = most[p] < np.inf and m.gap[p] < -SUNK * min(bodies.radius[i], bodies.radius[j])
        if load[p] > CRUSHES * most[p] or (sunk and load[p] > 0.0):
            m.crushed[p] = 1
        elif m.crushed[p] and m.gap[p] > 0.0:
            m.crushed[p] = 0
        if not m.crushed[p]:
            continue
        for side in range(2):
            b = m.body[p, side]
            v = bodies.velocity[b]
            speed, allowed = _speed(v), max(fastest[b], _speed(before[b]))
            if bodies.kind[b] == LOOSE and speed > allowed:
                for c in range(3):
                    v[c] *= allowed / speed


@serial
def count(m, bodies):
    """How many loose bodies are crushed somewhere."""
    crushed = np.zeros(len(bodies.mass), np.uint8)
    for p in range(len(m.state)):
        if m.crushed[p]:
            crushed[m.body[p, 0]], crushed[m.body[p, 1]] = 1, 1
    total = 0
    for b in range(len(crushed)):
        total += crushed[b] == 1 and bodies.kind[b] == LOOSE
    return total
