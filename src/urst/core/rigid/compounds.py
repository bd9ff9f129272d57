"""Kernels of compounds: several bodies that move as one.

A compound has no state of its own: its motion is gathered from its members before a check and carried back to them
after it. In the solver it is a node behind the bodies, and what touches a member pushes the node.

free (m + 1,) bool marks nodes that may be moved, velocity and moved (m + 1, 6) are theirs; pairs (p, 2) are bodies that
touch and load (p,) the normal force between them [N]; fraction is how far a body gets used to a new force in a check of
dt seconds.
"""

from typing import NamedTuple

import numpy as np

from urst.core.bodies.mobility import DRIVEN
from urst.core.jit import inline, serial
from urst.core.rigid.state import Bodies, Inertia, conjugate, rotation_of, turn_by


class Compounds(NamedTuple):
    """`c` compounds of `n` bodies."""

    start: np.ndarray  # (c + 1,) int64 into the next
    member: np.ndarray  # (k,) int64 bodies, compound by compound
    carrier: np.ndarray  # (n,) int64 node that moves a body: itself, or n + its compound


@serial
def _sum_up(bodies, members, centre, moment):
    """Write centre of mass (3,) and moment of inertia about it (3, 3) of some members; returns their mass."""
    mass = 0.0
    centre[:] = 0.0
    for b in members:
        mass += bodies.mass[b]
        for c in range(3):
            centre[c] += bodies.mass[b] * bodies.position[b, c]
    for c in range(3):
        centre[c] /= mass
    moment[:] = 0.0
    for b in members:
        r, own, m = bodies.rotation[b], bodies.inertia[b], bodies.mass[b]
        x, y, z = (
            bodies.position[b, 0] - centre[0],
            bodies.position[b, 1] - centre[1],
            bodies.position[b, 2] - centre[2],
        )
        square = x * x + y * y + z * z
        for i in range(3):
            a = x if i == 0 else (y if i == 1 else z)
            for j in range(3):
                d = x if j == 0 else (y if j == 1 else z)
                total = -m * a * d + (m * square if i == j else 0.0)
                for p in range(3):
                    for q in range(3):
                        total += r[i, p] * own[p, q] * r[j, q]
                moment[i, j] += total
    return mass


@inline
def invert(m, out):
    """Write the inverse of a symmetric 3 x 3 matrix m to out."""
    a, b, c, d, e, f = m[0, 0], m[0, 1], m[0, 2], m[1, 1], m[1, 2], m[2, 2]
    g, h, k = d * f - e * e, c * e - b * f, b * e - c * d
    s = 1.0 / (a * g + b * h + c * k)
    out[0, 0], out[0, 1], out[0, 2] = s * g, s * h, s * k
    out[1, 0], out[1, 1], out[1, 2] = s * h, s * (a * f - c * c), s * (b * c - a * e)
    out[2, 0], out[2, 1], out[2, 2] = s * k, s * (b * c - a * e), s * (a * d - b * b)


