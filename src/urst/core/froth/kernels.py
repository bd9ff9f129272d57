"""Kernels of froth: where it is born and how its points move. Places are in cells of the liquid's grid.

position and velocity (n, 3) are the liquid's particles' [cells], [m/s]; u is the velocity on faces across one axis
[m/s], f a field of cells' middles and x, y, z a place; total (cells, 3), weight (cells) and out are written.
"""

from typing import NamedTuple

import numpy as np
from numba import prange

from urst.core.froth.settings import BUBBLE, FOAM, MIST, SPRAY
from urst.core.jit import inline, parallel, serial
from urst.core.solids.face_bits import face
from urst.core.trilinear import in_cells

ZERO, HALF, ONE = np.float32(0.0), np.float32(0.5), np.float32(1.0)
#: below this a point is in the liquid, above that in the air [cells]
UNDER, OVER = np.float32(-0.6), np.float32(0.5)
#: how far points keep from walls, and how deep within one they are lost [cells]
STAND, LOST = np.float32(0.05), np.float32(-1.0)
#: no point any more
GONE = 255
#: steepest angle between a crest's way and its normal, as a cosine (Ihmsen et al. 2012)
FORWARD = np.float32(0.6)


@serial
def spread_velocity(position, velocity, total, weight):
    """Add up particles about cells' middles: total (cells, 3) [m/s] and weight (cells)."""
    nx, ny, nz = weight.shape
    for p in range(len(position)):
        x, y, z = position[p, 0] - HALF, position[p, 1] - HALF, position[p, 2] - HALF
        i, j, k = int(np.floor(x)), int(np.floor(y)), int(np.floor(z))
        u, v, w = x - np.float32(i), y - np.float32(j), z - np.float32(k)
        for a in range(2):
            for b in range(2):
                for c in range(2):
                    if 0 <= i + a < nx and 0 <= j + b < ny and 0 <= k + c < nz:
                        g = (u if a else ONE - u) * (v if b else ONE - v) * (w if c else ONE - w)
                        weight[i + a, j + b, k + c] += g
                        for d in range(3):
                            total[i + a, j + b, k + c, d] += g * velocity[p, d]


@parallel
def extend(total, weight, out, known):
    """Write velocities (cells, 3), where no particle is near the mean of cells beside that have one, and which have
    one then, known (cells) uint8."""
    nx, ny, nz = weight.shape
    for row in prange(nx):
        i = np.int64(row)
        for j in range(ny):
            for k in range(nz):
                x, y, z, n = ZERO, ZERO, ZERO, ZERO
                if weight[i, j, k] > np.float32(1e-3):
                    n = weight[i, j, k]
                    x, y, z = total[i, j, k, 0], total[i, j, k, 1], total[i, j, k, 2]
                else:
                    for a in range(max(i - 1, 0), min(i + 2, nx)):
                        for b in range(max(j - 1, 0), min(j + 2, ny)):
                            for c in range(max(k - 1, 0), min(k + 2, nz)):
                                n += weight[a, b, c]
                                x += total[a, b, c, 0]
                                y += total[a, b, c, 1]
                                z += total[a, b, c, 2]
                known[i, j, k] = n > np.float32(1e-3)
                n = max(n, np.float32(1e-3))
                out[i, j, k, 0], out[i, j, k, 1], out[i, j, k, 2] = x / n, y / n, z / n


@inline
def _ramp(x, none, full):
    return min(max((x - none) / (full - none), ZERO), ONE)


class Medium(NamedTuple):
    """The liquid on its grid, and what bounds it."""

    phi: np.ndarray
    """(nx, ny, nz) float32 distance from the surface [cells]"""
    walls: np.ndarray
    """(nx, ny, nz) float32 distance from walls [cells]"""
    blocked: np.ndarray
    """(nx, ny, nz) uint8 faces of cells that thin walls close, see `solids.face_bits`"""
    flow: np.ndarray
    """(nx, ny, nz, 3) float32 [m/s]"""
    cell: np.float32
    """[m]"""


