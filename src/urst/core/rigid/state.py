"""The state of rigid bodies, and how they move over a check.

bodies is a `Bodies` of n, free (n + 1,) bool marks those that may be moved, inertia an `Inertia` that is written;
velocity (n + 1, 6) [m/s], [rad/s]. q (4,) is a unit quaternion, w first, r (3, 3) a rotation matrix, m (3, 3) a
symmetric matrix, v (3,) and (x, y, z) vectors; top_speed [m/s] and top_spin [rad/s] are limits, weight the size of
gravity [m/s2], dt the check [s]; out is written.
"""

from typing import NamedTuple

import numpy as np

from urst.core.bodies.mobility import DRIVEN, LOOSE
from urst.core.jit import inline, kernel, serial

_1_6, _1_12, _1_20, _1_30, _1_42, _1_56, _1_72 = (1.0 / k for k in (6.0, 12.0, 20.0, 30.0, 42.0, 56.0, 72.0))


class Bodies(NamedTuple):
    """State of `n` bodies; all float64, world frame unless said."""

    position: np.ndarray  # (n, 3) centre of mass
    orientation: np.ndarray  # (n, 4) unit quaternion, scalar first
    rotation: np.ndarray  # (n, 3, 3) the same as a matrix
    velocity: np.ndarray  # (n, 3)
    spin: np.ndarray  # (n, 3)
    inertia: np.ndarray  # (n, 3, 3) body frame
    inverse_inertia: np.ndarray  # (n, 3, 3) body frame
    mass: np.ndarray  # (n,)
    kind: np.ndarray  # (n,) int64: FIXED, DRIVEN, LOOSE, ABSENT
    awake: np.ndarray  # (n,) uint8
    radius: np.ndarray  # (n,) farthest point from the centre [m]
    swing: np.ndarray  # (n,) speed of the farthest point about the centre [m/s]
    travel: np.ndarray  # (n,) way gone so far, the rim's part of turning included [m]
    ball: np.ndarray  # (n,) bool: what touches it does not turn with it


class Inertia(NamedTuple):
    """What moves `n` bodies and a dummy behind them; 0 for what must not be moved."""

    inverse_mass: np.ndarray  # (n + 1,)
    inverse: np.ndarray  # (n + 1, 6) world inverse inertia: xx, xy, xz, yy, yz, zz


@inline
def rotation_of(q, r):
    """Write the rotation matrix r of a unit quaternion q."""
    w, x, y, z = q[0], q[1], q[2], q[3]
    r[0, 0], r[0, 1], r[0, 2] = 1 - 2 * (y * y + z * z), 2 * (x * y - w * z), 2 * (x * z + w * y)
    r[1, 0], r[1, 1], r[1, 2] = 2 * (x * y + w * z), 1 - 2 * (x * x + z * z), 2 * (y * z - w * x)
    r[2, 0], r[2, 1], r[2, 2] = 2 * (x * z - w * y), 2 * (y * z + w * x), 1 - 2 * (x * x + y * y)


@inline
def turn_by(q, x, y, z, out):
    """out = exp(turn) q, the exact turn by a vector [rad]."""
    square = 0.25 * (x * x + y * y + z * z)
    if square < 1e-3:
        # the series, exact to the last bit here
        s = 0.5 * (1.0 - square * _1_6 * (1.0 - square * _1_20 * (1.0 - square * _1_42 * (1.0 - square * _1_72))))
        c = 1.0 - square * 0.5 * (1.0 - square * _1_12 * (1.0 - square * _1_30 * (1.0 - square * _1_56)))
    else:
        half = np.sqrt(square)
        s, c = 0.5 * np.sin(half) / half, np.cos(half)
    x, y, z = s * x, s * y, s * z
    a, b, d, e = q[0], q[1], q[2], q[3]
    out[0] = c * a - x * b - y * d - z * e
    out[1] = c * b + x * a + y * e - z * d
    out[2] = c * d - x * e + y * a + z * b
    out[3] = c * e + x * d - y * b + z * a
    n = 1.0 / np.sqrt(out[0] ** 2 + out[1] ** 2 + out[2] ** 2 + out[3] ** 2)
    out[0] *= n
    out[1] *= n
    out[2] *= n
    out[3] *= n


@inline
def conjugate(r, m, v, out):
    """out = R M R^T v"""
    b0 = r[0, 0] * v[0] + r[1, 0] * v[1] + r[2, 0] * v[2]
    b1 = r[0, 1] * v[0] + r[1, 1] * v[1] + r[2, 1] * v[2]
    b2 = r[0, 2] * v[0] + r[1, 2] * v[1] + r[2, 2] * v[2]
    c0 = m[0, 0] * b0 + m[0, 1] * b1 + m[0, 2] * b2
    c1 = m[1, 0] * b0 + m[1, 1] * b1 + m[1, 2] * b2
    c2 = m[2, 0] * b0 + m[2, 1] * b1 + m[2, 2] * b2
    out[0] = r[0, 0] * c0 + r[0, 1] * c1 + r[0, 2] * c2
    out[1] = r[1, 0] * c0 + r[1, 1] * c1 + r[1, 2] * c2
    out[2] = r[2, 0] * c0 + r[2, 1] * c1 + r[2, 2] * c2


