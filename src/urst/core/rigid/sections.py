"""The sections that bonds are judged by.

A cut divides a body into fragments at random, and springs between these do not share a load as evenly as the whole body
would: taken alone, a bond in a bent beam of many fragments bears half as much again as the theory of beams says, and
the finer the cut, the more. Sums over a whole section are free of that, since they follow from equilibrium alone. So a
bond is judged as a part of the crack that would go through it: the bonds near it across the plane of its patch carry a
force and a moment together, over the area that they have together, and the stress at the bond is that of a plane
section there (Navier): N/A + M c/I.

The plane of such a section is normal to its vector area, the sum of its patches' areas along their normals: a zigzag of
patches across a beam has the beam's own cross-section, however it is cut. And since what was cut could have cracked
anywhere, the moment of a section that goes all through it counts as it is in the middle of the fragments beside, where
that is more.

bonds is a `BondState`, sections a `Sections`; places and directions are those at the start.
"""

from typing import NamedTuple

import numpy as np

from urst.core.bodies.patch_kernels import CORNERS
from urst.core.jit import inline, serial
from urst.core.rigid.bond_kernels import left_of, stress_at

#: bonds belong to a section up to this distance, as a multiple of the larger fragment's size, and at most so many
REACH, MOST = 2.0, 64
#: least fraction of its own area that the section of a bond has; what folds back on itself is no section
WHOLE = 0.5
#: bounds of what a bond's section says of the stress in it, as a multiple of what its own patch says, and the fraction
#: of its strength below which it says nothing
LOW, HIGH, SLIGHT = 0.2, 2.0, 1e-6


class Sections(NamedTuple):
    """Sections of `b` bonds."""

    start: np.ndarray  # (b + 1,) int64 into the next two
    member: np.ndarray  # (k,) int64 bonds of each section, its own first
    side: np.ndarray  # (k,) 1 where it runs as the bond does, -1 where against it
    centre: np.ndarray  # (b, 3) of each bond's patch [m]
    axes: np.ndarray  # (b, 3, 3) its own directions, one a row
    ends: np.ndarray  # (b, 2, 3) middles of its fragments; its own where one does not count [m]
    area: np.ndarray  # (b,) of each section [m2]
    middle: np.ndarray  # (b, 3) [m]
    basis: np.ndarray  # (b, 3, 3) its normal and two directions in it, one a row
    inverse: np.ndarray  # (b, 3) of its second moments about these: xx, xy, yy [1/m4]
    polar: np.ndarray  # (b,) sum of these moments [m4]
    ahead: np.ndarray  # (b, 2) how far the middles of its fragments lie before it [m]


@serial
def find(pair, ends, where, open_, start, members):
    """List the members of each section.

    Parameters
    ----------
    pair : (b, 2) int64
        Fragments of each bond.
    ends : (b, 2, 3)
        Where these stand, seen from the bond [m].
    where : ((b, 3), (b, 3), (b,))
        Centre and normal of each bond's patch, and size of the larger fragment [m].
    open_ : (n,) bool
        Through which fragments a section may go on.
    start : (b + 1,) int64
        Written.
    members : ((MOST b,), (MOST b,), (b,))
        Written: `member` and `side`, and whether a section goes all through what it is of.

    Returns
    -------
    int
        How many members there are.
    """
    (centre, normal, size), (member, side, through) = where, members
    count, n = len(pair), len(open_)
    first = np.zeros(n + 1, np.int64)
    for b in range(count):
        first[pair[b, 0] + 1] += 1
        first[pair[b, 1] + 1] += 1
    for k in range(n):
        first[k + 1] += first[k]
    of, at = np.empty(2 * count, np.int64), first[:-1].copy()
    for b in range(count):
        for s in range(2):
            of[at[pair[b, s]]] = b
            at[pair[b, s]] += 1
    seen, taken, queue = np.full(n, -1), np.full(count, -1), np.empty(n, np.int64)
    total = 0
    for b in range(count):
        start[b] = total
        member[total], side[total] = b, 1.0
        total += 1
        taken[b], through[b] = b, True
        length, done = 0, 0
        for s in range(2):
            if open_[pair[b, s]]:
                queue[length] = pair[b, s]
                seen[pair[b, s]] = b
                length += 1
        reach = (REACH * size[b]) ** 2
        while done < length:
            f = queue[done]
            done += 1
            for q in range(first[f], first[f + 1]):
                m = of[q]
                if taken[m] == b:
                    continue
                apart, below, above = 0.0, 0.0, 0.0
                for c in range(3):
                    d = centre[m, c] - centre[b, c]
                    apart += d * d
                    below += (ends[m, 0, c] - centre[b, c]) * normal[b, c]
                    above += (ends[m, 1, c] - centre[b, c]) * normal[b, c]
                if below * above < 0.0 and (apart > reach or total - start[b] == MOST):
                    through[b] = False
                if apart > reach:
                    continue
                taken[m] = b
                if below * above < 0.0 and total - start[b] < MOST:
                    member[total], side[total] = m, 1.0 if above > below else -1.0
                    total += 1
                for s in range(2):
                    g = pair[m, s]
                    if seen[g] != b and open_[g]:
                        seen[g] = b
                        queue[length] = g
                        length += 1
    start[count] = total
    return total