class Births(NamedTuple):
    """What gives birth to points; float32."""

    speed: np.ndarray
    """(2,) how fast liquid must go for none and for all [m/s]"""
    clash: np.ndarray
    """(2,) how fast it must close on itself [1/s]"""
    crest: np.ndarray
    """(2,) how much its surface must bend [1/m]"""
    rates: np.ndarray
    """(2,) of trapped air and of crests, times a cell's volume [1/s]"""


@parallel
def potentials(medium, filled, births, out):
    """Write how many points each cell gives birth to, out (cells) [1/s a cell's volume of liquid], near the surface.

    Air is trapped where liquid closes on itself: the mean over directions n of |G n| - n . G n, with the slope G of
    the velocity, which is the sum over neighbours of Ihmsen et al. 2012 for a flow that changes evenly. Crests are
    where the surface is bent outwards and goes forward; where liquid has torn off it all is spray. All by how fast it
    goes.

    Parameters
    ----------
    medium : Medium
    filled : (nx, ny, nz) float32
        Particles about each cell.
    births : Births
    out : (nx, ny, nz) float32
    """
    phi, walls, u, cell = medium.phi, medium.walls, medium.flow, medium.cell
    speed, clash, crest, rates = births
    nx, ny, nz = phi.shape
    for row in prange(nx):
        i, g, n = np.int64(row), np.empty((3, 3), np.float32), np.empty(3, np.float32)
        for j in range(ny):
            for k in range(nz):
                out[i, j, k] = ZERO
                if min(i, j, k) < 1 or i > nx - 2 or j > ny - 2 or k > nz - 2:
                    continue
                torn = phi[i, j, k] >= HALF
                if (
                    phi[i, j, k] < np.float32(-2.5)
                    or walls[i, j, k] < np.float32(0.3)
                    or (torn and filled[i, j, k] == ZERO)
                ):
                    continue
                x, y, z = u[i, j, k, 0], u[i, j, k, 1], u[i, j, k, 2]
                size = np.sqrt(x * x + y * y + z * z)
                fast = _ramp(size, speed[0], speed[1])
                if fast == ZERO:
                    continue
                if torn:
                    out[i, j, k] = fast * rates[0] * min(filled[i, j, k] * np.float32(0.125), ONE)
                    continue
                half = HALF / cell
                for c in range(3):
                    g[c, 0] = half * (u[i + 1, j, k, c] - u[i - 1, j, k, c])
                    g[c, 1] = half * (u[i, j + 1, k, c] - u[i, j - 1, k, c])
                    g[c, 2] = half * (u[i, j, k + 1, c] - u[i, j, k - 1, c])
                closing = ZERO
                # along the axes and the diagonals of faces: nine directions
                for d in range(9):
                    for c in range(3):
                        n[c] = ZERO
                    if d < 3:
                        n[d] = ONE
                    else:
                        a = (d - 3) // 2
                        n[a], n[(a + 1) % 3] = np.float32(0.70710678), np.float32(0.70710678)
                        if d % 2 == 0:
                            n[(a + 1) % 3] = -n[(a + 1) % 3]
                    along, square = ZERO, ZERO
                    for c in range(3):
                        s = g[c, 0] * n[0] + g[c, 1] * n[1] + g[c, 2] * n[2]
                        along += n[c] * s
                        square += s * s
                    closing += (np.sqrt(square) - along) / np.float32(9.0)
                born = rates[0] * _ramp(closing, clash[0], clash[1])
                if phi[i, j, k] > np.float32(-1.0):
                    sx = phi[i + 1, j, k] - phi[i - 1, j, k]
                    sy = phi[i, j + 1, k] - phi[i, j - 1, k]
                    sz = phi[i, j, k + 1] - phi[i, j, k - 1]
                    slope = max(np.sqrt(sx * sx + sy * sy + sz * sz), np.float32(1e-6))
                    bent = (
                        phi[i + 1, j, k]
                        + phi[i - 1, j, k]
                        + phi[i, j + 1, k]
                        + phi[i, j - 1, k]
                        + phi[i, j, k + 1]
                        + phi[i, j, k - 1]
                        - np.float32(6.0) * phi[i, j, k]
                    ) / cell
                    if (x * sx + y * sy + z * sz) > FORWARD * size * slope:
                        born += rates[1] * _ramp(bent, crest[0], crest[1])
                out[i, j, k] = fast * born


