"""Kernels of bonds: springs with six degrees of freedom between two bodies, taken implicitly.

A bond's own directions are its normal, its first axis and normal x axis, fixed in the first body. Strains, forces and
stiffnesses along and about them come in this order: along the three, then about the three.

bonds is a `BondState` and some (k,) the numbers of those of its bonds that are meant; bodies have position (n, 3) [m],
rotation (n, 3, 3) and orientation (n, 4). velocity and moved (m + 1, 6) are those of nodes [m/s], [rad/s], and how far
they have gone [m], [rad]; inertia is an `Inertia`, h the substep [s]. backward turns the order of a sweep round; kind
(n,) is fixed, driven or loose, alive (b,) uint8; a force or a strain has six entries, and reach (3,) is how far a turn
about each direction opens it at its rim [m/rad]; lag [s] is its damping over its stiffness.
"""

from typing import NamedTuple

import numpy as np

from urst.core.bodies.mobility import LOOSE
from urst.core.bodies.patch_kernels import CORNERS
from urst.core.jit import inline, serial

#: least fraction of its strength that counts before a bond parts
LEAST = 1e-3


class BondState(NamedTuple):
    """State of `b` bonds; own directions unless said."""

    body: np.ndarray  # (b, 2) int64
    anchor: np.ndarray  # (b, 2, 3) in each body's frame
    frame: np.ndarray  # (b, 3, 3) the own directions, one a row, in the first body's frame
    alive: np.ndarray  # (b,) uint8
    section: np.ndarray  # (b, 4) 1/A, 1/I about either axis, and stress by twist [1/m2], [1/m4], [1/m3]
    corner: np.ndarray  # (b, 8, 2) corners along the second and third of the own directions [m]
    strength: np.ndarray  # (b, 4) in tension, in shear [Pa], shear gained a pressure, in compression [Pa]
    relief: np.ndarray  # (b, 2) tension and shear as its section has it over that of its patch alone, see `sections`
    gives: np.ndarray  # (b,) how far it gives before it parts [m]
    crack: np.ndarray  # (b,) over how much of that, at the end, its strength fades [m]
    reach: np.ndarray  # (b, 3) how far a turn about each of the own directions opens it at its rim [m/rad]
    yielded: np.ndarray  # (b,) how far it has given for good [m]
    stiffness: np.ndarray  # (b, 6) [N/m] and [N m/rad]
    swept: np.ndarray  # (b, 6) the same as far as the sweeps can carry it
    rest: np.ndarray  # (b, 6) strain at which nothing pulls [m] and [rad]
    force: np.ndarray  # (b, 6) on the second body [N] and [N m], mean over the last check or flex
    impulse: np.ndarray  # (b, 6) world, over the last substep [N s] and [N m s]
    load: np.ndarray  # (b, 6) world, sum of the impulses of a check
    full: np.ndarray  # (b,) uint8 whether it bore all it can within the check: 1 and holds, 2 and has parted
    room: np.ndarray  # (b,) work: how far it may give still before it parts [m]
    left: np.ndarray  # (b,) work: fraction of its strength that is left; friction stays
    axes: np.ndarray  # (b, 3, 3) world, work: the own directions, one a row
    strain: np.ndarray  # (b, 6) world, work: strain at the check less the rest
    arm: np.ndarray  # (b, 2, 3) world, work: anchors seen from the centres
    soft: np.ndarray  # (b, 2, 6) world, work: 1 / swept, as symmetric matrices
    inverse: np.ndarray  # (b, 6, 6) world, work: effective masses


@inline
def _spin(a, x, y, z):
    """a (x, y, z) of a symmetric matrix of six entries"""
    return a[0] * x + a[1] * y + a[2] * z, a[1] * x + a[3] * y + a[4] * z, a[2] * x + a[4] * y + a[5] * z


@serial
def _invert(k):
    """Invert a symmetric positive 6 x 6 matrix in place, by Gauss-Jordan without pivots."""
    for p in range(6):
        d = 1.0 / k[p, p]
        for c in range(6):
            k[p, c] *= d
        k[p, p] = d
        for r in range(6):
            if r != p:
                f = k[r, p]
                k[r, p] = 0.0
                for c in range(6):
                    k[r, c] -= f * k[p, c]


