"""Kernels that move bodies and solve their contacts and bonds.

The scheme is substepped sequential impulses with soft constraints, a solve with and a relaxation without the
position error in each substep, warm started (Macklin et al. 2019, Small Steps in Physics Simulation; the relaxation
after Catto 2024; soft constraint coefficients from Catto 2011, Soft Constraints). Bonds are springs of a
physical stiffness, so that a sliver of area carries a sliver of the load.
"""

from typing import NamedTuple

import numpy as np

from urst.core.bodies.mobility import ABSENT, DRIVEN, FIXED, LOOSE
from urst.core.jit import inline, serial

#: sweeps over the contacts that give back the bounce, so that the corners of a face agree
BOUNCE_SWEEPS = 10


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
    inverse_mass: np.ndarray  # (n,) 0 where the solver must not move it
    mobility: np.ndarray  # (n, 3, 3) world inverse inertia, 0 likewise


class Contacts(NamedTuple):
    """State of `m` contact points."""

    body: np.ndarray  # (m, 2) int64
    normal: np.ndarray  # (m, 3) from first to second
    tangent: np.ndarray  # (m, 2, 3)
    anchor: np.ndarray  # (m, 2, 3) the point in each body's frame
    gap: np.ndarray  # (m,) at detection [m]
    impulse: np.ndarray  # (m, 3) along normal and tangents [N s]
    friction: np.ndarray  # (m,)
    restitution: np.ndarray  # (m,)
    approach: np.ndarray  # (m,) normal velocity before the step [m/s]
    peak: np.ndarray  # (m,) largest normal impulse in the step
    arm: np.ndarray  # (m, 2, 3) work: anchor seen from each centre
    weight: np.ndarray  # (m, 3) work: effective masses


class Surface(NamedTuple):
    """Surfaces of `n` bodies."""

    friction: np.ndarray  # (n,)
    restitution: np.ndarray  # (n,)
    reach: np.ndarray  # (n,) how far a contact point may have moved and be the same [m]


class OldContacts(NamedTuple):
    """Contacts before, to hand on the impulses of."""

    key: np.ndarray  # (p,) sorted first * n + second
    start: np.ndarray  # (p + 1,) into the next two
    anchor: np.ndarray  # (m, 3) in the first body's frame
    push: np.ndarray  # (m, 3) impulse in world coordinates [N s]


class Section(NamedTuple):
    """The patches under `b` bonds; directions in the first body's frame."""

    normal: np.ndarray  # (b, 3)
    axis: np.ndarray  # (b, 3)
    area: np.ndarray  # (b,) [m2]
    moment: np.ndarray  # (b, 2) [m4]
    extent: np.ndarray  # (b, 2) [m]


class Pace(NamedTuple):
    """The numbers of one step."""

    h: float  # substep [s]
    substeps: int
    linear_keep: float  # share of velocity kept over a substep
    angular_keep: float  # share of spin kept
    top_speed: float  # [m/s]
    top_spin: float  # [rad/s]
    frequency: float  # stiffness of the soft constraints [Hz]; below a quarter of 1 / h
    push_speed: float  # fastest way out of an overlap [m/s]
    bounce_speed: float  # approaches slower than this do not bounce [m/s]
    lag: float  # damping of the bonds, the time constant that multiplies their stiffness [s]


class BondState(NamedTuple):
    """State of `b` bonds."""

    body: np.ndarray  # (b, 2) int64
    anchor: np.ndarray  # (b, 2, 3) in each body's frame
    alive: np.ndarray  # (b,) uint8
    impulse: np.ndarray  # (b, 6) linear [N s], angular [N m s]
    load: np.ndarray  # (b, 6) sum of impulses over the substeps of a step
    stiffness: np.ndarray  # (b, 2) against parting [N/m] and against turning [N m/rad]
    arm: np.ndarray  # (b, 2, 3) work
    inverse: np.ndarray  # (b, 2, 3, 3) work: effective masses