@inline
def slope(f, x, y, z):
    """How a field of cells rises about a place, a cell."""
    return (
        in_cells(f, x + HALF, y, z) - in_cells(f, x - HALF, y, z),
        in_cells(f, x, y + HALF, z) - in_cells(f, x, y - HALF, z),
        in_cells(f, x, y, z + HALF) - in_cells(f, x, y, z - HALF),
    )


@inline
def velocity_at(u, x, y, z, out):
    """Write into column-like out the velocity at a place."""
    x = min(max(x - HALF, ZERO), np.float32(u.shape[0] - 1.001))
    y = min(max(y - HALF, ZERO), np.float32(u.shape[1] - 1.001))
    z = min(max(z - HALF, ZERO), np.float32(u.shape[2] - 1.001))
    i, j, k = np.int32(x), np.int32(y), np.int32(z)
    a, b, c = x - np.float32(i), y - np.float32(j), z - np.float32(k)
    for d in range(3):
        out[d] = ZERO
    for p in range(2):
        for q in range(2):
            for r in range(2):
                w = (a if p else ONE - a) * (b if q else ONE - b) * (c if r else ONE - c)
                for d in range(3):
                    out[d] += w * u[i + p, j + q, k + r, d]


@inline
def _stopped(blocked, axis, start, end, first, second, speed):
    """Where a way along an axis ends, and with what speed: at the first face that a thin wall closes. first, second:
    the place along the two other axes, in their order."""
    nx, ny, nz = blocked.shape
    n = nx if axis == 0 else (ny if axis == 1 else nz)
    a, b, c, goal = np.int64(first), np.int64(second), np.int64(np.floor(start)), np.int64(np.floor(end))
    a = min(max(a, 0), (ny if axis == 0 else nx) - 1)
    b = min(max(b, 0), (ny if axis == 2 else nz) - 1)
    while c != goal and 0 <= c < n:
        ahead = goal > c
        i, j, k = (c, a, b) if axis == 0 else ((a, c, b) if axis == 1 else (a, b, c))
        if blocked[i, j, k] & face(2 * axis + ahead):
            return (np.float32(c + 1) - STAND if ahead else np.float32(c) + STAND), ZERO
        c += 1 if ahead else -1
    return end, speed


class FrothPoints(NamedTuple):
    """`n` points; `kind` uint8, the rest float32."""

    position: np.ndarray
    """(n, 3) [cells]"""
    velocity: np.ndarray
    """(n, 3) [m/s]"""
    age: np.ndarray
    """(n,) [s]"""
    life: np.ndarray
    """(n,) [s]"""
    kind: np.ndarray
    """(n,), GONE for what is no more"""


class MoveRule(NamedTuple):
    """How points move; float32 but for `on`."""

    drags: np.ndarray
    """(4,) drag of bubbles, of spray and of mist [1/s], and how fast bubbles rise [m/s]"""
    lives: np.ndarray
    """(4,) of the kinds [s]"""
    on: np.ndarray
    """(4,) uint8, which kinds there are"""
    gravity: np.ndarray
    """(3,) [m/s2]"""
    wind: np.ndarray
    """(3,) [m/s]"""