@serial
def measure(sections, bonds, some):
    """Write area, middle and moments of the sections of some bonds (k,), of what holds of them."""
    across = np.empty(3)
    for b in some:
        first, last = sections.start[b], sections.start[b + 1]
        across[:] = 0.0
        for q in range(first, last):
            m = sections.member[q]
            if bonds.alive[m]:
                for c in range(3):
                    across[c] += sections.side[q] * sections.axes[m, 0, c] / bonds.section[m, 0]
        total = np.sqrt(across[0] ** 2 + across[1] ** 2 + across[2] ** 2)
        if total * bonds.section[b, 0] < WHOLE or not _measured(sections, bonds, b, across / max(total, 1e-300)):
            # alone
            sections.area[b] = 0.0


@inline
def _measured(sections, bonds, b, normal):
    """Write how the section of bond b lies across a normal (3,); returns whether it is one."""
    first, last, own = sections.start[b], sections.start[b + 1], sections.axes[b]
    basis, middle = sections.basis[b], sections.middle[b]
    # of the bond's own directions the one that lies more in the section
    k = 1 if abs(_dot(own[1], normal)) <= abs(_dot(own[2], normal)) else 2
    along = _dot(own[k], normal)
    for c in range(3):
        basis[0, c] = normal[c]
        basis[1, c] = own[k, c] - along * normal[c]
    length = np.sqrt(_dot(basis[1], basis[1]))
    for c in range(3):
        basis[1, c] /= length
    for c in range(3):
        d, e = (c + 1) % 3, (c + 2) % 3
        basis[2, c] = basis[0, d] * basis[1, e] - basis[0, e] * basis[1, d]
    area = 0.0
    middle[:] = 0.0
    for q in range(first, last):
        m = sections.member[q]
        if bonds.alive[m]:
            w = sections.side[q] * _dot(sections.axes[m, 0], normal) / bonds.section[m, 0]
            area += w
            for c in range(3):
                middle[c] += w * sections.centre[m, c]
    for c in range(3):
        middle[c] /= area
    xx, xy, yy = 0.0, 0.0, 0.0
    for q in range(first, last):
        m = sections.member[q]
        if not bonds.alive[m]:
            continue
        a = sections.axes[m]
        tilt = sections.side[q] * _dot(a[0], normal)
        x, y = 0.0, 0.0
        for c in range(3):
            x += basis[1, c] * (sections.centre[m, c] - middle[c])
            y += basis[2, c] * (sections.centre[m, c] - middle[c])
        w = tilt / bonds.section[m, 0]
        u1, u2, v1, v2 = _dot(a[1], basis[1]), _dot(a[2], basis[1]), _dot(a[1], basis[2]), _dot(a[2], basis[2])
        # about the first axis the second's extent counts
        i1, i2 = tilt / bonds.section[m, 2], tilt / bonds.section[m, 1]
        xx += w * x * x + i1 * u1 * u1 + i2 * u2 * u2
        xy += w * x * y + i1 * u1 * v1 + i2 * u2 * v2
        yy += w * y * y + i1 * v1 * v1 + i2 * v2 * v2
    det = xx * yy - xy * xy
    if area <= 0.0 or xx <= 0.0 or yy <= 0.0 or det <= 1e-6 * xx * yy:
        return False
    sections.area[b], sections.polar[b] = area, xx + yy
    for s in range(2):
        sections.ahead[b, s] = 0.0
        for c in range(3):
            sections.ahead[b, s] += normal[c] * (sections.ends[b, s, c] - sections.centre[b, c])
    sections.inverse[b, 0], sections.inverse[b, 1], sections.inverse[b, 2] = yy / det, -xy / det, xx / det
    return True