@inline
def _rotation_of(q, r):
    w, x, y, z = q[0], q[1], q[2], q[3]
    r[0, 0], r[0, 1], r[0, 2] = 1 - 2 * (y * y + z * z), 2 * (x * y - w * z), 2 * (x * z + w * y)
    r[1, 0], r[1, 1], r[1, 2] = 2 * (x * y + w * z), 1 - 2 * (x * x + z * z), 2 * (y * z - w * x)
    r[2, 0], r[2, 1], r[2, 2] = 2 * (x * z - w * y), 2 * (y * z + w * x), 1 - 2 * (x * x + y * y)


@inline
def _turn(q, wx, wy, wz, h, out):
    """out = exp(h w) q, the exact turn by a constant spin."""
    size = np.sqrt(wx * wx + wy * wy + wz * wz)
    half = 0.5 * h * size
    s = 0.5 * h if half < 1e-9 else np.sin(half) / size
    c = np.cos(half)
    x, y, z = s * wx, s * wy, s * wz
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
def _conjugate(r, m, v, out):
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
def set_mobility(bodies):
    """Recompute the world inverse inertia; 0 for bodies the solver must not move."""
    for b in range(len(bodies.mass)):
        if bodies.kind[b] != LOOSE or not bodies.awake[b]:
            bodies.inverse_mass[b] = 0.0
            bodies.mobility[b] = 0.0
            continue
        bodies.inverse_mass[b] = 1.0 / bodies.mass[b]
        r, m, out = bodies.rotation[b], bodies.inverse_inertia[b], bodies.mobility[b]
        for i in range(3):
            for j in range(3):
                total = 0.0
                for k in range(3):
                    for l in range(3):
                        total += r[i, k] * m[k, l] * r[j, l]
                out[i, j] = total


@serial
def move(bodies, h):
    """Move all bodies by `h` seconds.

    A loose body keeps its angular momentum exactly; its spin at mid-step turns it (an explicit midpoint rule on
    the orientation with the momentum held, second order).
    """
    half, turned = np.empty(4), np.empty((3, 3))
    momentum, spin = np.empty(3), np.empty(3)
    for b in range(len(bodies.mass)):
        if bodies.kind[b] == FIXED or bodies.kind[b] == ABSENT or (bodies.kind[b] == LOOSE and not bodies.awake[b]):
            continue
        for c in range(3):
            bodies.position[b, c] += h * bodies.velocity[b, c]
        q, w = bodies.orientation[b], bodies.spin[b]
        if bodies.kind[b] == DRIVEN:
            _turn(q, w[0], w[1], w[2], h, q)
            _rotation_of(q, bodies.rotation[b])
            continue
        _conjugate(bodies.rotation[b], bodies.inertia[b], w, momentum)
        _turn(q, w[0], w[1], w[2], 0.5 * h, half)
        _rotation_of(half, turned)
        _conjugate(turned, bodies.inverse_inertia[b], momentum, spin)
        _turn(q, spin[0], spin[1], spin[2], h, q)
        _rotation_of(q, bodies.rotation[b])
        _conjugate(bodies.rotation[b], bodies.inverse_inertia[b], momentum, w)


@inline
def _push(bodies, i, j, ai, aj, px, py, pz):
    """Apply the impulse p to body j and its opposite to body i, at the arms ai and aj."""
    mi, mj = bodies.inverse_mass[i], bodies.inverse_mass[j]
    vi, vj = bodies.velocity[i], bodies.velocity[j]
    vi[0] -= mi * px
    vi[1] -= mi * py
    vi[2] -= mi * pz
    vj[0] += mj * px
    vj[1] += mj * py
    vj[2] += mj * pz
    _twist(bodies, i, j, ai[1] * pz - ai[2] * py, ai[2] * px - ai[0] * pz, ai[0] * py - ai[1] * px,
           aj[1] * pz - aj[2] * py, aj[2] * px - aj[0] * pz, aj[0] * py - aj[1] * px)  # fmt: skip