@inline
def _directions(bonds, b, rotation, axes):
    """Write the own directions of bond b in the world, one a row, axes (3, 3)."""
    r, f = rotation[bonds.body[b, 0]], bonds.frame[b]
    for a in range(3):
        for c in range(3):
            axes[a, c] = r[c, 0] * f[a, 0] + r[c, 1] * f[a, 1] + r[c, 2] * f[a, 2]


@inline
def _stretch(bonds, b, position, rotation, orientation, arm, e):
    """Write the anchors of bond b seen from the centres, arm (2, 3), and how its ends lie apart in the world, e
    (6,)."""
    i, j = bonds.body[b, 0], bonds.body[b, 1]
    for side in range(2):
        r, a = rotation[bonds.body[b, side]], bonds.anchor[b, side]
        for c in range(3):
            arm[side, c] = r[c, 0] * a[0] + r[c, 1] * a[1] + r[c, 2] * a[2]
    for c in range(3):
        e[c] = position[j, c] + arm[1, c] - position[i, c] - arm[0, c]
    # both are pushed at one point, halfway, so that angular momentum is kept
    for c in range(3):
        arm[0, c] += 0.5 * e[c]
        arm[1, c] -= 0.5 * e[c]
    # the turn from i to j, as twice the vector part of q_j conj(q_i)
    qi, qj = orientation[i], orientation[j]
    s = 2.0 if qi[0] * qj[0] + qi[1] * qj[1] + qi[2] * qj[2] + qi[3] * qj[3] >= 0.0 else -2.0
    e[3] = s * (-qj[0] * qi[1] + qj[1] * qi[0] - qj[2] * qi[3] + qj[3] * qi[2])
    e[4] = s * (-qj[0] * qi[2] + qj[1] * qi[3] + qj[2] * qi[0] - qj[3] * qi[1])
    e[5] = s * (-qj[0] * qi[3] - qj[1] * qi[2] + qj[2] * qi[1] + qj[3] * qi[0])


@serial
def strains(bonds, some, position, rotation, orientation, strain):
    """Write how the ends of some bonds (k,) lie apart and are turned against each other, strain (k, 6), own
    directions."""
    axes, arm, e = np.empty((3, 3)), np.empty((2, 3)), np.empty(6)
    for k in range(len(some)):
        b = some[k]
        _directions(bonds, b, rotation, axes)
        _stretch(bonds, b, position, rotation, orientation, arm, e)
        for a in range(3):
            strain[k, a] = axes[a, 0] * e[0] + axes[a, 1] * e[1] + axes[a, 2] * e[2]
            strain[k, 3 + a] = axes[a, 0] * e[3] + axes[a, 1] * e[4] + axes[a, 2] * e[5]


@serial
def prepare(bonds, bodies, inertia, h, lag, brittle, start):
    """Write arms, strains and effective masses of living bonds that move a body, and what their impulses do to the
    bodies.

    `start` (n + 1, 6) is added to. Nothing gives out within the check unless it is `brittle`. Returns the numbers of
    these bonds, (k,) int64.
    """
    columns = np.empty((2, 3, 3))
    some, count = np.empty(len(bonds.alive), np.int64), 0
    for b in range(len(bonds.alive)):
        i, j = bonds.body[b, 0], bonds.body[b, 1]
        if not bonds.alive[b] or inertia.inverse_mass[i] + inertia.inverse_mass[j] == 0.0:
            continue
        some[count] = b
        count += 1
        arm, e, axes = bonds.arm[b], bonds.strain[b], bonds.axes[b]
        bonds.full[b] = 0
        bonds.room[b] = max(bonds.gives[b] - bonds.yielded[b], 0.0) if brittle else np.inf
        bonds.left[b] = left_of(bonds, b, bonds.yielded[b])
        _directions(bonds, b, bodies.rotation, axes)
        _stretch(bonds, b, bodies.position, bodies.rotation, bodies.orientation, arm, e)
        for c in range(3):
            for a in range(3):
                e[c] -= axes[a, c] * bonds.rest[b, a]
                e[3 + c] -= axes[a, c] * bonds.rest[b, 3 + a]
        k = bonds.inverse[b]
        k[:] = 0.0
        for side in range(2):
            a, w = arm[side], inertia.inverse[bonds.body[b, side]]
            mass = inertia.inverse_mass[bonds.body[b, side]]
            # columns of I^-1 [a x], and of [a x]^T I^-1 [a x]
            for c in range(3):
                ex, ey, ez = 1.0 if c == 0 else 0.0, 1.0 if c == 1 else 0.0, 1.0 if c == 2 else 0.0
                tx, ty, tz = a[1] * ez - a[2] * ey, a[2] * ex - a[0] * ez, a[0] * ey - a[1] * ex
                ux, uy, uz = _spin(w, tx, ty, tz)
                columns[side, 0, c], columns[side, 1, c], columns[side, 2, c] = ux, uy, uz
                k[0, c] += uy * a[2] - uz * a[1]
                k[1, c] += uz * a[0] - ux * a[2]
                k[2, c] += ux * a[1] - uy * a[0]
                k[c, c] += mass
                sx, sy, sz = _spin(w, ex, ey, ez)
                k[3, 3 + c] += sx
                k[4, 3 + c] += sy
                k[5, 3 + c] += sz
                for row in range(3):
                    k[3 + row, c] += columns[side, row, c]
                    k[c, 3 + row] += columns[side, row, c]
        rate = 1.0 / (h * (h + lag))
        for part in range(2):
            q = 0
            for c in range(3):
                for d in range(c, 3):
                    total = 0.0
                    for a in range(3):
                        total += axes[a, c] * axes[a, d] / bonds.swept[b, 3 * part + a]
                    bonds.soft[b, part, q] = rate * total
                    k[3 * part + c, 3 * part + d] += rate * total
                    if d > c:
                        k[3 * part + d, 3 * part + c] += rate * total
                    q += 1
        _invert(k)
        p = bonds.impulse[b]
        _push(start, inertia, i, j, arm, p)
    return some[:count]


