"""Pairs of shapes that are near each other, and where they touch, kept from check to check.

A manifold keeps its points in the frames of its two bodies. While these have moved little against each other since they were
looked at, the points are only brought up to date; a pair that is apart is not looked at before its distance could have closed.
"""

from typing import NamedTuple

import numpy as np

from urst.core.bodies.mobility import DRIVEN, LOOSE
from urst.core.jit import kernel, serial
from urst.core.rigid import detect, onesided
from urst.core.rigid.detect import NEAR, POINTS
from urst.core.rigid.state import Bodies
from urst.core.threads import share

#: pairs that are worth a thread
_WORTH = 64
#: least margin within which points are noted [m]
_MARGIN = 2e-3
#: what stands so much farther apart than it may close in a check is left out of it [m]
SPARE = 5e-4
#: motion after which a pair is looked at again: this [m], or this share of the smaller radius
_MOTION, _SHARE = 1e-3, 0.01


class Manifolds(NamedTuple):
    """`p` pairs of shapes; frames are those of their bodies."""

    shape: np.ndarray  # (p, 2) int64
    body: np.ndarray  # (p, 2) int64
    state: np.ndarray  # (p,) int64: 0 not looked at yet, PARTED or NEAR
    size: np.ndarray  # (p,) int64 points
    axis: np.ndarray  # (p, 3) normal or what parts them, in the first body's frame
    tangent: np.ndarray  # (p, 3) in the first body's frame
    point: np.ndarray  # (p, POINTS, 2, 3) on either surface, in its body's frame [m]
    share: np.ndarray  # (p,) how far the points go along with the second body, see `detect`
    impulse: np.ndarray  # (p, POINTS, 3) along normal and tangents in the last substep [N s]
    apart: np.ndarray  # (p,) when looked at [m]
    margin: np.ndarray  # (p,) within which points were noted [m]
    travel: np.ndarray  # (p,) sum of the travels of both bodies then [m]
    offset: np.ndarray  # (p, 3) smaller body seen from the larger then, in its frame [m]
    turn: np.ndarray  # (p, 3, 3) its rotation seen from there then
    need: np.ndarray  # (p,) how far they may close within the check [m]
    gap: np.ndarray  # (p,) least gap now [m]


def still(radius: np.ndarray) -> np.ndarray:
    """Return how far bodies may move before they are looked at again [m]."""
    return np.maximum(_MOTION, _SHARE * radius)


def none(p: int) -> Manifolds:
    """Return room for `p` manifolds that nobody has looked at."""
    return Manifolds(
        shape=np.zeros((p, 2), np.int64), body=np.zeros((p, 2), np.int64), state=np.zeros(p, np.int64),
        size=np.zeros(p, np.int64), axis=np.zeros((p, 3)), tangent=np.zeros((p, 3)),
        point=np.zeros((p, POINTS, 2, 3)), share=np.zeros(p), impulse=np.zeros((p, POINTS, 3)), apart=np.zeros(p), margin=np.zeros(p),
        travel=np.zeros(p), offset=np.zeros((p, 3)), turn=np.zeros((p, 3, 3)), need=np.zeros(p), gap=np.zeros(p),
    )  # fmt: skip


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
def _motion(m, p, bodies):
    """How far points of the smaller body, at most, have moved in the frame of the larger since they were looked at."""
    i, j = _roles(m, p, bodies)
    r, s = bodies.rotation[i], bodies.rotation[j]
    d0 = bodies.position[j, 0] - bodies.position[i, 0]
    d1 = bodies.position[j, 1] - bodies.position[i, 1]
    d2 = bodies.position[j, 2] - bodies.position[i, 2]
    shift, swing = 0.0, 0.0
    for a in range(3):
        o = r[0, a] * d0 + r[1, a] * d1 + r[2, a] * d2 - m.offset[p, a]
        shift += o * o
        for b in range(3):
            t = r[0, a] * s[0, b] + r[1, a] * s[1, b] + r[2, a] * s[2, b] - m.turn[p, a, b]
            swing += t * t
    # two turns whose matrices differ by a Frobenius norm d move a point at radius 1 by d / sqrt(2) at most
    return np.sqrt(shift) + np.sqrt(0.5 * swing) * bodies.radius[j]


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
                bodies.position[j, c] + s[c, 0] * b[0] + s[c, 1] * b[1] + s[c, 2] * b[2]
                - bodies.position[i, c] - r[c, 0] * a[0] - r[c, 1] * a[1] - r[c, 2] * a[2]
            )  # fmt: skip
        least = min(least, gap)
    m.gap[p] = least