@serial
def gather(bodies: Bodies, compounds: Compounds, free, centre, inertia: Inertia, velocity, taken):
    """Write where the compounds are, what moves them and how they move, behind those of the bodies.

    What the members' velocities differ by from those of a rigid body is taken from them.

    Parameters
    ----------
    bodies : Bodies
    compounds : Compounds
    free : (n + c + 1,) bool
        Which nodes may be moved.
    centre : (n + c, 3) float
        Written [m].
    inertia : Inertia
        Of all nodes; written.
    velocity : (n + c + 1, 6) float
        Written.
    taken : (n, 6) float
        Impulses about the members' own centres, added to [N s], [N m s].
    """
    n = len(bodies.mass)
    moment, back, spin, rest = np.empty((3, 3)), np.empty((3, 3)), np.empty(3), np.empty(3)
    for k in range(len(compounds.start) - 1):
        members, node = compounds.member[compounds.start[k] : compounds.start[k + 1]], n + k
        mass = _sum_up(bodies, members, centre[node], moment)
        v = velocity[node]
        v[:] = 0.0
        if free[node]:
            invert(moment, back)
            inertia.inverse_mass[node] = 1.0 / mass
            q = 0
            for i in range(3):
                for j in range(i, 3):
                    inertia.inverse[node, q] = back[i, j]
                    q += 1
            px, py, pz = 0.0, 0.0, 0.0
            for b in members:
                m, u = bodies.mass[b], bodies.velocity[b]
                v[0] += m * u[0] / mass
                v[1] += m * u[1] / mass
                v[2] += m * u[2] / mass
                x, y, z = (
                    bodies.position[b, 0] - centre[node, 0],
                    bodies.position[b, 1] - centre[node, 1],
                    bodies.position[b, 2] - centre[node, 2],
                )
                conjugate(bodies.rotation[b], bodies.inertia[b], bodies.spin[b], spin)
                px += m * (y * u[2] - z * u[1]) + spin[0]
                py += m * (z * u[0] - x * u[2]) + spin[1]
                pz += m * (x * u[1] - y * u[0]) + spin[2]
            for c in range(3):
                v[3 + c] = back[c, 0] * px + back[c, 1] * py + back[c, 2] * pz
        for b in members:
            m = bodies.mass[b]
            x, y, z = (
                bodies.position[b, 0] - centre[node, 0],
                bodies.position[b, 1] - centre[node, 1],
                bodies.position[b, 2] - centre[node, 2],
            )
            taken[b, 0] += m * (bodies.velocity[b, 0] - v[0] - v[4] * z + v[5] * y)
            taken[b, 1] += m * (bodies.velocity[b, 1] - v[1] - v[5] * x + v[3] * z)
            taken[b, 2] += m * (bodies.velocity[b, 2] - v[2] - v[3] * y + v[4] * x)
            for c in range(3):
                rest[c] = bodies.spin[b, c] - v[3 + c]
            conjugate(bodies.rotation[b], bodies.inertia[b], rest, spin)
            for c in range(3):
                taken[b, 3 + c] += spin[c]


@serial
def carry(bodies: Bodies, compounds: Compounds, free, velocity, moved, dt):
    """Move the members of compounds by what their nodes did; the arguments are those of `state.move`.

    A turning compound keeps its angular momentum as a body does.
    """
    n = len(bodies.mass)
    centre, moment, back = np.empty(3), np.empty((3, 3)), np.empty((3, 3))
    momentum, turn, spin = np.empty(3), np.empty(3), np.empty(3)
    none, half, whole = np.array([1.0, 0.0, 0.0, 0.0]), np.empty(4), np.empty(4)
    turned = np.empty((3, 3))
    for k in range(len(compounds.start) - 1):
        members, node = compounds.member[compounds.start[k] : compounds.start[k + 1]], n + k
        if not free[node]:
            for b in members:
                bodies.velocity[b], bodies.spin[b] = 0.0, 0.0
            continue
        _sum_up(bodies, members, centre, moment)
        invert(moment, back)
        w = velocity[node, 3:]
        for c in range(3):
            momentum[c] = moment[c, 0] * w[0] + moment[c, 1] * w[1] + moment[c, 2] * w[2]
            turn[c] = moved[node, 3 + c]
        turn_by(none, 0.5 * turn[0], 0.5 * turn[1], 0.5 * turn[2], half)
        rotation_of(half, turned)
        conjugate(turned, back, momentum, spin)
        for c in range(3):
            turn[c] += dt * (spin[c] - w[c])
        angle = np.sqrt(turn[0] * turn[0] + turn[1] * turn[1] + turn[2] * turn[2])
        turn_by(none, turn[0], turn[1], turn[2], whole)
        rotation_of(whole, turned)
        conjugate(turned, back, momentum, spin)
        for b in members:
            x, y, z = (
                bodies.position[b, 0] - centre[0],
                bodies.position[b, 1] - centre[1],
                bodies.position[b, 2] - centre[2],
            )
            u = turned[0, 0] * x + turned[0, 1] * y + turned[0, 2] * z
            v = turned[1, 0] * x + turned[1, 1] * y + turned[1, 2] * z
            s = turned[2, 0] * x + turned[2, 1] * y + turned[2, 2] * z
            dx, dy, dz = moved[node, 0] + u - x, moved[node, 1] + v - y, moved[node, 2] + s - z
            bodies.position[b, 0] += dx
            bodies.position[b, 1] += dy
            bodies.position[b, 2] += dz
            bodies.travel[b] += np.sqrt(dx * dx + dy * dy + dz * dz) + bodies.radius[b] * angle
            bodies.velocity[b, 0] = velocity[node, 0] + spin[1] * s - spin[2] * v
            bodies.velocity[b, 1] = velocity[node, 1] + spin[2] * u - spin[0] * s
            bodies.velocity[b, 2] = velocity[node, 2] + spin[0] * v - spin[1] * u
            for c in range(3):
                bodies.spin[b, c] = spin[c]
            if angle > 0.0:
                turn_by(bodies.orientation[b], turn[0], turn[1], turn[2], bodies.orientation[b])
                rotation_of(bodies.orientation[b], bodies.rotation[b])


