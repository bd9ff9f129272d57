"""Contacts laid out for the sweeps: which of them may be solved side by side, and what each needs.

m is a `Manifolds`, rows a `Rows`; free (k + 1,) bool marks nodes that may be moved, carrier (n,) the node that moves
each body, and points that stand spare metres farther apart than they may close are left out.
"""

from typing import NamedTuple

import numpy as np

from urst.core.jit import fused, inline, kernel, serial
from urst.core.rigid.crushing import INTERLOCK
from urst.core.rigid.detect import NEAR
from urst.core.rigid.sweeps import (
    ARM_I,
    ARM_J,
    BATCH,
    BLOCK,
    BOUNCE,
    COUPLE,
    CRUSH,
    FRACTION,
    FRICTION,
    GAP,
    GIVEN,
    HALF,
    HAND,
    HEAD,
    LANES,
    LOAD,
    MASS_I,
    MASS_J,
    NORMAL,
    ONE,
    POINT,
    POINTS,
    PUSH,
    REAL,
    SECOND,
    SLIP,
    TANGENT,
    TINY,
    TURN_I,
    TURN_J,
    WEIGHT,
    ZERO,
    Y,
    Z,
    spun,
)

#: colours that are kept as bits of a number; what finds none of them free is solved alone
COLOURS = 60


class Rows(NamedTuple):
    """`b` batches of up to LANES manifolds, colour after colour."""

    numbers: np.ndarray  # (b, BATCH), see `sweeps`
    body: np.ndarray  # (b, 2, LANES) int64; the dummy body in lanes that are not used
    manifold: np.ndarray  # (b, LANES) int64, -1 in lanes that are not used
    slots: np.ndarray  # (b,) int64 points that any of its lanes has
    bounces: np.ndarray  # (b,) uint8: whether any of its lanes has a restitution


@serial
def choose(m, free, carrier, spare):
    """Return the pairs that may touch within the check, and may be moved against each other, (k,) int64."""
    out, n = np.empty(len(m.state), np.int64), 0
    for p in range(len(m.state)):
        if m.size[p] > 0 and m.state[p] == NEAR and m.gap[p] <= m.need[p] + spare:
            i, j = carrier[m.body[p, 0]], carrier[m.body[p, 1]]
            if i != j and (free[i] or free[j]):
                out[n] = p
                n += 1
    return out[:n]


@serial
def colour(m, chosen, free, carrier, batch, lane):
    """Give each of the manifolds `chosen` (k,) a batch and a lane, so that none of a batch moves the same body as
    another.

    Those with as many points go together.

    Parameters
    ----------
    m : Manifolds
    chosen : (k,) int64
    free : (n,) bool
        Which nodes a contact may move.
    carrier : (n,) int64
        The node that moves each body.
    batch, lane : (k,) int64
        Written.

    Returns
    -------
    int
        How many batches there are. They come colour by colour, in the order of the manifolds.
    """
    total = len(chosen)
    taken = np.zeros(len(free), np.int64)
    of = np.empty(total, np.int64)
    size = np.zeros((COLOURS, POINTS + 1), np.int64)
    for k in range(total):
        i, j = carrier[m.body[chosen[k], 0]], carrier[m.body[chosen[k], 1]]
        used = (taken[i] if free[i] else 0) | (taken[j] if free[j] else 0)
        c = 0
        while c < COLOURS and used & (1 << c):
            c += 1
        of[k] = c
        if c == COLOURS:
            continue
        if free[i]:
            taken[i] |= 1 << c
        if free[j]:
            taken[j] |= 1 << c
        size[c, m.size[chosen[k]]] += 1
    start = np.zeros((COLOURS, POINTS + 1), np.int64)
    first = np.zeros(COLOURS, np.int64)
    batches = 0
    for c in range(COLOURS):
        inside = 0
        for k in range(POINTS, 0, -1):
            start[c, k] = inside
            inside += size[c, k]
        first[c] = batches
        batches += (inside + LANES - 1) // LANES
    for k in range(total):
        c, points = of[k], m.size[chosen[k]]
        if c == COLOURS:
            batch[k], lane[k] = batches, 0
            batches += 1
            continue
        at = start[c, points]
        start[c, points] += 1
        batch[k], lane[k] = first[c] + at // LANES, at % LANES
    return batches


