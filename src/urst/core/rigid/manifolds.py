"""Pairs of shapes that are near each other, and where they touch, kept from check to check.

A manifold keeps its points in the frames of its two bodies. While these have moved little against each other since
they were looked at, the points are only brought up to date; a pair that is apart is not looked at before its distance
could have closed.

m and was are `Manifolds`, marks and marks_were the `Marks` of their pairs, load and load_was (p,) the forces these
carry [N].
"""

from collections.abc import Callable
from typing import Any, NamedTuple

import numpy as np
from numba import get_num_threads, prange

from urst.core.bodies.mobility import DRIVEN, LOOSE
from urst.core.jit import kernel, parallel, serial
from urst.core.rigid import detect, onesided
from urst.core.rigid.detect import NEAR, POINTS, TOUCH
from urst.core.rigid.state import Bodies

#: pairs that are worth a second thread, which get so many at a time in turn
_WORTH, _TURN = 32, 8
#: least margin within which points are noted [m]
_MARGIN = 2e-3
#: what stands so much farther apart than it may close in a check is left out of it [m]
SPARE = 5e-4
#: gaps are not reckoned anew before bodies have gone so far [m]
_STALE = 2e-5
#: motion after which a pair is looked at again: this [m], or this fraction of the smaller radius
_MOTION, _FRACTION = 1e-3, 0.01
#: and of a ball, whose turning takes the noted point along where the true one stays below it
_ROLLS = 1e-4


class Manifolds(NamedTuple):
    """`p` pairs of shapes; frames are those of their bodies."""

    shape: np.ndarray  # (p, 2) int64
    body: np.ndarray  # (p, 2) int64
    state: np.ndarray  # (p,) int64: 0 not looked at yet, PARTED or NEAR
    size: np.ndarray  # (p,) int64 points
    axis: np.ndarray  # (p, 3) normal or what parts them, in the first body's frame
    tangent: np.ndarray  # (p, 3) in the first body's frame
    point: np.ndarray  # (p, POINTS, 2, 3) on either surface, in its body's frame [m]
    fraction: np.ndarray  # (p,) how far the points go along with the second body, see `detect`
    impulse: np.ndarray  # (p, POINTS, 3) along normal and tangents in the last substep [N s]
    apart: np.ndarray  # (p,) when looked at [m]
    margin: np.ndarray  # (p,) within which points were noted [m]
    travel: np.ndarray  # (p,) sum of the travels of both bodies then [m]
    safe: np.ndarray  # (p,) sum of their travels up to which they cannot have met [m]
    known: np.ndarray  # (p,) the same sum when the gap was last reckoned [m]
    offset: np.ndarray  # (p, 3) smaller body seen from the larger then, in its frame [m]
    turn: np.ndarray  # (p, 3, 3) its rotation seen from there then
    need: np.ndarray  # (p,) how far they may close within the check [m]
    gap: np.ndarray  # (p,) least gap now [m]
    missed: np.ndarray  # (p,) how far they closed when the check was tried without them [m]
    crushed: np.ndarray  # (p,) uint8 whether their overlap is matter that was crushed


def still(radius: np.ndarray) -> np.ndarray:
    """Return how far bodies may move before they are looked at again [m]."""
    return np.maximum(_MOTION, _FRACTION * radius)


def none(p: int) -> Manifolds:
    """Return room for `p` manifolds that nobody has looked at."""
    return Manifolds(
        shape=np.zeros((p, 2), np.int64),
        body=np.zeros((p, 2), np.int64),
        state=np.zeros(p, np.int64),
        size=np.zeros(p, np.int64),
        axis=np.zeros((p, 3)),
        tangent=np.zeros((p, 3)),
        point=np.zeros((p, POINTS, 2, 3)),
        fraction=np.zeros(p),
        impulse=np.zeros((p, POINTS, 3)),
        apart=np.zeros(p),
        margin=np.zeros(p),
        travel=np.zeros(p),
        safe=np.zeros(p),
        known=np.zeros(p),
        offset=np.zeros((p, 3)),
        turn=np.zeros((p, 3, 3)),
        need=np.zeros(p),
        gap=np.zeros(p),
        missed=np.zeros(p),
        crushed=np.zeros(p, np.uint8),
    )


