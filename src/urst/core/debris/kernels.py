"""Kernels of the debris points: birth on parting faces, flight with drag, collision with convex bodies.

Of `n` points: position (n, 3) [m], velocity (n, 3) [m/s], size (n,) across [m]; density [kg/m3] is that of what they
are made of. Of `b` bodies: planes (k, 4) bound them, n . x <= d [m], those of each from face_start (b + 1,) on; low and
high (b, 3) are their bounds [m]; bins is a `Bins`.
"""

from typing import NamedTuple

import numpy as np
from numba import prange

from urst.core.air import AIR_DENSITY, AIR_VISCOSITY, PUFF_RATE
from urst.core.debris.settings import CHIP
from urst.core.jit import inline, parallel, serial

#: impacts of a point in a step that are followed
IMPACTS = 4
#: what lies no deeper than this fraction of its radius rests on a surface, and is not in it
RESTING = 0.5
#: points stand so far off what they touch [m]
GAP = 1e-7


class Points(NamedTuple):
    """`n` points, float64."""

    position: np.ndarray  # (n, 3) [m]
    velocity: np.ndarray  # (n, 3) [m/s]
    size: np.ndarray  # (n,) across [m]
    age: np.ndarray  # (n,) [s]
    kind: np.ndarray  # (n,) uint8: CHIP or PUFF
    airborne: np.ndarray  # (n,) uint8: 1 where a solved gas drags it instead of still air


class Faces(NamedTuple):
    """`m` patches that may part, directions in the first body's frame."""

    pair: np.ndarray  # (m, 2) int64 bodies
    area: np.ndarray  # (m,) [m2]
    extent: np.ndarray  # (m, 2) [m]
    axis: np.ndarray  # (m, 3)
    normal: np.ndarray  # (m, 3)
    anchor: np.ndarray  # (m, 2, 3) the patch's centre in each body's frame [m]


class Rule(NamedTuple):
    """What is born where faces part."""

    seed: int
    stream: int  # tells the draws of several sets of faces apart
    spread: float
    smallest: float  # [m]
    largest: float  # [m]


class Bounce(NamedTuple):
    """Restitution over the speed of impact, straight between the entries, the last one beyond."""

    table: np.ndarray  # (n,) at speeds 0, step, 2 step, ...
    step: float  # [m/s]
    friction: float


class Flight(NamedTuple):
    """What points flew in a step."""

    before: np.ndarray  # (n, 3) where they were at its start [m]
    size: np.ndarray  # (n,) across [m]
    h: float  # the step [s]


class Screws(NamedTuple):
    """How bodies go in a step: each turns about an axis and moves along it, evenly, so that all places of what is
    rigid go alike."""

    turn: np.ndarray  # (m, 3) about which it turns, by as much [rad]
    shift: np.ndarray  # (m, 3) how the world's origin sets off with it [m]


class Bins(NamedTuple):
    """Bodies listed by the cells of a coarse grid their bounds reach into."""

    origin: np.ndarray  # (3,) [m]
    cell: float  # [m]
    shape: np.ndarray  # (3,) int64
    start: np.ndarray  # (cells + 1,) int64
    items: np.ndarray  # (k,) int64
    large: np.ndarray  # bodies that span too many cells to be listed