@serial
def lay_out(rows_of, nodes, centre, bodies, turned, inertia, h, spare):
    """Lay out what may touch within the check.

    Parameters
    ----------
    rows_of : substeps.Rows
        Whose manifolds, with their friction, restitution and greatest force.
    nodes : substeps.NodeState
        What may be moved, and what moves each body.
    centre : (m, 3)
        Of each node.
    bodies : Bodies
    turned : (n, 3, 3)
        How bodies stand half way through the check.
    inertia : Inertia
    h : float
        Substep [s].
    spare : float
        Points that stand so much farther apart than they may close are left out [m].

    Returns
    -------
    Rows
    """
    m, friction, restitution = rows_of.manifolds, rows_of.friction, rows_of.restitution
    free, carrier = nodes.free, nodes.joined.carrier
    chosen = choose(m, free, carrier, spare)
    total = len(chosen)
    batch, lane = np.empty(total, np.int64), np.empty(total, np.int64)
    batches = colour(m, chosen, free, carrier, batch, lane)
    rows = Rows(
        np.empty((batches, BATCH), REAL),
        np.full((batches, 2, LANES), len(free) - 1),
        np.full((batches, LANES), -1),
        np.zeros(batches, np.int64),
        np.zeros(batches, np.uint8),
    )
    for k in range(total):
        b, x, p = batch[k], lane[k], chosen[k]
        i, j = m.body[p, 0], m.body[p, 1]
        rows.body[b, 0, x], rows.body[b, 1, x], rows.manifold[b, x] = carrier[i], carrier[j], p
        rows.slots[b] = max(rows.slots[b], m.size[p])
        rows.bounces[b] |= restitution[p] > 0.0
    hand = np.zeros(HAND + POINT, REAL)
    # batch by batch, whose numbers stay in the cache
    for b in range(batches):
        r, slots = rows.numbers[b], rows.slots[b]
        r[: HEAD + slots * POINT] = ZERO
        for x in range(LANES):
            p = rows.manifold[b, x]
            if p >= 0:
                r[FRICTION + x], r[BOUNCE + x], r[FRACTION + x] = friction[p], restitution[p], m.fraction[p]
                if m.crushed[p]:
                    r[FRICTION + x] = max(friction[p], INTERLOCK)
                r[CRUSH + x] = h * rows_of.most[p] / m.size[p]
                _stand(r, x, p, m, (carrier, centre, turned), bodies, inertia)
        hand[:GIVEN] = r[:GIVEN]
        for q in range(slots):
            f = HEAD + q * POINT
            hand[HAND : HAND + WEIGHT] = r[f : f + WEIGHT]
            _weigh(hand)
            r[f + WEIGHT : f + PUSH] = hand[HAND + WEIGHT : HAND + PUSH]
        # lanes with fewer points than others of their batch
        for x in range(LANES):
            p = rows.manifold[b, x]
            for q in range(m.size[p] if p >= 0 else 0, slots):
                f = HEAD + q * POINT
                for c in range(WEIGHT, POINT, LANES):
                    r[f + c + x] = ZERO
    return rows


@kernel
def _stand(r, x, p, m, carried, bodies, inertia):
    """Write how a manifold stands: its directions, arms and gaps; carried: carrier, centre and turned of `lay_out`."""
    carrier, centre, turned = carried
    i, j = m.body[p, 0], m.body[p, 1]
    k, l = carrier[i], carrier[j]
    position, ri, rj = bodies.position, bodies.rotation[i], bodies.rotation[j]
    # what is part of a compound turns with it
    ti, tj = turned[i] if k == i else ri, turned[j] if l == j else rj
    a, t = m.axis[p], m.tangent[p]
    n0 = ri[0, 0] * a[0] + ri[0, 1] * a[1] + ri[0, 2] * a[2]
    n1 = ri[1, 0] * a[0] + ri[1, 1] * a[1] + ri[1, 2] * a[2]
    n2 = ri[2, 0] * a[0] + ri[2, 1] * a[1] + ri[2, 2] * a[2]
    t0 = ri[0, 0] * t[0] + ri[0, 1] * t[1] + ri[0, 2] * t[2]
    t1 = ri[1, 0] * t[0] + ri[1, 1] * t[1] + ri[1, 2] * t[2]
    t2 = ri[2, 0] * t[0] + ri[2, 1] * t[1] + ri[2, 2] * t[2]
    r[NORMAL + x], r[NORMAL + Y + x], r[NORMAL + Z + x] = n0, n1, n2
    r[TANGENT + x], r[TANGENT + Y + x], r[TANGENT + Z + x] = t0, t1, t2
    r[SECOND + x], r[SECOND + Y + x], r[SECOND + Z + x] = n1 * t2 - n2 * t1, n2 * t0 - n0 * t2, n0 * t1 - n1 * t0
    for c in range(6):
        r[TURN_I + c * LANES + x], r[TURN_J + c * LANES + x] = inertia.inverse[k, c], inertia.inverse[l, c]
    r[MASS_I + x], r[MASS_J + x] = inertia.inverse_mass[k], inertia.inverse_mass[l]
    for q in range(m.size[p]):
        f = HEAD + q * POINT
        g, h = m.point[p, q, 0], m.point[p, q, 1]
        for c in range(3):
            u = ri[c, 0] * g[0] + ri[c, 1] * g[1] + ri[c, 2] * g[2]
            v = rj[c, 0] * h[0] + rj[c, 1] * h[1] + rj[c, 2] * h[2]
            across = position[j, c] + v - position[i, c] - u
            r[f + GAP + x] += across * (n0 if c == 0 else (n1 if c == 1 else n2))
            if c == 2 and m.crushed[p]:
                # what was crushed is gone, and parts nothing
                r[f + GAP + x] = max(r[f + GAP + x], ZERO)
            u = ti[c, 0] * g[0] + ti[c, 1] * g[1] + ti[c, 2] * g[2]
            v = tj[c, 0] * h[0] + tj[c, 1] * h[1] + tj[c, 2] * h[2]
            across = position[j, c] + v - position[i, c] - u
            # both are pushed at one point, so that angular momentum is kept
            r[f + ARM_I + c * LANES + x] = position[i, c] - centre[k, c] + u + m.fraction[p] * across
            r[f + ARM_J + c * LANES + x] = position[j, c] - centre[l, c] + v - (1.0 - m.fraction[p]) * across
            r[f + PUSH + c * LANES + x] = m.impulse[p, q, c]