@kernel
def _local(rotation, b, x, y, z, out):
    for c in range(3):
        out[c] = rotation[b, 0, c] * x + rotation[b, 1, c] * y + rotation[b, 2, c] * z


@kernel
def _roles(m, p, bodies):
    """The larger body first: what its far parts do does not matter."""
    i, j = m.body[p, 0], m.body[p, 1]
    if bodies.radius[i] >= bodies.radius[j]:
        return i, j
    return j, i


@kernel
def _see(m, p, bodies):
    """Note how the smaller body stands to the larger."""
    i, j = _roles(m, p, bodies)
    r, s = bodies.rotation[i], bodies.rotation[j]
    d0 = bodies.position[j, 0] - bodies.position[i, 0]
    d1 = bodies.position[j, 1] - bodies.position[i, 1]
    d2 = bodies.position[j, 2] - bodies.position[i, 2]
    for a in range(3):
        m.offset[p, a] = r[0, a] * d0 + r[1, a] * d1 + r[2, a] * d2
        for b in range(3):
            m.turn[p, a, b] = r[0, a] * s[0, b] + r[1, a] * s[1, b] + r[2, a] * s[2, b]
    m.travel[p] = bodies.travel[i] + bodies.travel[j]


@kernel
def _across(m, p, i, normal):
    """The direction that parts two bodies as it was when they were looked at, from the larger, `i`, to the smaller, in
    `i`'s frame."""
    for a in range(3):
        if i == m.body[p, 0]:
            normal[a] = m.axis[p, a]
        else:
            normal[a] = -(
                m.turn[p, a, 0] * m.axis[p, 0] + m.turn[p, a, 1] * m.axis[p, 1] + m.turn[p, a, 2] * m.axis[p, 2]
            )


@kernel
def _motion(m, p, bodies, i, j, normal):
    """How far points of the smaller body, at most, have moved in the frame of the larger since they were looked at.

    Also how far the two may have closed along `normal`; what goes by sideways closes nothing.
    """
    r, s = bodies.rotation[i], bodies.rotation[j]
    d0 = bodies.position[j, 0] - bodies.position[i, 0]
    d1 = bodies.position[j, 1] - bodies.position[i, 1]
    d2 = bodies.position[j, 2] - bodies.position[i, 2]
    shift, swing, along = 0.0, 0.0, 0.0
    for a in range(3):
        o = r[0, a] * d0 + r[1, a] * d1 + r[2, a] * d2 - m.offset[p, a]
        shift += o * o
        along += o * normal[a]
        for b in range(3):
            t = r[0, a] * s[0, b] + r[1, a] * s[1, b] + r[2, a] * s[2, b] - m.turn[p, a, b]
            swing += t * t
    # two turns whose matrices differ by a Frobenius norm d move a point at radius 1 by d / sqrt(2) at most
    turned = np.sqrt(0.5 * swing) * bodies.radius[j]
    return np.sqrt(shift) + turned, turned - along


@kernel
def _project(m, p, bodies):
    """Bring the gaps up to date."""
    i, j = m.body[p, 0], m.body[p, 1]
    r, s = bodies.rotation[i], bodies.rotation[j]
    least = np.inf
    for k in range(m.size[p]):
        gap = 0.0
        for c in range(3):
            n = r[c, 0] * m.axis[p, 0] + r[c, 1] * m.axis[p, 1] + r[c, 2] * m.axis[p, 2]
            a, b = m.point[p, k, 0], m.point[p, k, 1]
            gap += n * (
                bodies.position[j, c]
                + s[c, 0] * b[0]
                + s[c, 1] * b[1]
                + s[c, 2] * b[2]
                - bodies.position[i, c]
                - r[c, 0] * a[0]
                - r[c, 1] * a[1]
                - r[c, 2] * a[2]
            )
        least = min(least, gap)
    m.gap[p] = least