@serial
def steer(place, turned, driven, motion, position, orientation, dt):
    """Write the velocities and spins, motion ((n, 3), (n, 3)), that take driven bodies (d,) from where they are, place
    (n, 3) and turned (n, 4), to a pose, position (d, 3) and orientation (d, 4), in `dt` seconds."""
    velocity, spin = motion
    back, turn = np.empty(4), np.empty(4)
    for k in range(len(driven)):
        b = driven[k]
        for c in range(3):
            velocity[b, c] = (position[k, c] - place[b, c]) / dt
        q, p = turned[b], orientation[k]
        back[0], back[1], back[2], back[3] = q[0], -q[1], -q[2], -q[3]
        turn[0] = p[0] * back[0] - p[1] * back[1] - p[2] * back[2] - p[3] * back[3]
        turn[1] = p[0] * back[1] + p[1] * back[0] + p[2] * back[3] - p[3] * back[2]
        turn[2] = p[0] * back[2] - p[1] * back[3] + p[2] * back[0] + p[3] * back[1]
        turn[3] = p[0] * back[3] + p[1] * back[2] - p[2] * back[1] + p[3] * back[0]
        size = np.sqrt(turn[1] ** 2 + turn[2] ** 2 + turn[3] ** 2)
        # the shorter way round
        rate = 2.0 / dt if size < 1e-9 else 2.0 * np.arctan2(size, abs(turn[0])) / (size * dt)
        if turn[0] < 0.0:
            rate = -rate
        for c in range(3):
            spin[b, c] = rate * turn[c + 1]


@serial
def put(bodies, some, position, orientation):
    """Put some bodies (d,) to a pose, position (d, 3) and orientation (d, 4)."""
    for k in range(len(some)):
        b, squared = some[k], 0.0
        for c in range(3):
            squared += (position[k, c] - bodies.position[b, c]) ** 2
            bodies.position[b, c] = position[k, c]
        same, other = 0.0, 0.0
        for c in range(4):
            same += (orientation[k, c] - bodies.orientation[b, c]) ** 2
            other += (orientation[k, c] + bodies.orientation[b, c]) ** 2
        # a turn by a small angle changes the quaternion by half of it
        bodies.travel[b] += np.sqrt(squared) + 2.0 * bodies.radius[b] * np.sqrt(min(same, other))
        bodies.orientation[b] = orientation[k]
        rotation_of(orientation[k], bodies.rotation[b])


@serial
def half_way(bodies, free, dt, turned):
    """Write how bodies will stand half way through a check of `dt` seconds if nothing meets them, `turned` (n, 3, 3).

    Arms and inertias are those of then: what a hit does to a spinning body is right to second order.
    """
    half = np.empty(4)
    for b in range(len(bodies.mass)):
        _half_way(bodies, b, free[b], dt, half, turned)


@kernel
def _half_way(bodies, b, free, dt, half, turned):
    w, r, out = bodies.spin[b], bodies.rotation[b], turned[b]
    if (free or bodies.kind[b] == DRIVEN) and not bodies.ball[b] and (w[0] != 0.0 or w[1] != 0.0 or w[2] != 0.0):
        turn_by(bodies.orientation[b], 0.5 * dt * w[0], 0.5 * dt * w[1], 0.5 * dt * w[2], half)
        rotation_of(half, out)
        return
    for i in range(3):
        for j in range(3):
            out[i, j] = r[i, j]


@serial
def weigh(bodies, free, turned, inertia):
    """Write what moves each body as it stands at `turned` (n, 3, 3), 0 for those that are not `free` (n + 1,)."""
    for b in range(len(bodies.mass)):
        _weigh(bodies, b, free, turned[b], inertia)


@kernel
def _weigh(bodies, b, free, r, inertia):
    out = inertia.inverse[b]
    if not free[b]:
        inertia.inverse_mass[b] = 0.0
        for k in range(6):
            out[k] = 0.0
        return
    inertia.inverse_mass[b] = 1.0 / bodies.mass[b]
    m, k = bodies.inverse_inertia[b], 0
    for i in range(3):
        x, y, z = r[i, 0], r[i, 1], r[i, 2]
        u = x * m[0, 0] + y * m[1, 0] + z * m[2, 0]
        v = x * m[0, 1] + y * m[1, 1] + z * m[2, 1]
        w = x * m[0, 2] + y * m[1, 2] + z * m[2, 2]
        for j in range(i, 3):
            out[k] = u * r[j, 0] + v * r[j, 1] + w * r[j, 2]
            k += 1