@inline
def _twist(bodies, i, j, ix, iy, iz, jx, jy, jz):
    wi, wj, a, b = bodies.spin[i], bodies.spin[j], bodies.mobility[i], bodies.mobility[j]
    for c in range(3):
        wi[c] -= a[c, 0] * ix + a[c, 1] * iy + a[c, 2] * iz
        wj[c] += b[c, 0] * jx + b[c, 1] * jy + b[c, 2] * jz


@inline
def _slip(bodies, i, j, ai, aj, out):
    """Velocity of j's point seen from i's."""
    vi, vj, wi, wj = bodies.velocity[i], bodies.velocity[j], bodies.spin[i], bodies.spin[j]
    out[0] = vj[0] + wj[1] * aj[2] - wj[2] * aj[1] - vi[0] - wi[1] * ai[2] + wi[2] * ai[1]
    out[1] = vj[1] + wj[2] * aj[0] - wj[0] * aj[2] - vi[1] - wi[2] * ai[0] + wi[0] * ai[2]
    out[2] = vj[2] + wj[0] * aj[1] - wj[1] * aj[0] - vi[2] - wi[0] * ai[1] + wi[1] * ai[0]


@inline
def _inverse_weight(bodies, i, j, ai, aj, nx, ny, nz):
    """n . K n: how much j's point speeds away from i's for a unit impulse along n."""
    total = bodies.inverse_mass[i] + bodies.inverse_mass[j]
    x, y, z = ai[1] * nz - ai[2] * ny, ai[2] * nx - ai[0] * nz, ai[0] * ny - ai[1] * nx
    m = bodies.mobility[i]
    total += x * (m[0, 0] * x + m[0, 1] * y + m[0, 2] * z)
    total += y * (m[1, 0] * x + m[1, 1] * y + m[1, 2] * z)
    total += z * (m[2, 0] * x + m[2, 1] * y + m[2, 2] * z)
    x, y, z = aj[1] * nz - aj[2] * ny, aj[2] * nx - aj[0] * nz, aj[0] * ny - aj[1] * nx
    m = bodies.mobility[j]
    total += x * (m[0, 0] * x + m[0, 1] * y + m[0, 2] * z)
    total += y * (m[1, 0] * x + m[1, 1] * y + m[1, 2] * z)
    total += z * (m[2, 0] * x + m[2, 1] * y + m[2, 2] * z)
    return total


@inline
def _meet(bodies, i, j, anchor, arm, gap):
    """Put both arms to the one point midway between the two anchors, and the way from i's anchor to j's in `gap`.

    A pair of opposite impulses at one point keeps angular momentum exactly, whatever has moved since detection.
    """
    ri, rj, xi, xj = bodies.rotation[i], bodies.rotation[j], bodies.position[i], bodies.position[j]
    for c in range(3):
        p = xi[c] + ri[c, 0] * anchor[0, 0] + ri[c, 1] * anchor[0, 1] + ri[c, 2] * anchor[0, 2]
        q = xj[c] + rj[c, 0] * anchor[1, 0] + rj[c, 1] * anchor[1, 1] + rj[c, 2] * anchor[1, 2]
        m = 0.5 * (p + q)
        arm[0, c] = m - xi[c]
        arm[1, c] = m - xj[c]
        gap[c] = q - p


@inline
def _invert(m, out):
    """Inverse of a symmetric positive 3 x 3 matrix; zero where it is singular."""
    a, b, c, d, e, f = m[0, 0], m[0, 1], m[0, 2], m[1, 1], m[1, 2], m[2, 2]
    x, y, z = d * f - e * e, c * e - b * f, b * e - c * d
    det = a * x + b * y + c * z
    s = 1.0 / det if det != 0.0 else 0.0
    out[0, 0], out[0, 1], out[0, 2] = x * s, y * s, z * s
    out[1, 0], out[1, 1], out[1, 2] = y * s, (a * f - c * c) * s, (b * c - a * e) * s
    out[2, 0], out[2, 1], out[2, 2] = z * s, (b * c - a * e) * s, (a * d - b * b) * s