@kernel
def _match(m, p, bodies, count, patch, near, had):
    """Write new points, each with the impulse of the old point nearest to it; `had`: room for those there were."""
    axis, points, (old, push) = patch.axis, patch.points, had
    i, j = m.body[p, 0], m.body[p, 1]
    before = m.size[p] if m.state[p] == NEAR else 0
    n, t = m.axis[p], m.tangent[p]
    sx, sy, sz = n[1] * t[2] - n[2] * t[1], n[2] * t[0] - n[0] * t[2], n[0] * t[1] - n[1] * t[0]
    for k in range(before):
        u, v, w = m.impulse[p, k, 0], m.impulse[p, k, 1], m.impulse[p, k, 2]
        push[k, 0] = u * n[0] + v * t[0] + w * sx
        push[k, 1] = u * n[1] + v * t[1] + w * sy
        push[k, 2] = u * n[2] + v * t[2] + w * sz
        for c in range(3):
            old[k, c] = m.point[p, k, 0, c]
    _local(bodies.rotation, i, axis[0], axis[1], axis[2], m.axis[p])
    # the first tangent is carried along as far as it still is one
    along = t[0] * n[0] + t[1] * n[1] + t[2] * n[2]
    tx, ty, tz = t[0] - along * n[0], t[1] - along * n[1], t[2] - along * n[2]
    if tx * tx + ty * ty + tz * tz < 0.25:
        if abs(n[0]) < 0.57735:
            tx, ty, tz = 0.0, n[2], -n[1]
        else:
            tx, ty, tz = -n[2], 0.0, n[0]
    size = np.sqrt(tx * tx + ty * ty + tz * tz)
    t[0], t[1], t[2] = tx / size, ty / size, tz / size
    sx, sy, sz = n[1] * t[2] - n[2] * t[1], n[2] * t[0] - n[0] * t[2], n[0] * t[1] - n[1] * t[0]
    taken = 0
    for k in range(count):
        for side in range(2):
            b = i if side == 0 else j
            x, q = bodies.position[b], points[k, side]
            _local(bodies.rotation, b, q[0] - x[0], q[1] - x[1], q[2] - x[2], m.point[p, k, side])
        best, chosen = near * near, -1
        for o in range(before):
            if taken & (1 << o):
                continue
            d = 0.0
            for c in range(3):
                d += (old[o, c] - m.point[p, k, 0, c]) ** 2
            if d < best:
                best, chosen = d, o
        if chosen >= 0:
            taken |= 1 << chosen
            f = push[chosen]
            m.impulse[p, k, 0] = max(0.0, f[0] * n[0] + f[1] * n[1] + f[2] * n[2])
            m.impulse[p, k, 1] = f[0] * t[0] + f[1] * t[1] + f[2] * t[2]
            m.impulse[p, k, 2] = f[0] * sx + f[1] * sy + f[2] * sz
        else:
            for c in range(3):
                m.impulse[p, k, c] = 0.0


@serial
def _look_ahead(bodies, dt, weight, ahead):
    """Write how far each body has gone, will have gone by the end of a check at most, and may go without a look, (n,
    3) [m]."""
    for b in range(len(ahead)):
        ahead[b, 0] = ahead[b, 1] = bodies.travel[b]
        radius = bodies.radius[b]
        ahead[b, 2] = _ROLLS * radius if bodies.ball[b] else max(_MOTION, _FRACTION * radius)
        if bodies.kind[b] == DRIVEN or (bodies.kind[b] == LOOSE and bodies.awake[b]):
            v = bodies.velocity[b]
            ahead[b, 1] += dt * (np.sqrt(v[0] * v[0] + v[1] * v[1] + v[2] * v[2]) + bodies.swing[b] + dt * weight)