@inline
def _lever(r, arm, turn, nx, ny, nz, x):
    """How a pull along a direction at an arm turns a body: the moment, and the spin that it gives."""
    ax, ay, az = r[arm + x], r[arm + Y + x], r[arm + Z + x]
    ux, uy, uz = ay * nz - az * ny, az * nx - ax * nz, ax * ny - ay * nx
    return ux, uy, uz, *spun(r, turn, ux, uy, uz, x)


@fused
def _weigh(r):
    """Write what the impulses of the points in hand do to their speeds, and the inverse."""
    for x in range(LANES):
        nx, ny, nz = r[NORMAL + x], r[NORMAL + Y + x], r[NORMAL + Z + x]
        tx, ty, tz = r[TANGENT + x], r[TANGENT + Y + x], r[TANGENT + Z + x]
        sx, sy, sz = r[SECOND + x], r[SECOND + Y + x], r[SECOND + Z + x]
        both = r[MASS_I + x] + r[MASS_J + x]
        ux, uy, uz, ox, oy, oz = _lever(r, HAND + ARM_I, TURN_I, nx, ny, nz, x)
        vx, vy, vz, px, py, pz = _lever(r, HAND + ARM_I, TURN_I, tx, ty, tz, x)
        wx, wy, wz, qx, qy, qz = _lever(r, HAND + ARM_I, TURN_I, sx, sy, sz, x)
        nn = both + ux * ox + uy * oy + uz * oz
        nt, ns = vx * ox + vy * oy + vz * oz, wx * ox + wy * oy + wz * oz
        tt, ts = both + vx * px + vy * py + vz * pz, wx * px + wy * py + wz * pz
        ss = both + wx * qx + wy * qy + wz * qz
        ux, uy, uz, ox, oy, oz = _lever(r, HAND + ARM_J, TURN_J, nx, ny, nz, x)
        vx, vy, vz, px, py, pz = _lever(r, HAND + ARM_J, TURN_J, tx, ty, tz, x)
        wx, wy, wz, qx, qy, qz = _lever(r, HAND + ARM_J, TURN_J, sx, sy, sz, x)
        nn += ux * ox + uy * oy + uz * oz
        nt += vx * ox + vy * oy + vz * oz
        ns += wx * ox + wy * oy + wz * oz
        tt += vx * px + vy * py + vz * pz
        ts += wx * px + wy * py + wz * pz
        ss += wx * qx + wy * qy + wz * qz
        # in lanes that are not used nothing moves
        det = max(tt * ss - ts * ts, TINY)
        middle, spread = HALF * (tt + ss), HALF * (tt - ss)
        r[HAND + WEIGHT + x] = ONE / max(nn, TINY)
        r[HAND + COUPLE + x], r[HAND + COUPLE + Y + x] = nt, ns
        r[HAND + BLOCK + x], r[HAND + BLOCK + Y + x], r[HAND + BLOCK + Z + x] = ss / det, -ts / det, tt / det
        r[HAND + SLIP + x] = ONE / max(middle + np.sqrt(spread * spread + ts * ts), TINY)


@serial
def keep(rows, m, dt, load):
    """Write the impulses of the batches back to their manifolds, and the mean force over `dt` seconds to load (p,)."""
    load[:] = 0.0
    for b in range(len(rows.slots)):
        r = rows.numbers[b]
        for x in range(LANES):
            p = rows.manifold[b, x]
            if p < 0:
                continue
            load[p] = r[LOAD + x] / dt
            for q in range(m.size[p]):
                f = HEAD + q * POINT
                for c in range(3):
                    m.impulse[p, q, c] = r[f + PUSH + c * LANES + x]