@serial
def _prepare(bodies, contacts, bonds, h, lag):
    """Arms and effective masses at the present poses, and the warm start."""
    k, gap = np.empty((3, 3)), np.empty(3)
    for b in range(len(bonds.alive)):
        i, j = bonds.body[b, 0], bonds.body[b, 1]
        if not bonds.alive[b] or bodies.inverse_mass[i] + bodies.inverse_mass[j] == 0.0:
            continue
        arm = bonds.arm[b]
        _meet(bodies, i, j, bonds.anchor[b], arm, gap)
        for r in range(3):
            for c in range(3):
                k[r, c] = bodies.mobility[i, r, c] + bodies.mobility[j, r, c]
            k[r, r] += 1.0 / (h * (h + lag) * bonds.stiffness[b, 1])
        _invert(k, bonds.inverse[b, 1])
        mass = bodies.inverse_mass[i] + bodies.inverse_mass[j] + 1.0 / (h * (h + lag) * bonds.stiffness[b, 0])
        for r in range(3):
            for c in range(3):
                k[r, c] = mass if r == c else 0.0
        for side in range(2):
            m = bodies.mobility[i] if side == 0 else bodies.mobility[j]
            x, y, z = arm[side, 0], arm[side, 1], arm[side, 2]
            # k += S m S^T with S the cross-product matrix of the arm
            for c in range(3):
                # column c of m S^T
                if c == 0:
                    s0, s1, s2 = 0.0, -z, y
                elif c == 1:
                    s0, s1, s2 = z, 0.0, -x
                else:
                    s0, s1, s2 = -y, x, 0.0
                t0 = m[0, 0] * s0 + m[0, 1] * s1 + m[0, 2] * s2
                t1 = m[1, 0] * s0 + m[1, 1] * s1 + m[1, 2] * s2
                t2 = m[2, 0] * s0 + m[2, 1] * s1 + m[2, 2] * s2
                k[0, c] += -z * t1 + y * t2
                k[1, c] += z * t0 - x * t2
                k[2, c] += -y * t0 + x * t1
        _invert(k, bonds.inverse[b, 0])
        p = bonds.impulse[b]
        _push(bodies, i, j, arm[0], arm[1], p[0], p[1], p[2])
        _twist(bodies, i, j, p[3], p[4], p[5], p[3], p[4], p[5])
    for m in range(len(contacts.gap)):
        i, j = contacts.body[m, 0], contacts.body[m, 1]
        if bodies.inverse_mass[i] + bodies.inverse_mass[j] == 0.0:
            continue
        arm, n, t = contacts.arm[m], contacts.normal[m], contacts.tangent[m]
        _meet(bodies, i, j, contacts.anchor[m], arm, gap)
        contacts.weight[m, 0] = 1.0 / _inverse_weight(bodies, i, j, arm[0], arm[1], n[0], n[1], n[2])
        contacts.weight[m, 1] = 1.0 / _inverse_weight(bodies, i, j, arm[0], arm[1], t[0, 0], t[0, 1], t[0, 2])
        contacts.weight[m, 2] = 1.0 / _inverse_weight(bodies, i, j, arm[0], arm[1], t[1, 0], t[1, 1], t[1, 2])
        a, b, c = contacts.impulse[m, 0], contacts.impulse[m, 1], contacts.impulse[m, 2]
        _push(bodies, i, j, arm[0], arm[1], a * n[0] + b * t[0, 0] + c * t[1, 0],
              a * n[1] + b * t[0, 1] + c * t[1, 1], a * n[2] + b * t[0, 2] + c * t[1, 2])  # fmt: skip