@kernel
def _match(m, p, bodies, count, axis, points, near, old, push):
    """Write new points, each with the impulse of the old point nearest to it."""
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
def _sift(m, first, last, bodies, dt, weight, due):
    """Bring pairs up to date where that takes no look at their shapes; mark in `due` (p,) those that must be looked at."""
    for p in range(first, last):
        i, j = m.body[p, 0], m.body[p, 1]
        due[p] = 0
        if not (
            bodies.kind[i] == DRIVEN or bodies.kind[j] == DRIVEN
            or (bodies.kind[i] == LOOSE and bodies.awake[i]) or (bodies.kind[j] == LOOSE and bodies.awake[j])
        ):  # fmt: skip
            continue
        speed = 0.0
        for c in range(3):
            speed += (bodies.velocity[j, c] - bodies.velocity[i, c]) ** 2
        speed = np.sqrt(speed) + bodies.swing[i] + bodies.swing[j]
        need = dt * (speed + dt * weight)
        m.need[p] = need
        due[p] = 1
        if m.state[p] == 0:
            continue
        calm = max(_MOTION, _SHARE * min(bodies.radius[i], bodies.radius[j]))
        travel = bodies.travel[i] + bodies.travel[j]
        moved = travel - m.travel[p]
        for again in range(2):
            if m.apart[p] - moved > need + SPARE:
                due[p] = 0
                m.gap[p] = m.apart[p] - moved
                break
            if m.state[p] == NEAR and moved <= calm and need + moved <= m.margin[p]:
                due[p] = 0
                _project(m, p, bodies)
                break
            if again == 0:
                # travels only add up; what the two did against each other may be less
                moved = min(moved, _motion(m, p, bodies))
                m.travel[p] = travel - moved


@serial
def _look_at(m, due, first, last, bodies, shapes):
    """Look where pairs touch."""
    scratch = detect.scratch(shapes)
    world, points, gaps = np.zeros(3), np.zeros((POINTS, 2, 3)), np.zeros(POINTS)
    old, push = np.zeros((POINTS, 3)), np.zeros((POINTS, 3))
    for number in range(first, last):
        p = due[number]
        i, j = m.body[p, 0], m.body[p, 1]
        smaller = min(bodies.radius[i], bodies.radius[j])
        calm = max(_MOTION, _SHARE * smaller)
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
        found, count, apart, share_j = onesided.meet(
            shapes, m.shape[p, 0], m.shape[p, 1], margin, deepest, world, points, gaps, scratch
        )
        _see(m, p, bodies)
        m.apart[p], m.margin[p], m.gap[p], m.share[p] = apart, margin, apart, share_j
        if count == 0:
            m.state[p], m.size[p] = found, 0
            _local(bodies.rotation, i, world[0], world[1], world[2], m.axis[p])
            continue
        _match(m, p, bodies, count, world, points, min(0.05, 0.3 * smaller), old, push)
        m.state[p], m.size[p] = NEAR, count
        for k in range(count):
            m.gap[p] = min(m.gap[p], gaps[k]) if k else gaps[0]


def look(m: Manifolds, bodies: Bodies, place, dt: float, weight: float) -> None:
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
    due = np.empty(len(m.state), np.uint8)
    share(lambda a, b: _sift(m, a, b, bodies, dt, weight, due), len(due), 64 * _WORTH)
    some = np.flatnonzero(due)
    if len(some):
        shapes = place(m.shape[some].ravel())
        share(lambda a, b: _look_at(m, some, a, b, bodies, shapes), len(some), _WORTH)


@serial
def take_over(source, target, m, was, marks, marks_were, load, load_was):
    """Take over from the manifolds `was` what is known of the pairs `source` (k,) to the pairs `target` (k,) of `m`."""
    for k in range(len(source)):
        a, b = source[k], target[k]
        m.state[b], m.size[b] = was.state[a], was.size[a]
        m.apart[b], m.margin[b], m.travel[b] = was.apart[a], was.margin[a], was.travel[a]
        m.need[b], m.gap[b], m.share[b], load[b] = was.need[a], was.gap[a], was.share[a], load_was[a]
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