@inline
def _mix(x):
    """One round of the splitmix64 generator (Steele, Lea & Flood 2014)."""
    x = x + np.uint64(0x9E3779B97F4A7C15)
    x = (x ^ (x >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
    x = (x ^ (x >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
    return x ^ (x >> np.uint64(31))


@inline
def _draw(seed, patch, number, slot):
    """A number in [0, 1) that depends on nothing but what it is for."""
    x = _mix(np.uint64(seed) ^ _mix(np.uint64(patch) ^ _mix(np.uint64(number) ^ _mix(np.uint64(slot)))))
    return float(x >> np.uint64(11)) * (1.0 / 9007199254740992.0)


@serial
def parting(faces, parted, bodies, speed):
    """Write how fast the two sides of each patch part, speed (m,) [m/s]; 0 where parted (m,) uint8 says it still
    holds."""
    pair, area, anchor = faces.pair, faces.area, faces.anchor
    rotation, velocity, spin = bodies.rotation, bodies.velocity, bodies.spin
    for m in range(len(area)):
        speed[m] = 0.0
        if not parted[m]:
            continue
        i, j = pair[m, 0], pair[m, 1]
        square = 0.0
        for c in range(3):
            d, e = (c + 1) % 3, (c + 2) % 3
            ad = (
                rotation[i, d, 0] * anchor[m, 0, 0]
                + rotation[i, d, 1] * anchor[m, 0, 1]
                + rotation[i, d, 2] * anchor[m, 0, 2]
            )
            ae = (
                rotation[i, e, 0] * anchor[m, 0, 0]
                + rotation[i, e, 1] * anchor[m, 0, 1]
                + rotation[i, e, 2] * anchor[m, 0, 2]
            )
            bd = (
                rotation[j, d, 0] * anchor[m, 1, 0]
                + rotation[j, d, 1] * anchor[m, 1, 1]
                + rotation[j, d, 2] * anchor[m, 1, 2]
            )
            be = (
                rotation[j, e, 0] * anchor[m, 1, 0]
                + rotation[j, e, 1] * anchor[m, 1, 1]
                + rotation[j, e, 2] * anchor[m, 1, 2]
            )
            v = velocity[j, c] + spin[j, d] * be - spin[j, e] * bd - velocity[i, c] - spin[i, d] * ae + spin[i, e] * ad
            square += v * v
        speed[m] = np.sqrt(square)


@serial
def rounding_offsets(out):
    """Write a fixed draw for each patch and kind of point, out (m, 2)."""
    for m in range(len(out)):
        for kind in range(2):
            out[m, kind] = _draw(97, m, kind, 0)


@serial
def spawn(faces, count, speed, first_number, rule, bodies, dt, out):
    """Write the newborn points of all patches; returns their number.

    A point starts on the patch, midway between the two bodies, with the mean of their surface velocities and a random
    fraction of the speed of parting, at a moment drawn from the step; it has flown since. Sizes follow a power law with
    as much mass in each decade.

    count (m, 2) says how many chips and puffs each patch gives, first_number the number that their draws begin with, dt
    the step [s]; faces is a `Faces`, rule a `Rule`, out a `Points` that is written.
    """
    pair, area, extent, axis, normal, anchor = (
        faces.pair,
        faces.area,
        faces.extent,
        faces.axis,
        faces.normal,
        faces.anchor,
    )
    position, rotation, velocity, spin = bodies.position, bodies.rotation, bodies.velocity, bodies.spin
    seed, smallest, largest = rule.seed, rule.smallest, rule.largest
    made = 0
    flown = np.empty(3)
    for m in range(len(area)):
        i, j = pair[m, 0], pair[m, 1]
        fill = np.sqrt(min(1.0, area[m] / (4.0 * extent[m, 0] * extent[m, 1])))
        b0 = normal[m, 1] * axis[m, 2] - normal[m, 2] * axis[m, 1]
        b1 = normal[m, 2] * axis[m, 0] - normal[m, 0] * axis[m, 2]
        b2 = normal[m, 0] * axis[m, 1] - normal[m, 1] * axis[m, 0]
        for kind in range(2):
            for number in range(count[m, kind]):
                key = 2 * (first_number[m, kind] + number) + kind
                patch = m + (rule.stream << 40)
                s = (2.0 * _draw(seed, patch, key, 1) - 1.0) * extent[m, 0] * fill
                t = (2.0 * _draw(seed, patch, key, 2) - 1.0) * extent[m, 1] * fill
                lx, ly, lz = s * axis[m, 0] + t * b0, s * axis[m, 1] + t * b1, s * axis[m, 2] + t * b2
                for c in range(3):
                    p = position[i, c] + rotation[i, c, 0] * (anchor[m, 0, 0] + lx)
                    p += rotation[i, c, 1] * (anchor[m, 0, 1] + ly) + rotation[i, c, 2] * (anchor[m, 0, 2] + lz)
                    q = position[j, c] + rotation[j, c, 0] * (anchor[m, 1, 0] + lx)
                    q += rotation[j, c, 1] * (anchor[m, 1, 1] + ly) + rotation[j, c, 2] * (anchor[m, 1, 2] + lz)
                    out.position[made, c] = 0.5 * (p + q)
                for c in range(3):
                    d, e = (c + 1) % 3, (c + 2) % 3
                    v = 0.5 * (velocity[i, c] + velocity[j, c])
                    v += 0.5 * spin[i, d] * (out.position[made, e] - position[i, e])
                    v -= 0.5 * spin[i, e] * (out.position[made, d] - position[i, d])
                    v += 0.5 * spin[j, d] * (out.position[made, e] - position[j, e])
                    v -= 0.5 * spin[j, e] * (out.position[made, d] - position[j, d])
                    kick = rule.spread * speed[m] * (2.0 * _draw(seed, patch, key, 3 + c) - 1.0)
                    out.velocity[made, c] = v + kick
                    flown[c] = kick
                out.age[made] = dt * _draw(seed, patch, key, 7)
                for c in range(3):
                    # the patch has moved on since, and the point with it but for its own kick
                    out.position[made, c] += out.age[made] * flown[c]
                ratio = smallest / largest
                out.size[made] = smallest / np.sqrt(1.0 - _draw(seed, patch, key, 6) * (1.0 - ratio * ratio))
                out.kind[made] = kind
                made += 1
    return made


@serial
def bin_bodies(low, high, bins, limit):
    """List for each cell of a coarse grid the bodies whose bounds reach into it.

    A body that spans more than `limit` cells is one of the large ones instead. Returns (number of items, number of
    large ones); the items are -1 if they do not fit.
    """
    origin, cell, shape, start, items, large = bins
    nx, ny, nz = shape
    bulky = 0
    a = np.empty(3, np.int64)
    b = np.empty(3, np.int64)
    for sweep in range(2):
        for body in range(len(low)):
            cells = 1
            for c in range(3):
                if low[body, c] > high[body, c]:
                    a[c], b[c] = 1, 0
                    cells = 0
                    continue
                a[c] = max(0, int(np.floor((low[body, c] - origin[c]) / cell)))
                b[c] = min(shape[c] - 1, int(np.floor((high[body, c] - origin[c]) / cell)))
                cells *= max(0, b[c] - a[c] + 1)
            if cells > limit:
                if sweep == 0:
                    large[bulky] = body
                    bulky += 1
                continue
            if cells == 0:
                continue
            for x in range(a[0], b[0] + 1):
                for y in range(a[1], b[1] + 1):
                    for z in range(a[2], b[2] + 1):
                        c = (x * ny + y) * nz + z
                        if sweep == 0:
                            start[c + 1] += 1
                        else:
                            items[start[c]] = body
                            start[c] += 1
        if sweep == 0:
            for c in range(nx * ny * nz):
                start[c + 1] += start[c]
            if start[nx * ny * nz] > len(items):
                return -1, bulky
    for c in range(nx * ny * nz, 0, -1):
        start[c] = start[c - 1]
    start[0] = 0
    return start[nx * ny * nz], bulky


@inline
def drag_rate(speed, size, density):
    """1 / relaxation time in air [1/s]: 18 mu / (rho d^2) (1 + 0.15 Re^0.687) (Schiller & Naumann 1933).

    speed is that through the air [m/s].
    """
    reynolds = AIR_DENSITY * speed * size / AIR_VISCOSITY
    return 18.0 * AIR_VISCOSITY / (density * size * size) * (1.0 + 0.15 * reynolds**0.687)


@parallel
def fly(position, velocity, points, gravity, density, h):
    """Move points by `h` seconds under gravity and the drag of still air, taken implicitly; puffs hang back in the air.

    `position` and `velocity` are those of `points`, given by themselves since a parallel loop writes them.
    """
    for p in prange(len(position)):
        vx, vy, vz = velocity[p, 0], velocity[p, 1], velocity[p, 2]
        rate = 0.0
        if not points.airborne[p]:
            speed = np.sqrt(vx * vx + vy * vy + vz * vz)
            rate = drag_rate(speed, points.size[p], density) if points.kind[p] == CHIP else PUFF_RATE
        keep = 1.0 / (1.0 + h * rate)
        velocity[p, 0] = (vx + h * gravity[0]) * keep
        velocity[p, 1] = (vy + h * gravity[1]) * keep
        velocity[p, 2] = (vz + h * gravity[2]) * keep
        for c in range(3):
            position[p, c] += h * velocity[p, c]


@inline
def _restitution(bounce, speed):
    x = min(speed / bounce.step, len(bounce.table) - 1.001)
    i = int(x)
    return bounce.table[i] + (x - i) * (bounce.table[i + 1] - bounce.table[i])


@inline
def _sweep(a, b, radius, planes, first, last):
    """When, as a fraction of the way from a to b, a ball meets a convex body that stands still, and by which face; 2 if
    it does not.

    What begins in the body leaves by the face that it was least deep behind, so that nothing passes that has once
    come to rest on it, however thin it is.
    """
    (ax, ay, az), (bx, by, bz) = a, b
    enter, leave, face = -1.0, 1.0, -1
    least, behind, left, within = -np.inf, -1, False, True
    for f in range(first, last):
        off = planes[f, 3] + radius
        d0 = planes[f, 0] * ax + planes[f, 1] * ay + planes[f, 2] * az - off
        d1 = planes[f, 0] * bx + planes[f, 1] * by + planes[f, 2] * bz - off
        if d0 > 0.0:
            within = False
            if d1 >= 0.0:
                return 2.0, -1
            if d0 / (d0 - d1) > enter:
                enter, face = d0 / (d0 - d1), f
        else:
            if d0 > least:
                least, behind = d0, f
            if d1 > 0.0:
                left = True
                leave = min(leave, d0 / (d0 - d1))
    if not within:
        return (enter, face) if enter <= leave else (2.0, -1)
    out = planes[behind, 0] * bx + planes[behind, 1] * by + planes[behind, 2] * bz - planes[behind, 3] - radius >= 0.0
    if out or (left and least < -RESTING * radius):
        return 2.0, -1
    return 0.0, behind


@inline
def _going(body, x, y, z, bodies):
    """How a body moves at a place [m/s]."""
    rx, ry, rz = x - bodies.position[body, 0], y - bodies.position[body, 1], z - bodies.position[body, 2]
    w, v = bodies.spin[body], bodies.velocity[body]
    return v[0] + w[1] * rz - w[2] * ry, v[1] + w[2] * rx - w[0] * rz, v[2] + w[0] * ry - w[1] * rx


@inline
def _bounced(face, own, velocity, bodies, bounce):
    """The velocity after an impact on a face that moves with `own`."""
    (ux, uy, uz), (vx, vy, vz) = own, velocity
    nx, ny, nz = bodies.planes[face, 0], bodies.planes[face, 1], bodies.planes[face, 2]
    vx, vy, vz = vx - ux, vy - uy, vz - uz
    vn = vx * nx + vy * ny + vz * nz
    if vn < 0.0:
        tx, ty, tz = vx - vn * nx, vy - vn * ny, vz - vn * nz
        slip = np.sqrt(tx * tx + ty * ty + tz * tz)
        restitution = _restitution(bounce, -vn)
        # Coulomb: friction takes at most mu times the normal impulse
        keep = max(0.0, 1.0 - bounce.friction * (1.0 + restitution) * -vn / slip) if slip > 1e-9 else 0.0
        vx, vy, vz = (
            keep * tx - restitution * vn * nx,
            keep * ty - restitution * vn * ny,
            keep * tz - restitution * vn * nz,
        )
    return vx + ux, vy + uy, vz + uz


@inline
def _cell(p, position, bins):
    """The cell of the bins a point is in, -1 outside them."""
    x = int(np.floor((position[p, 0] - bins.origin[0]) / bins.cell))
    y = int(np.floor((position[p, 1] - bins.origin[1]) / bins.cell))
    z = int(np.floor((position[p, 2] - bins.origin[2]) / bins.cell))
    shape = bins.shape
    if x < 0 or y < 0 or z < 0 or x >= shape[0] or y >= shape[1] or z >= shape[2]:
        return -1
    return (x * shape[1] + y) * shape[2] + z


@inline
def _carried(body, x, y, z, fraction, screws):
    """Where a body that goes by a screw takes a place in a fraction of the step, which may be negative."""
    w, u = screws.turn[body], screws.shift[body]
    px, py, pz = u[0] + w[1] * z - w[2] * y, u[1] + w[2] * x - w[0] * z, u[2] + w[0] * y - w[1] * x
    qx, qy, qz = w[1] * pz - w[2] * py, w[2] * px - w[0] * pz, w[0] * py - w[1] * px
    rx, ry, rz = w[1] * qz - w[2] * qy, w[2] * qx - w[0] * qz, w[0] * qy - w[1] * qx
    angle = fraction * np.sqrt(w[0] * w[0] + w[1] * w[1] + w[2] * w[2])
    if abs(angle) < 1e-3:
        second, third = 0.5 - angle * angle / 24.0, 1.0 / 6.0 - angle * angle / 120.0
    else:
        second, third = (1.0 - np.cos(angle)) / angle**2, (angle - np.sin(angle)) / angle**3
    second, third = second * fraction * fraction, third * fraction**3
    return (
        x + fraction * px + second * qx + third * rx,
        y + fraction * py + second * qy + third * ry,
        z + fraction * pz + second * qz + third * rz,
    )


@inline
def _met(body, a, b, left, radius, bodies, screws):
    """`_sweep` in the frame that a body has at the end of the step, of which a share is left."""
    sx, sy, sz = _carried(body, a[0], a[1], a[2], left, screws)
    first, last = bodies.face_start[body], bodies.face_start[body + 1]
    t, face = _sweep((sx, sy, sz), b, radius, bodies.planes, first, last)
    return t, face, sx, sy, sz


@parallel
def collide(position, velocity, flight, bodies, screws, bins, bounce):
    """Let points bounce off the convex bodies that they meet on the way from where they were to where they are.

    Parameters
    ----------
    position, velocity : (n, 3) float64
        At the end of the step; written.
    flight : Flight
    bodies : Obstacles
        At the end of the step.
    screws : Screws
        How each body goes in the step.
    bins : Bins
        Of the bodies by all that they pass over in the step.
    bounce : Bounce
    """
    before, h = flight.before, flight.h
    nx, ny, nz = bins.shape[0], bins.shape[1], bins.shape[2]
    for p in prange(len(position)):
        radius, left = 0.5 * flight.size[p], 1.0
        ax, ay, az = before[p, 0], before[p, 1], before[p, 2]
        bx, by, bz = position[p, 0], position[p, 1], position[p, 2]
        vx, vy, vz = velocity[p, 0], velocity[p, 1], velocity[p, 2]
        for _ in range(IMPACTS):
            soonest, hit, face, cx, cy, cz = 1.5, -1, -1, 0.0, 0.0, 0.0
            for q in range(len(bins.large)):
                t, f, sx, sy, sz = _met(bins.large[q], (ax, ay, az), (bx, by, bz), left, radius, bodies, screws)
                if t < soonest:
                    soonest, hit, face, cx, cy, cz = t, bins.large[q], f, sx, sy, sz
            i0, i1 = _span(min(ax, bx), max(ax, bx), bins.origin[0], bins.cell, nx)
            j0, j1 = _span(min(ay, by), max(ay, by), bins.origin[1], bins.cell, ny)
            k0, k1 = _span(min(az, bz), max(az, bz), bins.origin[2], bins.cell, nz)
            for i in range(i0, i1 + 1):
                for j in range(j0, j1 + 1):
                    for k in range(k0, k1 + 1):
                        c = (i * ny + j) * nz + k
                        for q in range(bins.start[c], bins.start[c + 1]):
                            body = bins.items[q]
                            if (
                                max(ax, bx) < bodies.low[body, 0]
                                or min(ax, bx) > bodies.high[body, 0]
                                or max(ay, by) < bodies.low[body, 1]
                                or min(ay, by) > bodies.high[body, 1]
                                or max(az, bz) < bodies.low[body, 2]
                                or min(az, bz) > bodies.high[body, 2]
                            ):
                                continue
                            t, f, sx, sy, sz = _met(body, (ax, ay, az), (bx, by, bz), left, radius, bodies, screws)
                            if t < soonest:
                                soonest, hit, face, cx, cy, cz = t, body, f, sx, sy, sz
            if hit < 0:
                break
            # where they meet, in the body's last frame, and no deeper than its surface
            cx, cy, cz = cx + soonest * (bx - cx), cy + soonest * (by - cy), cz + soonest * (bz - cz)
            ux, uy, uz = bodies.planes[face, 0], bodies.planes[face, 1], bodies.planes[face, 2]
            out = max(0.0, radius + GAP + bodies.planes[face, 3] - ux * cx - uy * cy - uz * cz)
            cx, cy, cz = cx + out * ux, cy + out * uy, cz + out * uz
            gx, gy, gz = _going(hit, cx, cy, cz, bodies)
            vx, vy, vz = _bounced(face, (gx, gy, gz), (vx, vy, vz), bodies, bounce)
            left *= 1.0 - soonest
            # the rest of the step it flies on from there, beside the body that goes on as well
            ax, ay, az = _carried(hit, cx, cy, cz, -left, screws)
            bx, by, bz = cx + left * h * (vx - gx), cy + left * h * (vy - gy), cz + left * h * (vz - gz)
            if left <= 0.0:
                break
        position[p, 0], position[p, 1], position[p, 2] = bx, by, bz
        velocity[p, 0], velocity[p, 1], velocity[p, 2] = vx, vy, vz


@inline
def _span(low, high, origin, cell, count):
    """First and last cell of the bins along an axis that a span reaches into; none if it lies beyond them."""
    first, last = int(np.floor((low - origin) / cell)), int(np.floor((high - origin) / cell))
    return max(first, 0), min(last, count - 1)


@inline
def _depth(p, body, position, planes, face_start):
    """How deep a point's middle lies in a convex body, negative outside."""
    least = np.inf
    for f in range(face_start[body], face_start[body + 1]):
        d = planes[f, 0] * position[p, 0] + planes[f, 1] * position[p, 1] + planes[f, 2] * position[p, 2] - planes[f, 3]
        least = min(least, -d)
        if least < 0.0:
            break
    return least


@parallel
def buried(position, planes, face_start, bins, depth):
    """Raise depth (n,) [m] to how deep each point's middle lies in any body."""
    for p in prange(len(position)):
        deepest = depth[p]
        for q in range(len(bins.large)):
            deepest = max(deepest, _depth(p, bins.large[q], position, planes, face_start))
        c = _cell(p, position, bins)
        if c >= 0:
            for q in range(bins.start[c], bins.start[c + 1]):
                deepest = max(deepest, _depth(p, bins.items[q], position, planes, face_start))
        depth[p] = deepest
