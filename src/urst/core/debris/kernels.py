"""Kernels of the debris points: birth on parting faces, flight with drag, collision with convex bodies."""

import numpy as np
from numba import prange

from urst.core.jit import inline, parallel, serial

CHIP, PUFF = 0, 1


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
def due(pair, area, anchor, normal, parted, given, per_area, reach, least_speed, position, rotation, velocity,
        spin, dt, speed, count):  # fmt: skip
    """Write how fast each patch parts, speed (m,) [m/s], and how many points of each kind it owes, count (m, 2).

    parted (m,) uint8: whether the patch is free to shed; given (m, 2) float64: points owed so far, raised here.
    anchor (m, 2, 3): the patch's centre in each body's frame; normal (m, 3) in the first body's frame.
    """
    for m in range(len(area)):
        count[m, 0], count[m, 1] = 0, 0
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
        if speed[m] < least_speed:
            continue
        for kind in range(2):
            total = per_area[kind] * area[m]
            before = given[m, kind]
            given[m, kind] = min(total, before + total * speed[m] * dt / reach)
            # a share of a point is owed by luck of the draw, fixed for the patch
            luck = _draw(97, m, kind, 0)
            count[m, kind] = int(given[m, kind] + luck) - int(before + luck)


@serial
def bear(pair, area, extent, axis, normal, anchor, count, speed, first_number, seed, spread, smallest, largest, position,
         rotation, velocity, spin, out_position, out_velocity, out_size, out_kind):  # fmt: skip
    """Write the newborn points of all patches; returns their number.

    A point starts on the patch, midway between the two bodies, with the mean of their surface velocities and a
    random share of the speed of parting. Sizes follow a power law with as much mass in each decade.
    """
    made = 0
    for m in range(len(area)):
        i, j = pair[m, 0], pair[m, 1]
        fill = np.sqrt(min(1.0, area[m] / (4.0 * extent[m, 0] * extent[m, 1])))
        b0 = normal[m, 1] * axis[m, 2] - normal[m, 2] * axis[m, 1]
        b1 = normal[m, 2] * axis[m, 0] - normal[m, 0] * axis[m, 2]
        b2 = normal[m, 0] * axis[m, 1] - normal[m, 1] * axis[m, 0]
        for kind in range(2):
            for number in range(count[m, kind]):
                key = 2 * (first_number[m, kind] + number) + kind
                s = (2.0 * _draw(seed, m, key, 1) - 1.0) * extent[m, 0] * fill
                t = (2.0 * _draw(seed, m, key, 2) - 1.0) * extent[m, 1] * fill
                lx, ly, lz = s * axis[m, 0] + t * b0, s * axis[m, 1] + t * b1, s * axis[m, 2] + t * b2
                for c in range(3):
                    p = position[i, c] + rotation[i, c, 0] * (anchor[m, 0, 0] + lx)
                    p += rotation[i, c, 1] * (anchor[m, 0, 1] + ly) + rotation[i, c, 2] * (anchor[m, 0, 2] + lz)
                    q = position[j, c] + rotation[j, c, 0] * (anchor[m, 1, 0] + lx)
                    q += rotation[j, c, 1] * (anchor[m, 1, 1] + ly) + rotation[j, c, 2] * (anchor[m, 1, 2] + lz)
                    out_position[made, c] = 0.5 * (p + q)
                for c in range(3):
                    d, e = (c + 1) % 3, (c + 2) % 3
                    v = 0.5 * (velocity[i, c] + velocity[j, c])
                    v += 0.5 * spin[i, d] * (out_position[made, e] - position[i, e])
                    v -= 0.5 * spin[i, e] * (out_position[made, d] - position[i, d])
                    v += 0.5 * spin[j, d] * (out_position[made, e] - position[j, e])
                    v -= 0.5 * spin[j, e] * (out_position[made, d] - position[j, d])
                    out_velocity[made, c] = v + spread * speed[m] * (2.0 * _draw(seed, m, key, 3 + c) - 1.0)
                ratio = smallest / largest
                out_size[made] = smallest / np.sqrt(1.0 - _draw(seed, m, key, 6) * (1.0 - ratio * ratio))
                out_kind[made] = kind
                made += 1
    return made


@serial
def bin_bodies(low, high, origin, cell, shape, limit, start, items, large):
    """List for each cell of a coarse grid the bodies whose bounds reach into it.

    start (cells + 1,), items (k,); a body that spans more than `limit` cells goes to `large` instead.
    Returns (number of items, number of large ones); the items are -1 if they do not fit.
    """
    nx, ny, nz = shape
    bulky = 0
    a = np.empty(3, np.int64)
    b = np.empty(3, np.int64)
    for sweep in range(2):
        for body in range(len(low)):
            cells = 1
            for c in range(3):
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
def _drag_rate(speed, size, density):
    """1 / relaxation time in air [1/s]: 18 mu / (rho d^2) (1 + 0.15 Re^0.687) (Schiller & Naumann 1933)."""
    reynolds = 1.2 * speed * size / 1.8e-5
    return 18.0 * 1.8e-5 / (density * size * size) * (1.0 + 0.15 * reynolds**0.687)


