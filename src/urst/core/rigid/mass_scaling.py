"""What is squeezed by much more than its own weight.

Impulses that are sought pair by pair take as many visits as one body is heavier than the other. Where something very
much heavier squeezes a body against something else, that body's own inertia no longer matters, since what squeezes it
would give it hundreds of times the acceleration of gravity; there it may be taken as heavier than it is.

scale (n,) is how much heavier each body is taken as, 1 for nearly all; inertia is an `Inertia`.
"""

import numpy as np

from urst.core.jit import serial

#: how much lighter than what it carries a body may be
RATIO = 100.0
#: bodies that may stand on top of each other between the heavy one and what it rests on
BETWEEN = 4
#: a check is solved again where a body turns out to be so many times as heavy as it was taken for
AGAIN = 2.0


@serial
def scale_masses(m, load, bodies, free, carrier, gravity, scale):
    """Reckon what bodies are to be taken as in the contacts: heavier by a factor (n,), which is 1 for nearly all.

    Parameters
    ----------
    m : Manifolds
    load : (p,)
        Normal force between the bodies of each pair [N].
    bodies : Bodies
    free : (k + 1,) bool
        Which nodes may be moved.
    carrier : (n,) int64
        The node that moves each body; those that others move stay as they are.
    gravity : float [m/s2]
    scale : (n,)
        Written.

    Returns
    -------
    bool
        Whether a body is so much heavier than its share said before that the check should be solved again.
    """
    n, heavy = len(bodies.mass), False
    some, count = np.empty(len(m.state), np.int64), 0
    for p in range(len(m.state)):
        if load[p] > 0.0:
            some[count] = p
            count += 1
            for s in range(2):
                b = m.body[p, s]
                heavy = heavy or (free[b] and load[p] > RATIO * gravity * bodies.mass[b] > 0.0)
    before = scale.copy()
    scale[:] = 1.0
    if not heavy:
        return False
    pressed, net = np.zeros(n), np.zeros((n, 3))
    for p in some[:count]:
        i, j = m.body[p, 0], m.body[p, 1]
        pressed[i] += load[p]
        pressed[j] += load[p]
        for c in range(3):
            along = 0.0
            for d in range(3):
                along += bodies.rotation[i, c, d] * m.axis[p, d]
            net[i, c] -= load[p] * along
            net[j, c] += load[p] * along
    heaviest = np.zeros(n)
    for b in range(n):
        # what presses from one side only moves it
        pressed[b] = 0.5 * (pressed[b] - np.sqrt(net[b, 0] ** 2 + net[b, 1] ** 2 + net[b, 2] ** 2))
        heaviest[b] = bodies.mass[b] if free[carrier[b]] else 0.0
    for _ in range(BETWEEN):
        for p in some[:count]:
            i, j = m.body[p, 0], m.body[p, 1]
            if pressed[i] > RATIO * gravity * bodies.mass[i]:
                heaviest[i] = max(heaviest[i], heaviest[j])
            if pressed[j] > RATIO * gravity * bodies.mass[j]:
                heaviest[j] = max(heaviest[j], heaviest[i])
    grown = False
    for b in range(n):
        if carrier[b] == b and free[b]:
            scale[b] = max(1.0, min(pressed[b] / gravity, heaviest[b]) / (RATIO * bodies.mass[b]))
            grown = grown or scale[b] > AGAIN * before[b]
    return grown


@serial
def apply_scale(scale, inertia):
    """Lessen the inverse inertias of bodies by their factors (n,)."""
    for b in range(len(scale)):
        if scale[b] > 1.0:
            inertia.inverse_mass[b] /= scale[b]
            for c in range(6):
                inertia.inverse[b, c] /= scale[b]