@inline
def _soft(frequency, ratio, h):
    """Bias rate [1/s], mass scale and impulse scale of a damped spring taken implicitly (Catto 2011)."""
    omega = 2.0 * np.pi * frequency
    a = 2.0 * ratio + h * omega
    b = h * omega * a
    return omega / a, b / (1.0 + b), 1.0 / (1.0 + b)


@serial
def _solve_bonds(bodies, bonds, h, lag, backward):
    """One sweep over all bonds: a spring of the given stiffness with damping `lag` [s] times it, taken implicitly."""
    gap, drift = np.empty(3), np.empty(3)
    rate = 1.0 / (h + lag)
    total = len(bonds.alive)
    for number in range(total):
        b = total - 1 - number if backward else number
        i, j = bonds.body[b, 0], bonds.body[b, 1]
        if not bonds.alive[b] or bodies.inverse_mass[i] + bodies.inverse_mass[j] == 0.0:
            continue
        arm, p, wi, wj = bonds.arm[b], bonds.impulse[b], bodies.spin[i], bodies.spin[j]
        # the turn from i to j, as twice the vector part of q_j conj(q_i)
        qi, qj = bodies.orientation[i], bodies.orientation[j]
        s = 2.0 if qi[0] * qj[0] + qi[1] * qj[1] + qi[2] * qj[2] + qi[3] * qj[3] >= 0.0 else -2.0
        ex = s * (-qj[0] * qi[1] + qj[1] * qi[0] - qj[2] * qi[3] + qj[3] * qi[2])
        ey = s * (-qj[0] * qi[2] + qj[1] * qi[3] + qj[2] * qi[0] - qj[3] * qi[1])
        ez = s * (-qj[0] * qi[3] - qj[1] * qi[2] + qj[2] * qi[1] + qj[3] * qi[0])
        soft = 1.0 / (h * (h + lag) * bonds.stiffness[b, 1])
        x = wj[0] - wi[0] + rate * ex + soft * p[3]
        y = wj[1] - wi[1] + rate * ey + soft * p[4]
        z = wj[2] - wi[2] + rate * ez + soft * p[5]
        k = bonds.inverse[b, 1]
        dx = -(k[0, 0] * x + k[0, 1] * y + k[0, 2] * z)
        dy = -(k[1, 0] * x + k[1, 1] * y + k[1, 2] * z)
        dz = -(k[2, 0] * x + k[2, 1] * y + k[2, 2] * z)
        p[3] += dx
        p[4] += dy
        p[5] += dz
        _twist(bodies, i, j, dx, dy, dz, dx, dy, dz)
        _slip(bodies, i, j, arm[0], arm[1], drift)
        _meet(bodies, i, j, bonds.anchor[b], arm, gap)
        soft = 1.0 / (h * (h + lag) * bonds.stiffness[b, 0])
        x = drift[0] + rate * gap[0] + soft * p[0]
        y = drift[1] + rate * gap[1] + soft * p[1]
        z = drift[2] + rate * gap[2] + soft * p[2]
        k = bonds.inverse[b, 0]
        dx = -(k[0, 0] * x + k[0, 1] * y + k[0, 2] * z)
        dy = -(k[1, 0] * x + k[1, 1] * y + k[1, 2] * z)
        dz = -(k[2, 0] * x + k[2, 1] * y + k[2, 2] * z)
        p[0] += dx
        p[1] += dy
        p[2] += dz
        _push(bodies, i, j, arm[0], arm[1], dx, dy, dz)