@inline
def _shift(bodies, b, x, y, z, u, v, w):
    length, angle = np.sqrt(x * x + y * y + z * z), np.sqrt(u * u + v * v + w * w)
    bodies.position[b, 0] += x
    bodies.position[b, 1] += y
    bodies.position[b, 2] += z
    bodies.travel[b] += length + bodies.radius[b] * angle
    turn_by(bodies.orientation[b], u, v, w, bodies.orientation[b])
    rotation_of(bodies.orientation[b], bodies.rotation[b])


@serial
def shift(bodies: Bodies, some, by):
    """Shift and turn some bodies (k,) where they are, by (k, 6)."""
    for k in range(len(some)):
        _shift(bodies, some[k], by[k, 0], by[k, 1], by[k, 2], by[k, 3], by[k, 4], by[k, 5])


@serial
def creep(bodies: Bodies, creeping):
    """Shift and turn bodies that are awake by `creeping` (n, 6), each in its own frame."""
    for b in range(len(bodies.mass)):
        s = creeping[b]
        if bodies.awake[b] and (s[0] != 0.0 or s[1] != 0.0 or s[2] != 0.0 or s[3] != 0.0 or s[4] != 0.0 or s[5] != 0.0):
            r = bodies.rotation[b]
            _shift(
                bodies,
                b,
                r[0, 0] * s[0] + r[0, 1] * s[1] + r[0, 2] * s[2],
                r[1, 0] * s[0] + r[1, 1] * s[1] + r[1, 2] * s[2],
                r[2, 0] * s[0] + r[2, 1] * s[1] + r[2, 2] * s[2],
                r[0, 0] * s[3] + r[0, 1] * s[4] + r[0, 2] * s[5],
                r[1, 0] * s[3] + r[1, 1] * s[4] + r[1, 2] * s[5],
                r[2, 0] * s[3] + r[2, 1] * s[4] + r[2, 2] * s[5],
            )