@inline
def _push(velocity, inertia, i, j, arm, push):
    """Apply an impulse and a twist, push (6,), to body j and their opposites to body i."""
    px, py, pz, tx, ty, tz = push[0], push[1], push[2], push[3], push[4], push[5]
    mi, mj = inertia.inverse_mass[i], inertia.inverse_mass[j]
    a, b, v, w = arm[0], arm[1], velocity[i], velocity[j]
    v[0] -= mi * px
    v[1] -= mi * py
    v[2] -= mi * pz
    w[0] += mj * px
    w[1] += mj * py
    w[2] += mj * pz
    x, y, z = _spin(
        inertia.inverse[i], tx + a[1] * pz - a[2] * py, ty + a[2] * px - a[0] * pz, tz + a[0] * py - a[1] * px
    )
    v[3] -= x
    v[4] -= y
    v[5] -= z
    x, y, z = _spin(
        inertia.inverse[j], tx + b[1] * pz - b[2] * py, ty + b[2] * px - b[0] * pz, tz + b[0] * py - b[1] * px
    )
    w[3] += x
    w[4] += y
    w[5] += z


@inline
def stress_at(bonds, b, load):
    """Greatest tension, shear and least tension of a bond's patch under a force and a twist on the second body, load
    (6,), own directions.

    It carries N, V, M and T like a beam's section: tension N/A + M1 y/I1 + M2 x/I2 at its corners, shear V/A + T c/J
    (Potyondy & Cundall 2004, A bonded-particle model for rock, eq. 16, with the patch's own section).
    """
    section = bonds.section[b]
    by_y, by_x = -load[4] * section[1], load[5] * section[2]
    most, least = -np.inf, np.inf
    for q in range(CORNERS):
        bent = by_x * bonds.corner[b, q, 0] + by_y * bonds.corner[b, q, 1]
        most, least = max(most, bent), min(least, bent)
    # the force on the second body points back to the first where the bond is pulled
    even = -load[0] * section[0]
    shear = np.sqrt(load[1] * load[1] + load[2] * load[2]) * section[0] + abs(load[3]) * section[3]
    return even + most, shear, even + least


@inline
def _utilisation(bonds, b, left, load):
    """Stress over strength under a force and a twist, load (6,); pressure makes a bond stronger in shear."""
    strength, relief = bonds.strength[b], bonds.relief[b]
    tension, shear, _ = stress_at(bonds, b, load)
    pressed = strength[2] * max(-tension, 0.0)
    return max(relief[0] * tension / (left * strength[0]), relief[1] * shear / (left * strength[1] + pressed))


@inline
def left_of(bonds, b, yielded):
    """Fraction of its strength that bond b has left once it has yielded by so much [m]."""
    crack = bonds.crack[b]
    return min(max((bonds.gives[b] - yielded) / crack, LEAST), 1.0) if crack > 0.0 else 1.0