@serial
def _solve_contacts(bodies, contacts, h, biased, frequency, push_speed):
    """One sweep over all contacts; `biased` also works off overlap."""
    gap, drift = np.empty(3), np.empty(3)
    contact_rate, contact_mass, contact_keep = _soft(frequency, 10.0, h)
    for m in range(len(contacts.gap)):
        i, j = contacts.body[m, 0], contacts.body[m, 1]
        if bodies.inverse_mass[i] + bodies.inverse_mass[j] == 0.0:
            continue
        arm, n, t, p = contacts.arm[m], contacts.normal[m], contacts.tangent[m], contacts.impulse[m]
        _meet(bodies, i, j, contacts.anchor[m], arm, gap)
        _slip(bodies, i, j, arm[0], arm[1], drift)
        limit = contacts.friction[m] * p[0]
        a = p[1] - contacts.weight[m, 1] * (drift[0] * t[0, 0] + drift[1] * t[0, 1] + drift[2] * t[0, 2])
        b = p[2] - contacts.weight[m, 2] * (drift[0] * t[1, 0] + drift[1] * t[1, 1] + drift[2] * t[1, 2])
        size = np.sqrt(a * a + b * b)
        if size > limit:
            a, b = a * limit / size, b * limit / size
        da, db = a - p[1], b - p[2]
        p[1], p[2] = a, b
        _push(bodies, i, j, arm[0], arm[1], da * t[0, 0] + db * t[1, 0], da * t[0, 1] + db * t[1, 1],
              da * t[0, 2] + db * t[1, 2])  # fmt: skip
        s = contacts.gap[m] + gap[0] * n[0] + gap[1] * n[1] + gap[2] * n[2]
        bias, scale, keep = 0.0, 1.0, 0.0
        if s > 0.0:
            bias = s / h
        elif biased:
            bias, scale, keep = max(contact_rate * s, -push_speed), contact_mass, contact_keep
        _slip(bodies, i, j, arm[0], arm[1], drift)
        speed = drift[0] * n[0] + drift[1] * n[1] + drift[2] * n[2]
        d = -contacts.weight[m, 0] * scale * (speed + bias) - keep * p[0]
        new = max(p[0] + d, 0.0)
        d = new - p[0]
        p[0] = new
        if new > contacts.peak[m]:
            contacts.peak[m] = new
        _push(bodies, i, j, arm[0], arm[1], d * n[0], d * n[1], d * n[2])


@serial
def step(bodies, contacts, bonds, gravity, pace):
    """Advance by some substeps, then give back the bounce."""
    h, lag, frequency, push_speed = pace.h, pace.lag, pace.frequency, pace.push_speed
    drift, gap = np.empty(3), np.empty(3)
    bonds.load[:] = 0.0
    for m in range(len(contacts.gap)):
        i, j, n = contacts.body[m, 0], contacts.body[m, 1], contacts.normal[m]
        _meet(bodies, i, j, contacts.anchor[m], contacts.arm[m], gap)
        _slip(bodies, i, j, contacts.arm[m, 0], contacts.arm[m, 1], drift)
        contacts.approach[m] = drift[0] * n[0] + drift[1] * n[1] + drift[2] * n[2]
        contacts.peak[m] = 0.0
    for _ in range(pace.substeps):
        set_mobility(bodies)
        for b in range(len(bodies.mass)):
            if bodies.inverse_mass[b] > 0.0:
                for c in range(3):
                    bodies.velocity[b, c] = pace.linear_keep * (bodies.velocity[b, c] + h * gravity[c])
                    bodies.spin[b, c] *= pace.angular_keep
        _prepare(bodies, contacts, bonds, h, lag)
        _solve_bonds(bodies, bonds, h, lag, False)
        _solve_contacts(bodies, contacts, h, True, frequency, push_speed)
        _solve_bonds(bodies, bonds, h, lag, True)
        # once more, since what the bonds gave back may have pushed bodies into each other again
        _solve_contacts(bodies, contacts, h, True, frequency, push_speed)
        _limit(bodies, pace.top_speed, pace.top_spin)
        move(bodies, h)
        set_mobility(bodies)
        _solve_contacts(bodies, contacts, h, False, frequency, push_speed)
        for b in range(len(bonds.alive)):
            for c in range(6):
                bonds.load[b, c] += bonds.impulse[b, c]
    for _ in range(BOUNCE_SWEEPS):
        for m in range(len(contacts.gap)):
            i, j, n = contacts.body[m, 0], contacts.body[m, 1], contacts.normal[m]
            if contacts.approach[m] > -pace.bounce_speed or contacts.peak[m] == 0.0 or contacts.restitution[m] == 0.0:
                continue
            if bodies.inverse_mass[i] + bodies.inverse_mass[j] == 0.0:
                continue
            arm = contacts.arm[m]
            _meet(bodies, i, j, contacts.anchor[m], arm, gap)
            _slip(bodies, i, j, arm[0], arm[1], drift)
            speed = drift[0] * n[0] + drift[1] * n[1] + drift[2] * n[2]
            d = -contacts.weight[m, 0] * (speed + contacts.restitution[m] * contacts.approach[m])
            new = max(contacts.impulse[m, 0] + d, 0.0)
            d = new - contacts.impulse[m, 0]
            contacts.impulse[m, 0] = new
            _push(bodies, i, j, arm[0], arm[1], d * n[0], d * n[1], d * n[2])