@parallel
def fly(position, velocity, size, kind, gravity, density, h):
    """Move points by `h` seconds under gravity and air drag, drag taken implicitly; puffs hang back in the air."""
    for p in prange(len(position)):
        vx, vy, vz = velocity[p, 0], velocity[p, 1], velocity[p, 2]
        speed = np.sqrt(vx * vx + vy * vy + vz * vz)
        rate = _drag_rate(speed, size[p], density) if kind[p] == CHIP else 3.0
        keep = 1.0 / (1.0 + h * rate)
        velocity[p, 0] = (vx + h * gravity[0]) * keep
        velocity[p, 1] = (vy + h * gravity[1]) * keep
        velocity[p, 2] = (vz + h * gravity[2]) * keep
        for c in range(3):
            position[p, c] += h * velocity[p, c]


@inline
def _against(p, body, position, velocity, size, planes, face_start, body_position, body_velocity, body_spin,
             restitution, friction):  # fmt: skip
    radius = 0.5 * size[p]
    best, face = -np.inf, -1
    for f in range(face_start[body], face_start[body + 1]):
        d = planes[f, 0] * position[p, 0] + planes[f, 1] * position[p, 1] + planes[f, 2] * position[p, 2] - planes[f, 3]
        if d > best:
            best, face = d, f
            if best > radius:
                break
    if best < radius:
        nx, ny, nz = planes[face, 0], planes[face, 1], planes[face, 2]
        push = radius - best
        position[p, 0] += push * nx
        position[p, 1] += push * ny
        position[p, 2] += push * nz
        rx = position[p, 0] - body_position[body, 0]
        ry = position[p, 1] - body_position[body, 1]
        rz = position[p, 2] - body_position[body, 2]
        w = body_spin[body]
        ux = body_velocity[body, 0] + w[1] * rz - w[2] * ry
        uy = body_velocity[body, 1] + w[2] * rx - w[0] * rz
        uz = body_velocity[body, 2] + w[0] * ry - w[1] * rx
        vx, vy, vz = velocity[p, 0] - ux, velocity[p, 1] - uy, velocity[p, 2] - uz
        vn = vx * nx + vy * ny + vz * nz
        if vn < 0.0:
            tx, ty, tz = vx - vn * nx, vy - vn * ny, vz - vn * nz
            slip = np.sqrt(tx * tx + ty * ty + tz * tz)
            # Coulomb: friction takes at most mu times the normal impulse
            keep = max(0.0, 1.0 - friction * (1.0 + restitution) * -vn / slip) if slip > 1e-9 else 0.0
            velocity[p, 0] = ux + keep * tx - restitution * vn * nx
            velocity[p, 1] = uy + keep * ty - restitution * vn * ny
            velocity[p, 2] = uz + keep * tz - restitution * vn * nz


@parallel
def collide(position, velocity, size, planes, face_start, low, high, body_position, body_velocity, body_spin, origin,
            cell, shape, start, items, large, restitution, friction):  # fmt: skip
    """Push points out of the convex bodies they are in, with bounce and friction against the moving surface."""
    for p in prange(len(position)):
        for q in range(len(large)):
            _against(p, large[q], position, velocity, size, planes, face_start, body_position, body_velocity,
                     body_spin, restitution, friction)  # fmt: skip
        x = int(np.floor((position[p, 0] - origin[0]) / cell))
        y = int(np.floor((position[p, 1] - origin[1]) / cell))
        z = int(np.floor((position[p, 2] - origin[2]) / cell))
        if x < 0 or y < 0 or z < 0 or x >= shape[0] or y >= shape[1] or z >= shape[2]:
            continue
        c = (x * shape[1] + y) * shape[2] + z
        for q in range(start[c], start[c + 1]):
            body = items[q]
            inside = True
            for k in range(3):
                if position[p, k] < low[body, k] or position[p, k] > high[body, k]:
                    inside = False
            if inside:
                _against(p, body, position, velocity, size, planes, face_start, body_position, body_velocity,
                         body_spin, restitution, friction)  # fmt: skip


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
def buried(position, planes, face_start, origin, cell, shape, start, items, large, depth):
    """Write how deep each point's middle lies in any body, depth (n,) [m], 0 outside all."""
    for p in prange(len(position)):
        deepest = 0.0
        for q in range(len(large)):
            deepest = max(deepest, _depth(p, large[q], position, planes, face_start))
        x = int(np.floor((position[p, 0] - origin[0]) / cell))
        y = int(np.floor((position[p, 1] - origin[1]) / cell))
        z = int(np.floor((position[p, 2] - origin[2]) / cell))
        if x >= 0 and y >= 0 and z >= 0 and x < shape[0] and y < shape[1] and z < shape[2]:
            c = (x * shape[1] + y) * shape[2] + z
            for q in range(start[c], start[c + 1]):
                deepest = max(deepest, _depth(p, items[q], position, planes, face_start))
        depth[p] = deepest