@inline
def opening(reach, given):
    """How far a bond has given at its rim at most, by what its strain (6,) has moved for good."""
    straight = np.sqrt(given[0] * given[0] + given[1] * given[1] + given[2] * given[2])
    return straight + abs(given[3]) * reach[0] + abs(given[4]) * reach[1] + abs(given[5]) * reach[2]


@serial
def sweep(bonds, some, velocity, moved, inertia, h, lag, backward):
    """One sweep over some bonds (k,): springs of their stiffness with damping `lag` [s] times it, taken implicitly."""
    rate = 1.0 / (h + lag)
    total = len(some)
    x, d, y = np.empty(6), np.empty(6), np.empty(6)
    for number in range(total):
        b = some[total - 1 - number if backward else number]
        if bonds.full[b] == 2:
            continue
        i, j = bonds.body[b, 0], bonds.body[b, 1]
        a, c = bonds.arm[b, 0], bonds.arm[b, 1]
        p, k, e = bonds.impulse[b], bonds.inverse[b], bonds.strain[b]
        v, w, s, t = velocity[i], velocity[j], moved[i], moved[j]
        x[0] = w[0] + w[4] * c[2] - w[5] * c[1] - v[0] - v[4] * a[2] + v[5] * a[1]
        x[1] = w[1] + w[5] * c[0] - w[3] * c[2] - v[1] - v[5] * a[0] + v[3] * a[2]
        x[2] = w[2] + w[3] * c[1] - w[4] * c[0] - v[2] - v[3] * a[1] + v[4] * a[0]
        speed = np.sqrt(x[0] * x[0] + x[1] * x[1] + x[2] * x[2])
        x[0] += rate * (e[0] + t[0] + t[4] * c[2] - t[5] * c[1] - s[0] - s[4] * a[2] + s[5] * a[1])
        x[1] += rate * (e[1] + t[1] + t[5] * c[0] - t[3] * c[2] - s[1] - s[5] * a[0] + s[3] * a[2])
        x[2] += rate * (e[2] + t[2] + t[3] * c[1] - t[4] * c[0] - s[2] - s[3] * a[1] + s[4] * a[0])
        turning = 0.0
        for q in range(3):
            turning += (w[3 + q] - v[3 + q]) ** 2
            x[3 + q] = w[3 + q] - v[3 + q] + rate * (e[3 + q] + t[3 + q] - s[3 + q])
        px, py, pz = _spin(bonds.soft[b, 0], p[0], p[1], p[2])
        tx, ty, tz = _spin(bonds.soft[b, 1], p[3], p[4], p[5])
        x[0] += px
        x[1] += py
        x[2] += pz
        x[3] += tx
        x[4] += ty
        x[5] += tz
        for q in range(6):
            d[q] = -(
                k[q, 0] * x[0] + k[q, 1] * x[1] + k[q, 2] * x[2] + k[q, 3] * x[3] + k[q, 4] * x[4] + k[q, 5] * x[5]
            )
        # it carries no more than it can, however hard it is torn at
        r = bonds.axes[b]
        for q in range(3):
            y[q] = r[q, 0] * (p[0] + d[0]) + r[q, 1] * (p[1] + d[1]) + r[q, 2] * (p[2] + d[2])
            y[3 + q] = r[q, 0] * (p[3] + d[3]) + r[q, 1] * (p[4] + d[4]) + r[q, 2] * (p[5] + d[5])
        load = (y[0] / h, y[1] / h, y[2] / h, y[3] / h, y[4] / h, y[5] / h)
        utilisation = _utilisation(bonds, b, bonds.left[b], load)
        if utilisation > 1.0:
            bonds.full[b] = 1
            # what it does not stop opens it further; where that is more than it may give, it holds for as long only
            movement = h * (1.0 - 1.0 / utilisation) * (speed + np.sqrt(turning) * bonds.reach[b].max())
            capacity = min(bonds.room[b] / max(movement, 1e-30), 1.0) / utilisation
            for q in range(6):
                d[q] = (p[q] + d[q]) * capacity - p[q]
        for q in range(6):
            p[q] += d[q]
        _push(velocity, inertia, i, j, bonds.arm[b], d)