@serial
def _limit(bodies, top_speed, top_spin):
    for b in range(len(bodies.mass)):
        if bodies.inverse_mass[b] > 0.0:
            for vector, top in ((bodies.velocity[b], top_speed), (bodies.spin[b], top_spin)):
                size = np.sqrt(vector[0] ** 2 + vector[1] ** 2 + vector[2] ** 2)
                if size > top:
                    for c in range(3):
                        vector[c] *= top / size


@serial
def gather(pairs, found, bodies, surface, old, out):
    """Fill the contact arrays from the touches found, handing on the impulses of the same points before."""
    counts, normals, points, gaps = found.counts, found.normals, found.points, found.gaps
    n = len(bodies.mass)
    m = 0
    for p in range(len(pairs)):
        i, j = pairs[p, 0], pairs[p, 1]
        nx, ny, nz = normals[p, 0], normals[p, 1], normals[p, 2]
        if abs(nx) < 0.57735:
            tx, ty, tz = 0.0, nz, -ny
        else:
            tx, ty, tz = -nz, 0.0, nx
        length = np.sqrt(tx * tx + ty * ty + tz * tz)
        tx, ty, tz = tx / length, ty / length, tz / length
        sx, sy, sz = ny * tz - nz * ty, nz * tx - nx * tz, nx * ty - ny * tx
        at = np.searchsorted(old.key, i * n + j)
        known = at < len(old.key) and old.key[at] == i * n + j
        near = min(surface.reach[i], surface.reach[j])
        for k in range(counts[p]):
            out.body[m, 0], out.body[m, 1] = i, j
            out.normal[m, 0], out.normal[m, 1], out.normal[m, 2] = nx, ny, nz
            out.tangent[m, 0, 0], out.tangent[m, 0, 1], out.tangent[m, 0, 2] = tx, ty, tz
            out.tangent[m, 1, 0], out.tangent[m, 1, 1], out.tangent[m, 1, 2] = sx, sy, sz
            for side in range(2):
                b = pairs[p, side]
                r, x = bodies.rotation[b], bodies.position[b]
                dx, dy, dz = points[p, k, 0] - x[0], points[p, k, 1] - x[1], points[p, k, 2] - x[2]
                for c in range(3):
                    out.anchor[m, side, c] = r[0, c] * dx + r[1, c] * dy + r[2, c] * dz
            out.gap[m] = gaps[p, k]
            out.friction[m] = np.sqrt(surface.friction[i] * surface.friction[j])
            out.restitution[m] = max(surface.restitution[i], surface.restitution[j])
            out.impulse[m] = 0.0
            if known:
                best, chosen = near * near, -1
                for q in range(old.start[at], old.start[at + 1]):
                    d = 0.0
                    for c in range(3):
                        d += (old.anchor[q, c] - out.anchor[m, 0, c]) ** 2
                    if d < best:
                        best, chosen = d, q
                if chosen >= 0:
                    f = old.push[chosen]
                    out.impulse[m, 0] = max(0.0, f[0] * nx + f[1] * ny + f[2] * nz)
                    out.impulse[m, 1] = f[0] * tx + f[1] * ty + f[2] * tz
                    out.impulse[m, 2] = f[0] * sx + f[1] * sy + f[2] * sz
            m += 1
    return m


