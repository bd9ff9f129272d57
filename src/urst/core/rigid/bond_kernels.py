"""Kernels of bonds: springs with six degrees of freedom between two bodies, taken implicitly."""

from typing import NamedTuple

import numpy as np

from urst.core.bodies.mobility import LOOSE
from urst.core.jit import inline, serial


class BondState(NamedTuple):
    """State of `b` bonds."""

    body: np.ndarray  # (b, 2) int64
    anchor: np.ndarray  # (b, 2, 3) in each body's frame
    alive: np.ndarray  # (b,) uint8
    impulse: np.ndarray  # (b, 6) linear [N s], angular [N m s]
    load: np.ndarray  # (b, 6) sum of impulses over the substeps of a check
    stiffness: np.ndarray  # (b, 2) against parting [N/m] and against turning [N m/rad]
    arm: np.ndarray  # (b, 2, 3) work: anchors seen from the centres
    strain: np.ndarray  # (b, 6) work: parting [m] and turn [rad] at the check
    inverse: np.ndarray  # (b, 6, 6) work: effective masses


class Section(NamedTuple):
    """The patches under `b` bonds; directions in the first body's frame."""

    normal: np.ndarray  # (b, 3)
    axis: np.ndarray  # (b, 3)
    area: np.ndarray  # (b,) [m2]
    moment: np.ndarray  # (b, 2) [m4]
    extent: np.ndarray  # (b, 2) [m]


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


@serial
def prepare(bonds, position, rotation, orientation, inertia, h, lag, start):
    """Write arms, strains and effective masses of living bonds, and what their impulses do to the bodies, start (n + 1, 6)."""
    columns = np.empty((2, 3, 3))
    for b in range(len(bonds.alive)):
        i, j = bonds.body[b, 0], bonds.body[b, 1]
        if not bonds.alive[b] or inertia.inverse_mass[i] + inertia.inverse_mass[j] == 0.0:
            continue
        arm, e = bonds.arm[b], bonds.strain[b]
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
        soft = 1.0 / (h * (h + lag))
        for c in range(3):
            k[c, c] += soft / bonds.stiffness[b, 0]
            k[3 + c, 3 + c] += soft / bonds.stiffness[b, 1]
        _invert(k)
        p = bonds.impulse[b]
        _push(start, inertia, i, j, arm, p[0], p[1], p[2], p[3], p[4], p[5])


@inline
def _push(velocity, inertia, i, j, arm, px, py, pz, tx, ty, tz):
    """Apply an impulse and a twist to body j and their opposites to body i."""
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


@serial
def sweep(bonds, velocity, moved, inertia, h, lag, backward):
    """One sweep over all bonds: a spring of the given stiffness with damping `lag` [s] times it, taken implicitly."""
    rate, soft = 1.0 / (h + lag), 1.0 / (h * (h + lag))
    total = len(bonds.alive)
    x, d = np.empty(6), np.empty(6)
    for number in range(total):
        b = total - 1 - number if backward else number
        i, j = bonds.body[b, 0], bonds.body[b, 1]
        if not bonds.alive[b] or inertia.inverse_mass[i] + inertia.inverse_mass[j] == 0.0:
            continue
        a, c = bonds.arm[b, 0], bonds.arm[b, 1]
        p, k, e = bonds.impulse[b], bonds.inverse[b], bonds.strain[b]
        v, w, s, t = velocity[i], velocity[j], moved[i], moved[j]
        x[0] = w[0] + w[4] * c[2] - w[5] * c[1] - v[0] - v[4] * a[2] + v[5] * a[1]
        x[1] = w[1] + w[5] * c[0] - w[3] * c[2] - v[1] - v[5] * a[0] + v[3] * a[2]
        x[2] = w[2] + w[3] * c[1] - w[4] * c[0] - v[2] - v[3] * a[1] + v[4] * a[0]
        x[0] += rate * (e[0] + t[0] + t[4] * c[2] - t[5] * c[1] - s[0] - s[4] * a[2] + s[5] * a[1])
        x[1] += rate * (e[1] + t[1] + t[5] * c[0] - t[3] * c[2] - s[1] - s[5] * a[0] + s[3] * a[2])
        x[2] += rate * (e[2] + t[2] + t[3] * c[1] - t[4] * c[0] - s[2] - s[3] * a[1] + s[4] * a[0])
        for q in range(3):
            x[3 + q] = w[3 + q] - v[3 + q] + rate * (e[3 + q] + t[3 + q] - s[3 + q])
            x[q] += soft / bonds.stiffness[b, 0] * p[q]
            x[3 + q] += soft / bonds.stiffness[b, 1] * p[3 + q]
        for q in range(6):
            d[q] = -(
                k[q, 0] * x[0] + k[q, 1] * x[1] + k[q, 2] * x[2] + k[q, 3] * x[3] + k[q, 4] * x[4] + k[q, 5] * x[5]
            )
        for q in range(6):
            p[q] += d[q]
        _push(velocity, inertia, i, j, bonds.arm[b], d[0], d[1], d[2], d[3], d[4], d[5])


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
def lumps(n, kind, body, alive, label):
    """Label loose bodies joined by living bonds, label (n,): the least index in each lump."""
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