@serial
def pushes(m, bodies, some, load, h, dt, taken, force):
    """Sum up what contacts do to some bodies over a check.

    Parameters
    ----------
    m : Manifolds
    bodies : Bodies
    some : (n,) bool
    load : (p,) float
        Mean normal force of each pair [N].
    h, dt : float
        Substep and check [s].
    taken : (n, 6) float
        Impulses about the centres, added to [N s], [N m s].
    force : (n, 3) float
        Mean normal forces, written [N].
    """
    force[:] = 0.0
    for p in range(len(m.state)):
        i, j = m.body[p, 0], m.body[p, 1]
        if load[p] <= 0.0 or not (some[i] or some[j]):
            continue
        r, a, t = bodies.rotation[i], m.axis[p], m.tangent[p]
        n0 = r[0, 0] * a[0] + r[0, 1] * a[1] + r[0, 2] * a[2]
        n1 = r[1, 0] * a[0] + r[1, 1] * a[1] + r[1, 2] * a[2]
        n2 = r[2, 0] * a[0] + r[2, 1] * a[1] + r[2, 2] * a[2]
        t0 = r[0, 0] * t[0] + r[0, 1] * t[1] + r[0, 2] * t[2]
        t1 = r[1, 0] * t[0] + r[1, 1] * t[1] + r[1, 2] * t[2]
        t2 = r[2, 0] * t[0] + r[2, 1] * t[1] + r[2, 2] * t[2]
        s0, s1, s2 = n1 * t2 - n2 * t1, n2 * t0 - n0 * t2, n0 * t1 - n1 * t0
        for side in range(2):
            b = m.body[p, side]
            if not some[b]:
                continue
            sign = 1.0 if side else -1.0
            force[b, 0] += sign * load[p] * n0
            force[b, 1] += sign * load[p] * n1
            force[b, 2] += sign * load[p] * n2
            turn = bodies.rotation[b]
            for q in range(m.size[p]):
                f, g = m.impulse[p, q], m.point[p, q, side]
                k = sign * dt / h
                px = k * (f[0] * n0 + f[1] * t0 + f[2] * s0)
                py = k * (f[0] * n1 + f[1] * t1 + f[2] * s1)
                pz = k * (f[0] * n2 + f[1] * t2 + f[2] * s2)
                x = turn[0, 0] * g[0] + turn[0, 1] * g[1] + turn[0, 2] * g[2]
                y = turn[1, 0] * g[0] + turn[1, 1] * g[1] + turn[1, 2] * g[2]
                z = turn[2, 0] * g[0] + turn[2, 1] * g[1] + turn[2, 2] * g[2]
                taken[b, 0] += px
                taken[b, 1] += py
                taken[b, 2] += pz
                taken[b, 3] += y * pz - z * py
                taken[b, 4] += z * px - x * pz
                taken[b, 5] += x * py - y * px


class Load(NamedTuple):
    """What contacts do to each body."""

    force: np.ndarray  # (n, 3) now [N]
    used: np.ndarray  # (n, 3) of late [N]
    capacity: np.ndarray  # (n,) by how much the two may differ [N]


@serial
def struck(rigid, held, bodies, pairs, load, hit):
    """Mark in `hit` (n,) the members of rigid clusters that are struck; returns whether there are any.

    `rigid` and `held` (n,) tell which belong to a rigid cluster, and to one that is held.
    """
    force, used, capacity = load
    some = False
    for b in range(len(rigid)):
        if rigid[b] and bodies.awake[b]:
            x, y, z = force[b, 0] - used[b, 0], force[b, 1] - used[b, 1], force[b, 2] - used[b, 2]
            if x * x + y * y + z * z > capacity[b] * capacity[b]:
                hit[b], some = True, True
    # what is driven yields to nothing, so no force tells how hard it strikes what is held
    for p in range(len(pairs.gap)):
        if pairs.size[p] == 0 or pairs.gap[p] > 0.0:
            continue
        for side in range(2):
            d, b = pairs.body[p, side], pairs.body[p, 1 - side]
            if bodies.kind[d] != DRIVEN or not (rigid[b] and held[b] and bodies.awake[b]):
                continue
            v, w = bodies.velocity[d], bodies.spin[d]
            if abs(v[0]) + abs(v[1]) + abs(v[2]) + abs(w[0]) + abs(w[1]) + abs(w[2]) > 0.0:
                hit[b], some = True, True
    return some


@serial
def note_forces(label, awake, load, fraction, since, time, dt):
    """Let each body get used to the force on it by a fraction, and count since when nothing has struck its cluster.

    `since` and `time` (n,) [s] are the time since the last blow and that awake, `label` (n,) tells the
    clusters.
    """
    force, used, capacity = load
    blow = np.zeros(len(label), np.uint8)
    for b in range(len(label)):
        since[b] += dt
        if not awake[b]:
            continue
        time[b] += dt
        x, y, z = force[b, 0] - used[b, 0], force[b, 1] - used[b, 1], force[b, 2] - used[b, 2]
        if capacity[b] > 0.0 and x * x + y * y + z * z > capacity[b] * capacity[b]:
            blow[label[b]] = 1
        used[b, 0] += fraction * x
        used[b, 1] += fraction * y
        used[b, 2] += fraction * z
    for b in range(len(label)):
        if blow[label[b]]:
            since[b] = 0.0