@serial
def bond_stress(bonds, rotation, section, interval, stress):
    """Mean tension and shear over a step in every living bond, stress (b, 2) [Pa].

    A patch carries N, V, M and T like a beam's section: tension N/A + M1 c1/I1 + M2 c2/I2, shear V/A + T c/J
    (Potyondy & Cundall 2004, A bonded-particle model for rock, eq. 16, with the patch's own section). The extents bound
    the section by a rectangle: exact for one, on the safe side for any other shape.
    `interval` [s]: what `load` was summed over.
    """
    normal, axis, area = section.normal, section.axis, section.area
    moment, extent = section.moment, section.extent
    for b in range(len(bonds.alive)):
        stress[b] = 0.0
        if not bonds.alive[b]:
            continue
        r = rotation[bonds.body[b, 0]]
        n0, n1, n2 = normal[b, 0], normal[b, 1], normal[b, 2]
        nx = r[0, 0] * n0 + r[0, 1] * n1 + r[0, 2] * n2
        ny = r[1, 0] * n0 + r[1, 1] * n1 + r[1, 2] * n2
        nz = r[2, 0] * n0 + r[2, 1] * n1 + r[2, 2] * n2
        a0, a1, a2 = axis[b, 0], axis[b, 1], axis[b, 2]
        ax = r[0, 0] * a0 + r[0, 1] * a1 + r[0, 2] * a2
        ay = r[1, 0] * a0 + r[1, 1] * a1 + r[1, 2] * a2
        az = r[2, 0] * a0 + r[2, 1] * a1 + r[2, 2] * a2
        bx, by, bz = ny * az - nz * ay, nz * ax - nx * az, nx * ay - ny * ax
        fx, fy, fz = bonds.load[b, 0] / interval, bonds.load[b, 1] / interval, bonds.load[b, 2] / interval
        mx, my, mz = bonds.load[b, 3] / interval, bonds.load[b, 4] / interval, bonds.load[b, 5] / interval
        # the force on the second body points back to the first where the bond is pulled
        pull = -(fx * nx + fy * ny + fz * nz)
        sx, sy, sz = fx + pull * nx, fy + pull * ny, fz + pull * nz
        shear = np.sqrt(sx * sx + sy * sy + sz * sz)
        bend1, bend2 = abs(mx * ax + my * ay + mz * az), abs(mx * bx + my * by + mz * bz)
        torque = abs(mx * nx + my * ny + mz * nz)
        polar = moment[b, 0] + moment[b, 1]
        # bending about the first axis strains the far ends of the second
        stress[b, 0] = pull / area[b] + bend1 * extent[b, 1] / moment[b, 0] + bend2 * extent[b, 0] / moment[b, 1]
        stress[b, 1] = shear / area[b] + torque * max(extent[b, 0], extent[b, 1]) / polar


@serial
def islands(n, kind, contact_body, contact_push, bond_body, bond_alive, label):
    """Label loose bodies joined by contacts that press or by living bonds, label (n,): the least index in each island."""
    for b in range(n):
        label[b] = b
    for source in range(2):
        body = contact_body if source == 0 else bond_body
        for m in range(len(body)):
            if (source == 0 and contact_push[m] <= 0.0) or (source == 1 and not bond_alive[m]):
                continue
            i, j = body[m, 0], body[m, 1]
            if kind[i] != LOOSE or kind[j] != LOOSE:
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