@serial
def _sift(m, bodies, dt, weight, ahead, due):
    """Bring pairs up to date where that takes no look at their shapes; mark in `due` (p,) those that must be looked
    at."""
    normal = np.zeros(3)
    for p in range(len(m.state)):
        due[p] = 0
        a, b = m.body[p, 0], m.body[p, 1]
        gone, most = ahead[a, 0] + ahead[b, 0], ahead[a, 1] + ahead[b, 1]
        if m.safe[p] - most > SPARE and m.state[p] != 0 and m.missed[p] == 0.0:
            # far too far apart to meet, whichever way they go
            m.gap[p], m.need[p] = m.safe[p] - gone, most - gone
            continue
        calm = min(ahead[a, 2], ahead[b, 2])
        if (
            m.state[p] == NEAR
            and m.missed[p] == 0.0
            and gone - m.known[p] < _STALE
            and gone - m.travel[p] <= calm
            and most - m.travel[p] <= m.margin[p]
        ):
            m.need[p] = most - gone
            continue
        if not _stirs(m, p, bodies):
            continue
        due[p] = 1
        i, j = _roles(m, p, bodies)
        v0 = bodies.velocity[j, 0] - bodies.velocity[i, 0]
        v1 = bodies.velocity[j, 1] - bodies.velocity[i, 1]
        v2 = bodies.velocity[j, 2] - bodies.velocity[i, 2]
        speed = np.sqrt(v0 * v0 + v1 * v1 + v2 * v2) + bodies.swing[i] + bodies.swing[j] + dt * weight
        m.need[p] = max(m.missed[p], dt * speed)
        if m.state[p] == 0:
            continue
        travel = bodies.travel[i] + bodies.travel[j]
        moved = closed = travel - m.travel[p]
        if m.apart[p] - moved > m.need[p] + SPARE:
            due[p] = 0
            m.gap[p] = m.apart[p] - moved
            continue
        _across(m, p, i, normal)
        r = bodies.rotation[i]
        nx = r[0, 0] * normal[0] + r[0, 1] * normal[1] + r[0, 2] * normal[2]
        ny = r[1, 0] * normal[0] + r[1, 1] * normal[1] + r[1, 2] * normal[2]
        nz = r[2, 0] * normal[0] + r[2, 1] * normal[1] + r[2, 2] * normal[2]
        closing = max(0.0, -(nx * v0 + ny * v1 + nz * v2))
        need = max(
            m.missed[p], dt * (closing + dt * weight + _rims(bodies, i, nx, ny, nz) + _rims(bodies, j, nx, ny, nz))
        )
        m.need[p] = need
        for again in range(2):
            if m.apart[p] - closed > need + SPARE:
                due[p] = 0
                m.gap[p] = m.apart[p] - closed
                m.safe[p] = travel + m.gap[p]
                break
            if m.state[p] == NEAR and moved <= calm and need + moved <= m.margin[p]:
                due[p] = 0
                _project(m, p, bodies)
                m.known[p] = travel
                break
            if again == 0:
                # travels only add up; what the two did against each other may be less
                shifted, closed = _motion(m, p, bodies, i, j, normal)
                moved = min(moved, shifted)
                m.travel[p] = travel - moved


@kernel
def _rims(bodies, b, nx, ny, nz):
    """How fast points of a body move along a direction as it spins, at most."""
    if bodies.swing[b] == 0.0:
        return 0.0
    w = bodies.spin[b]
    x, y, z = w[1] * nz - w[2] * ny, w[2] * nx - w[0] * nz, w[0] * ny - w[1] * nx
    return bodies.radius[b] * np.sqrt(x * x + y * y + z * z)


@kernel
def _stirs(m, p, bodies):
    """Whether either body of a pair moves by itself."""
    i, j = m.body[p, 0], m.body[p, 1]
    return (
        bodies.kind[i] == DRIVEN
        or bodies.kind[j] == DRIVEN
        or (bodies.kind[i] == LOOSE and bodies.awake[i])
        or (bodies.kind[j] == LOOSE and bodies.awake[j])
    )