@parallel
def move(points, medium, rule, dt):
    """Move points by a step, and let each be what the place makes of it.

    Parameters
    ----------
    points : FrothPoints
        Written.
    medium : Medium
        Points must lie on its grid, or be GONE.
    rule : MoveRule
    dt : float32 [s]
    """
    position, velocity, age, life, kind = points.position, points.velocity, points.age, points.life, points.kind
    phi, walls, blocked, u, cell = medium.phi, medium.walls, medium.blocked, medium.flow, medium.cell
    rules, lives, on, gravity, wind = rule.drags, rule.lives, rule.on, rule.gravity, rule.wind
    weight = np.sqrt(gravity[0] ** 2 + gravity[1] ** 2 + gravity[2] ** 2)
    step = dt / cell
    for number in prange(len(position)):
        p = np.int64(number)
        if kind[p] == GONE:
            continue
        flow, v = np.empty(3, np.float32), velocity[p]
        x, y, z = position[p, 0], position[p, 1], position[p, 2]
        age[p] += dt
        deep = in_cells(phi, x, y, z)
        was = kind[p]
        if was == MIST:
            age[p] = life[p] + ONE if deep < ZERO else age[p]
        else:
            now = BUBBLE if deep < UNDER else (SPRAY if deep > OVER else FOAM)
            if now != was:
                # foam that comes off the surface, or under it, is what it is there; all comes to rest as foam
                kind[p], age[p], life[p] = now, ZERO, lives[now] * (life[p] / lives[was])
        if not on[kind[p]] or age[p] > life[p]:
            kind[p] = GONE
            continue
        if kind[p] == SPRAY or kind[p] == MIST:
            drag = rules[1] if kind[p] == SPRAY else rules[2]
            keep = np.exp(-drag * dt)
            fall = (ONE - keep) / drag if drag > np.float32(1e-3) else dt
            for c in range(3):
                v[c] = wind[c] + keep * (v[c] - wind[c]) + fall * gravity[c]
        else:
            velocity_at(u, x, y, z, flow)
            if kind[p] == FOAM:
                for c in range(3):
                    v[c] = flow[c]
            else:
                keep = np.exp(-rules[0] * dt)
                for c in range(3):
                    wanted = flow[c] - (rules[3] * gravity[c] / weight if weight > ZERO else ZERO)
                    v[c] = wanted + keep * (v[c] - wanted)
        x, y, z = x + step * v[0], y + step * v[1], z + step * v[2]
        if kind[p] == FOAM:
            # it floats: what is under comes up, what is over comes down
            sx, sy, sz = slope(phi, x, y, z)
            square = max(sx * sx + sy * sy + sz * sz, np.float32(0.25))
            off = min(max(in_cells(phi, x, y, z) + np.float32(0.05), -HALF), HALF) / square
            x, y, z = x - HALF * off * sx, y - HALF * off * sy, z - HALF * off * sz
        x, v[0] = _stopped(blocked, 0, position[p, 0], x, position[p, 1], position[p, 2], v[0])
        y, v[1] = _stopped(blocked, 1, position[p, 1], y, x, position[p, 2], v[1])
        z, v[2] = _stopped(blocked, 2, position[p, 2], z, x, y, v[2])
        d = in_cells(walls, x, y, z)
        if d < STAND:
            if d < LOST:
                kind[p] = GONE
                continue
            sx, sy, sz = slope(walls, x, y, z)
            size = max(np.sqrt(sx * sx + sy * sy + sz * sz), np.float32(1e-6))
            sx, sy, sz = sx / size, sy / size, sz / size
            x, y, z = x + (STAND - d) * sx, y + (STAND - d) * sy, z + (STAND - d) * sz
            into = min(v[0] * sx + v[1] * sy + v[2] * sz, ZERO)
            v[0], v[1], v[2] = v[0] - into * sx, v[1] - into * sy, v[2] - into * sz
        if not (ZERO <= x < phi.shape[0] and ZERO <= y < phi.shape[1] and ZERO <= z < phi.shape[2]):
            kind[p] = GONE
            continue
        position[p, 0], position[p, 1], position[p, 2] = x, y, z
