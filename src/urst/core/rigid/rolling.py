"""What rolls and is slowed down by what it rolls on."""

import numpy as np

from urst.core.bodies.mobility import LOOSE
from urst.core.jit import serial
from urst.core.rigid.state import Bodies, conjugate


@serial
def resist(m, load, bodies: Bodies, resistance, dt):
    """Slow down the spin of balls against what presses them: a torque of resistance times load times radius, until
    both turn alike.

    Parameters
    ----------
    m : Manifolds
    load : (p,)
        Normal force between the bodies of each pair [N].
    bodies : Bodies
        Their spins are written.
    resistance : (n,)
        Of each body; a pair has the geometric mean.
    dt : float [s]
    """
    torque, gained = np.empty(3), np.empty(3)
    for p in range(len(m.state)):
        if load[p] <= 0.0:
            continue
        for side in range(2):
            b, other = m.body[p, side], m.body[p, 1 - side]
            if not bodies.ball[b] or bodies.kind[b] != LOOSE or not bodies.awake[b]:
                continue
            w, against = bodies.spin[b], bodies.spin[other]
            for c in range(3):
                torque[c] = against[c] - w[c]
            turning = np.sqrt(torque[0] ** 2 + torque[1] ** 2 + torque[2] ** 2)
            if turning == 0.0:
                continue
            size = np.sqrt(resistance[b] * resistance[other]) * load[p] * bodies.radius[b] * dt / turning
            for c in range(3):
                torque[c] *= size
            conjugate(bodies.rotation[b], bodies.inverse_inertia[b], torque, gained)
            change = np.sqrt(gained[0] ** 2 + gained[1] ** 2 + gained[2] ** 2)
            factor = min(1.0, turning / max(change, 1e-30))
            for c in range(3):
                w[c] += factor * gained[c]