@inline
def _dot(a, b):
    return a[0] * b[0] + a[1] * b[1] + a[2] * b[2]


@serial
def judge(sections, bonds, some, utilisation, pressure):
    """Judge what some bonds carry by the sections they are parts of.

    Parameters
    ----------
    sections : Sections
    bonds : BondState
        Their `relief` is written.
    some : (k,) int64
    utilisation : (k,)
        Written: tension or shear over strength, whichever is more.
    pressure : (k,)
        Written: compression over strength.
    """
    force, moment, pull, turn = np.zeros(3), np.zeros(3), np.zeros(3), np.zeros(3)
    for k in range(len(some)):
        b = some[k]
        own = stress_at(bonds, b, bonds.force[b])
        tension, shear, least = own
        if sections.area[b] > 0.0:
            n, e, g = sections.basis[b]
            middle = sections.middle[b]
            force[:], moment[:] = 0.0, 0.0
            for q in range(sections.start[b], sections.start[b + 1]):
                m = sections.member[q]
                if not bonds.alive[m]:
                    continue
                f, a, sign = bonds.force[m], sections.axes[m], sections.side[q]
                for c in range(3):
                    pull[c] = sign * (f[0] * a[0, c] + f[1] * a[1, c] + f[2] * a[2, c])
                    turn[c] = sign * (f[3] * a[0, c] + f[4] * a[1, c] + f[5] * a[2, c])
                for c in range(3):
                    d, h = (c + 1) % 3, (c + 2) % 3
                    arm_d, arm_h = sections.centre[m, d] - middle[d], sections.centre[m, h] - middle[h]
                    force[c] += pull[c]
                    moment[c] += turn[c] + arm_d * pull[h] - arm_h * pull[d]
            even = -_dot(force, n) / sections.area[b]
            # the first body is pulled back: a pull at (x, y) turns by x about the second direction, -y about the first
            mx, my, i = _dot(moment, g), -_dot(moment, e), sections.inverse[b]
            sx, sy = _dot(force, e), _dot(force, g)
            tension, least, far = -np.inf, np.inf, 0.0
            for q in range(CORNERS):
                x, y, u, v = 0.0, 0.0, bonds.corner[b, q, 0], bonds.corner[b, q, 1]
                for c in range(3):
                    r = sections.centre[b, c] - middle[c] + u * sections.axes[b, 1, c] + v * sections.axes[b, 2, c]
                    x += r * e[c]
                    y += r * g[c]
                for p in range(3):
                    ahead = sections.ahead[b, p] if p < 2 else 0.0
                    tx, ty = mx - ahead * sx, my - ahead * sy
                    stress = even + (i[0] * tx + i[1] * ty) * x + (i[1] * tx + i[2] * ty) * y
                    tension, least = max(tension, stress), min(least, stress)
                far = max(far, x * x + y * y)
            along = _dot(force, n)
            shear = np.sqrt(max(_dot(force, force) - along * along, 0.0)) / sections.area[b]
            shear += abs(_dot(moment, n)) * np.sqrt(far) / sections.polar[b]
        s, left = bonds.strength[b], left_of(bonds, b, bonds.yielded[b])
        # what the sweeps will hold it to: its own stress, as far as the section says that it is another
        for part in range(2):
            mine, its = (own[0], tension) if part == 0 else (own[1], shear)
            said = mine > SLIGHT * s[part] and its > 0.0
            bonds.relief[b, part] = min(max(its / mine, LOW), HIGH) if said else 1.0
        tension, shear = bonds.relief[b, 0] * own[0], bonds.relief[b, 1] * own[1]
        utilisation[k] = max(tension / (left * s[0]), shear / (left * s[1] + s[2] * max(-tension, 0.0)))
        pressure[k] = max(-least, 0.0) / s[3]