@serial
def snap(bonds, some, moved, inertia, start):
    """Let those of some bonds (k,) part that have carried all they can and given all they may, by how far bodies have
    `moved` (n + 1, 6) since the check; what they did is taken back from `start` (n + 1, 6)."""
    e, f, given = np.empty(6), np.empty(6), np.empty(6)
    for b in some:
        if bonds.full[b] != 1:
            continue
        i, j = bonds.body[b, 0], bonds.body[b, 1]
        a, c, r, s, t = bonds.arm[b, 0], bonds.arm[b, 1], bonds.axes[b], moved[i], moved[j]
        e[:] = bonds.strain[b]
        e[0] += t[0] + t[4] * c[2] - t[5] * c[1] - s[0] - s[4] * a[2] + s[5] * a[1]
        e[1] += t[1] + t[5] * c[0] - t[3] * c[2] - s[1] - s[5] * a[0] + s[3] * a[2]
        e[2] += t[2] + t[3] * c[1] - t[4] * c[0] - s[2] - s[3] * a[1] + s[4] * a[0]
        for q in range(3):
            e[3 + q] += t[3 + q] - s[3 + q]
        for q in range(3):
            given[q] = r[q, 0] * e[0] + r[q, 1] * e[1] + r[q, 2] * e[2]
            given[3 + q] = r[q, 0] * e[3] + r[q, 1] * e[4] + r[q, 2] * e[5]
        for q in range(6):
            f[q] = -bonds.swept[b, q] * given[q]
        utilisation = _utilisation(bonds, b, bonds.left[b], f)
        for q in range(6):
            given[q] *= max(1.0 - 1.0 / max(utilisation, 1.0), 0.0)
        yielded = bonds.yielded[b] + opening(bonds.reach[b], given)
        if bonds.gives[b] == 0.0 or yielded > bonds.gives[b]:
            bonds.full[b] = 2
            p = bonds.impulse[b]
            _push(start, inertia, i, j, bonds.arm[b], (-p[0], -p[1], -p[2], -p[3], -p[4], -p[5]))
            p[:] = 0.0
        else:
            bonds.room[b], bonds.left[b] = bonds.gives[b] - yielded, left_of(bonds, b, yielded)


@serial
def forces(bonds, some, rotation, interval):
    """Write the mean forces of some bonds (k,) over a check of `interval` [s], whose impulses were summed up."""
    axes = np.empty((3, 3))
    for k in range(len(some)):
        b = some[k]
        _directions(bonds, b, rotation, axes)
        for part in range(2):
            p = bonds.load[b, 3 * part : 3 * part + 3]
            for a in range(3):
                bonds.force[b, 3 * part + a] = (axes[a, 0] * p[0] + axes[a, 1] * p[1] + axes[a, 2] * p[2]) / interval


@serial
def push(bonds, some, rotation, h):
    """Write the impulses of some bonds (k,) over a substep of `h` [s] from their forces."""
    axes = np.empty((3, 3))
    for k in range(len(some)):
        b = some[k]
        _directions(bonds, b, rotation, axes)
        f = bonds.force[b]
        for c in range(3):
            bonds.impulse[b, c] = h * (axes[0, c] * f[0] + axes[1, c] * f[1] + axes[2, c] * f[2])
            bonds.impulse[b, 3 + c] = h * (axes[0, c] * f[3] + axes[1, c] * f[4] + axes[2, c] * f[5])


@serial
def utilisations(bonds, some, force, utilisation):
    """Write the stress over strength, utilisation (k,), of some bonds (k,) under forces (k, 6)."""
    for k in range(len(some)):
        b, f = some[k], force[k]
        utilisation[k] = _utilisation(bonds, b, bonds.left[b], f)


@serial
def clusters(n, kind, body, alive, label):
    """Label loose bodies joined by living bonds, label (n,): the least index in each cluster."""
    for b in range(n):
        label[b] = b
    for m in range(len(body)):
        i, j = body[m, 0], body[m, 1]
        if not alive[m] or kind[i] != LOOSE or kind[j] != LOOSE:
            continue
        while label[i] != i:
            label[i] = label[label[i]]
            i = label[i]
        while label[j] != j:
            label[j] = label[label[j]]
            j = label[j]
        if i < j:
            label[j] = i
        else:
            label[i] = j
    for b in range(n):
        root = b
        while label[root] != root:
            root = label[root]
        label[b] = root