@serial
def spin_up(bodies, top_speed, top_spin, ease, dt):
    """Hold loose bodies to the fastest speed and spin allowed, and write how fast their rims turn.

    What is too fast comes down to the limit within `ease` seconds, but for a third; at once if that is 0.

    Returns the number of a body whose place or velocity is no number any more, -1 if there is none, and how many were
    too fast.
    """
    lost, cut = -1, 0
    left = np.exp(-dt / ease) if ease > 0.0 else 0.0
    for b in range(len(bodies.mass)):
        v, w = bodies.velocity[b], bodies.spin[b]
        speed, turning = np.sqrt(v[0] ** 2 + v[1] ** 2 + v[2] ** 2), np.sqrt(w[0] ** 2 + w[1] ** 2 + w[2] ** 2)
        if bodies.kind[b] == LOOSE:
            cut += speed > top_speed or turning > top_spin
            if speed > top_speed:
                for c in range(3):
                    v[c] *= (top_speed + left * (speed - top_speed)) / speed
            if turning > top_spin:
                now = top_spin + left * (turning - top_spin)
                for c in range(3):
                    w[c] *= now / turning
                turning = now
        bodies.swing[b] = bodies.radius[b] * turning if turning > 0.0 else 0.0
        if not np.isfinite(speed + turning + bodies.position[b, 0] + bodies.position[b, 1] + bodies.position[b, 2]):
            lost = b
    return lost, cut


@serial
def strays(bodies, allowed, dt, weight):
    """Whether any body that moves may go farther in `dt` seconds than is `allowed` (n,)."""
    for b in range(len(bodies.mass)):
        loose = bodies.kind[b] == LOOSE and bodies.awake[b]
        if loose or bodies.kind[b] == DRIVEN:
            v = bodies.velocity[b]
            speed = np.sqrt(v[0] ** 2 + v[1] ** 2 + v[2] ** 2) + bodies.swing[b] + (dt * weight if loose else 0.0)
            if bodies.travel[b] + dt * speed > allowed[b]:
                return True
    return False


@serial
def load(bodies, free, turned, centre, velocity):
    """Write places, and velocities and spins side by side, centre (n + 1, 3) and velocity (n + 1, 6).

    A free body has the spin that its angular momentum gives it as it stands at `turned` (n, 3, 3).
    """
    momentum, spin = np.empty(3), np.empty(3)
    for b in range(len(bodies.mass)):
        _load(bodies, b, free[b], turned[b], centre, velocity, momentum, spin)


@kernel
def _load(bodies, b, free, turned, centre, velocity, momentum, spin):
    w = bodies.spin[b]
    for c in range(3):
        centre[b, c] = bodies.position[b, c]
        velocity[b, c], spin[c] = bodies.velocity[b, c], w[c]
    if free and (w[0] != 0.0 or w[1] != 0.0 or w[2] != 0.0):
        conjugate(bodies.rotation[b], bodies.inertia[b], w, momentum)
        conjugate(turned, bodies.inverse_inertia[b], momentum, spin)
    for c in range(3):
        velocity[b, c + 3] = spin[c]


@serial
def move(bodies, free, carrier, turned, velocity, moved):
    """Take up velocities (n + 1, 6), and move by `moved` (n + 1, 6), the shifts and turns of the substeps.

    What `carrier` (n,) says that something else moves stays. A loose body keeps its angular momentum exactly, and in
    free flight follows the explicit midpoint rule, which is of second order: the substeps went by the spin that it has
    at `turned`, half way.
    """
    momentum = np.empty(3)
    for b in range(len(bodies.mass)):
        if free[b] or (bodies.kind[b] != LOOSE and carrier[b] == b):
            _move(bodies, b, free[b], turned[b], velocity, moved, momentum)


@kernel
def _move(bodies, b, free, turned, velocity, moved, momentum):
    turn, squared = moved[b, 3:], 0.0
    for c in range(3):
        bodies.position[b, c] += moved[b, c]
        squared += moved[b, c] ** 2
    q, r, w = bodies.orientation[b], bodies.rotation[b], bodies.spin[b]
    if free:
        for c in range(3):
            bodies.velocity[b, c], w[c] = velocity[b, c], velocity[b, c + 3]
        conjugate(turned, bodies.inertia[b], w, momentum)
    angle = turn[0] * turn[0] + turn[1] * turn[1] + turn[2] * turn[2]
    bodies.travel[b] += np.sqrt(squared) + bodies.radius[b] * np.sqrt(angle)
    if angle > 0.0:
        turn_by(q, turn[0], turn[1], turn[2], q)
        rotation_of(q, r)
    if free:
        conjugate(r, bodies.inverse_inertia[b], momentum, w)