@serial
def _look_at(m, due, first, step, bodies, shapes):
    """Look where pairs `due` (k,) touch: _TURN of them from the turn `first` on, every `step` turns."""
    scratch = detect.scratch(shapes)
    world, points, gaps = np.zeros(3), np.zeros((POINTS, 2, 3)), np.zeros(POINTS)
    patch, had = detect.Patch(world, points, gaps), (np.zeros((POINTS, 3)), np.zeros((POINTS, 3)))
    for turn in range(first, (len(due) + _TURN - 1) // _TURN, step):
        for number in range(turn * _TURN, min((turn + 1) * _TURN, len(due))):
            p = due[number]
            i, j = m.body[p, 0], m.body[p, 1]
            smaller = min(bodies.radius[i], bodies.radius[j])
            calm = max(_MOTION, _FRACTION * smaller)
            if m.state[p] == 0:
                size = 0.0
                for c in range(3):
                    world[c] = shapes.centre[m.shape[p, 1], c] - shapes.centre[m.shape[p, 0], c]
                    size += world[c] * world[c]
                if size == 0.0:
                    world[2], size = 1.0, 1.0
                for c in range(3):
                    world[c] /= np.sqrt(size)
            else:
                r = bodies.rotation[i]
                for c in range(3):
                    world[c] = r[c, 0] * m.axis[p, 0] + r[c, 1] * m.axis[p, 1] + r[c, 2] * m.axis[p, 2]
            margin = max(_MARGIN, calm) + calm + 1.5 * m.need[p]
            # nothing gets deeper behind a surface within a check than it goes, but what starts there is to come out
            deepest = 0.5 * smaller + m.need[p]
            inside = m.state[p] == NEAR and m.apart[p] <= TOUCH
            found, count, apart, fraction_j = onesided.meet(
                shapes, m.shape[p, 0], m.shape[p, 1], margin, inside, deepest, patch, scratch
            )
            _see(m, p, bodies)
            m.apart[p], m.margin[p], m.gap[p], m.fraction[p] = apart, margin, apart, fraction_j
            m.known[p], m.safe[p] = m.travel[p], m.travel[p] + apart
            if count == 0:
                m.state[p], m.size[p] = found, 0
                _local(bodies.rotation, i, world[0], world[1], world[2], m.axis[p])
                continue
            _match(m, p, bodies, count, patch, min(0.05, 0.3 * smaller), had)
            m.state[p], m.size[p] = NEAR, count
            for k in range(count):
                m.gap[p] = min(m.gap[p], gaps[k]) if k else gaps[0]


@parallel
def _look_at_all(m, due, bodies, shapes, parts):
    for k in prange(parts):
        _look_at(m, due, k, parts, bodies, shapes)


def look(m: Manifolds, bodies: Bodies, place: Callable[..., Any], dt: float, weight: float) -> None:
    """Bring those pairs up to date of which a body moves.

    Parameters
    ----------
    m : Manifolds
    bodies : Bodies
    place : callable
        Takes the shapes that are looked at, returns all where they stand.
    dt : float
        Until when contacts must be foreseen [s].
    weight : float
        Gravity [m/s2].
    """
    due, ahead, threads = np.empty(len(m.state), np.uint8), np.empty((len(bodies.mass), 3)), get_num_threads()
    _look_ahead(bodies, dt, weight, ahead)
    _sift(m, bodies, dt, weight, ahead, due)
    some = np.flatnonzero(due)
    if not len(some):
        return
    shapes = place(m.shape[some].ravel())
    if threads == 1 or len(some) < _WORTH:
        _look_at(m, some, 0, 1, bodies, shapes)
    else:
        _look_at_all(m, some, bodies, shapes, threads)


@serial
def fastest(m, bodies, dt, ahead, spare):
    """Return how far any two that may touch may close within the check [m], and how fast any turns that may touch soon
    [rad/s].

    Parameters
    ----------
    m : Manifolds
    bodies : Bodies
    dt : float
        Length of the check [s].
    ahead : float
        What is soon, in checks.
    spare : float
        See `rows.choose` [m].
    """
    most, turning = 0.0, 0.0
    for p in range(len(m.state)):
        i, j = m.body[p, 0], m.body[p, 1]
        if m.gap[p] <= ahead * (m.need[p] + dt * (bodies.swing[i] + bodies.swing[j])) + spare:
            for b in (i, j):
                if bodies.kind[b] == LOOSE and bodies.awake[b] and bodies.swing[b] > turning * bodies.radius[b]:
                    turning = bodies.swing[b] / bodies.radius[b]
            if m.size[p] > 0 and m.state[p] == NEAR and m.gap[p] <= m.need[p] + spare:
                most = max(most, m.need[p])
    return most, turning


@serial
def missed(m, bodies, carrier, centre, moved, spare, tolerated):
    """Find pairs that were left out of a check and closed in it all the same, since something else pushed them.

    Parameters
    ----------
    m : Manifolds
        Their `missed` is raised.
    bodies : Bodies
        As they stood at the start of the check.
    carrier : (n,) int64
        The node that moves each body.
    centre : (k, 3) float64
        Of the nodes that carry others [m].
    moved : (k, 6) float64
        How far each node goes in the check [m], [rad].
    spare : float
        See `rows.choose` [m].
    tolerated : float
        How deep in each other they may get [m].

    Returns
    -------
    bool
        Whether there are any.
    """
    some, normal = False, np.zeros(3)
    reach = np.zeros(len(bodies.mass))
    for b in range(len(reach)):
        k = carrier[b]
        for c in range(3):
            reach[b] += _went(moved, centre, bodies.position, k, b, c) ** 2
        turn = moved[k, 3] ** 2 + moved[k, 4] ** 2 + moved[k, 5] ** 2
        reach[b] = np.sqrt(reach[b]) + bodies.radius[b] * np.sqrt(turn)
    for p in range(len(m.state)):
        if m.gap[p] - reach[m.body[p, 0]] - reach[m.body[p, 1]] >= -tolerated:
            continue
        if m.state[p] == 0 or (m.state[p] == NEAR and m.size[p] > 0 and m.gap[p] <= m.need[p] + spare):
            continue
        i, j = _roles(m, p, bodies)
        k, o = carrier[i], carrier[j]
        if k == o:
            continue
        _across(m, p, i, normal)
        r, closed = bodies.rotation[i], 0.0
        for c in range(3):
            n = r[c, 0] * normal[0] + r[c, 1] * normal[1] + r[c, 2] * normal[2]
            closed += n * (
                _went(moved, centre, bodies.position, k, i, c) - _went(moved, centre, bodies.position, o, j, c)
            )
        closed += np.sqrt(moved[k, 3] ** 2 + moved[k, 4] ** 2 + moved[k, 5] ** 2) * bodies.radius[i]
        closed += np.sqrt(moved[o, 3] ** 2 + moved[o, 4] ** 2 + moved[o, 5] ** 2) * bodies.radius[j]
        if m.gap[p] - closed < -tolerated and closed > m.missed[p]:
            m.missed[p], some = closed, True
    return some


@kernel
def _went(moved, centre, position, node, body, c):
    """How far the middle of a body goes along an axis with the node that moves it."""
    d, e = (c + 1) % 3, (c + 2) % 3
    arm_d, arm_e = position[body, d] - centre[node, d], position[body, e] - centre[node, e]
    return moved[node, c] + moved[node, 3 + d] * arm_e - moved[node, 3 + e] * arm_d


@serial
def take_over(source, target, m, was, marks, marks_were, load, load_was):
    """Take over from the manifolds `was` what is known of the pairs `source` (k,) to the pairs `target` (k,) of `m`."""
    for k in range(len(source)):
        a, b = source[k], target[k]
        m.state[b], m.size[b] = was.state[a], was.size[a]
        m.apart[b], m.margin[b], m.travel[b], m.safe[b] = was.apart[a], was.margin[a], was.travel[a], was.safe[a]
        m.known[b], m.crushed[b] = was.known[a], was.crushed[a]
        m.need[b], m.gap[b], m.fraction[b], load[b] = was.need[a], was.gap[a], was.fraction[a], load_was[a]
        for c in range(3):
            m.axis[b, c], m.tangent[b, c], m.offset[b, c] = was.axis[a, c], was.tangent[a, c], was.offset[a, c]
            for d in range(3):
                m.turn[b, c, d] = was.turn[a, c, d]
        for q in range(was.size[a]):
            for c in range(3):
                m.impulse[b, q, c] = was.impulse[a, q, c]
                m.point[b, q, 0, c], m.point[b, q, 1, c] = was.point[a, q, 0, c], was.point[a, q, 1, c]
        if marks_were.set[a]:
            marks.set[b], marks.load[b] = 1, marks_were.load[a]
            marks.place[b], marks.turn[b] = marks_were.place[a], marks_were.turn[a]
