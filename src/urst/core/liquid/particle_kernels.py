"""Kernels between particles and the grid: affine particle-in-cell (Jiang et al. 2015).

Places are in cells from the grid's least corner, velocities in m/s. Particles are sorted by cell, plane by plane
along x, so that slabs of planes can be written side by side in two colours and the sums do not depend on the number
of threads. What has to look for thin walls is kept apart from what need not, which is most.

position (n, 3), velocity (n, 3) and affine (n, 3, 3) are float32, owner_cell and reach as `CellList` has them. u is the
velocity on the faces across an axis (0, 1, 2), mass what has been added there; shape is (nx, ny, nz), x, y, z a place;
what begins with out_ is written.
"""

from typing import NamedTuple

import numpy as np
from numba import prange

from urst.core.jit import called, kernel, parallel, serial
from urst.core.solids.thin_kernels import ALL, LAP, apart, hit, reached, stopped
from urst.core.solids.wall_kernels import HALF, ONE, ZERO, distance_at, slope_at
from urst.core.trilinear import between, clamped, corners, in_cells, slopes


class Particles(NamedTuple):
    """`n` particles, float32."""

    position: np.ndarray
    """(n, 3) [cells]"""
    velocity: np.ndarray
    """(n, 3) [m/s]"""
    affine: np.ndarray
    """(n, 3, 3) gradient of the velocity, by component and direction [m/s a cell]"""


class CellList(NamedTuple):
    """Where particles are, sorted by cell."""

    start: np.ndarray
    """(cells + 1,) int64: where those of each cell begin"""
    owner_cell: np.ndarray
    """(n,) int32: whose room each is in, see `solids.thin_kernels`"""
    reach: np.ndarray
    """(nx, ny, nz) uint32: which of the 26 cells about are reached past no thin wall"""


class Barriers(NamedTuple):
    """The walls that particles meet in a step."""

    distance: np.ndarray
    """(2nx, 2ny, 2nz) float32 from walls [cells]"""
    keep: np.ndarray
    """(2, 3) float32 corners of the box that particles stay in"""
    before: np.ndarray
    """(nx, ny, nz) uint32, but ALL near thin walls as they stood before the step"""
    now: np.ndarray
    """the same as they stand now"""
    met: tuple
    """what `Walls.met` returns"""
    stand: np.float32
    """least distance that particles keep from walls [cells]"""


class StepRule(NamedTuple):
    """A step, float32."""

    step: np.float32
    """cells that 1 m/s goes in it"""
    fall: np.ndarray
    """(3,) what gravity adds in it [m/s]"""
    spray: np.float32
    """farther above the surface than this particles fly by themselves [cells]"""


#: planes of a slab; particles write to one plane before and behind theirs
SLAB = 4
#: a place is no farther than this above or below what its cell says of the surface [cells]
FAR = np.float32(1.5)
#: evening does not lift a particle farther above the surface [cells]
LIFTED = np.float32(0.25)
#: what a particle has become
FLYING, GONE = 1, 2


@serial
def sort(position, shape, start, order):
    """Order particles by cell: start (cells + 1,) and order (n,), both written."""
    nx, ny, nz = shape
    n = len(position)
    key = np.empty(n, np.int32)
    start[:] = 0
    for p in range(n):
        i, j, k = np.int32(position[p, 0]), np.int32(position[p, 1]), np.int32(position[p, 2])
        key[p] = (i * ny + j) * nz + k
        start[key[p] + 1] += 1
    for c in range(len(start) - 1):
        start[c + 1] += start[c]
    at = start[:-1].copy()
    for p in range(n):
        order[at[key[p]]] = p
        at[key[p]] += 1


@parallel
def extent(position, parts):
    """Return the least and the greatest of places (n, 3), n > 0, along each axis, (2, 3) float32, looked for in parts
    side by side."""
    ends = np.empty((parts, 2, 3), np.float32)
    for part in prange(parts):
        s = np.int64(part)
        first, last = len(position) * s // parts, len(position) * (s + 1) // parts
        for c in range(3):
            low = high = position[min(first, len(position) - 1), c]
            for p in range(first, last):
                low, high = min(low, position[p, c]), max(high, position[p, c])
            ends[s, 0, c], ends[s, 1, c] = low, high
    found = ends[0].copy()
    for s in range(1, parts):
        for c in range(3):
            found[0, c], found[1, c] = min(found[0, c], ends[s, 0, c]), max(found[1, c], ends[s, 1, c])
    return found


@parallel
def arrange(order, position, velocity, affine, out_position, out_velocity, out_affine):
    """Write particles in another order (n,).

    out_position, out_velocity and out_affine are written.
    """
    for number in prange(len(order)):
        p = np.int64(number)
        q = order[p]
        for c in range(3):
            out_position[p, c] = position[q, c]
            out_velocity[p, c] = velocity[q, c]
            out_affine[p, c, 0], out_affine[p, c, 1], out_affine[p, c, 2] = (
                affine[q, c, 0],
                affine[q, c, 1],
                affine[q, c, 2],
            )


@kernel
def _owner_of(owner_cell, p, reach):
    """The cell whose room a particle is in."""
    find_owner_cells = np.int64(owner_cell[p])
    return (
        find_owner_cells // (reach.shape[1] * reach.shape[2]),
        (find_owner_cells // reach.shape[2]) % reach.shape[1],
        find_owner_cells % reach.shape[2],
    )


@kernel
def _beside_face(reach, r, s, t, axis, i, j, k):
    """Whether one of the cells beside a face is reached from a cell past thin walls."""
    nx, ny, nz = reach.shape
    if i < nx and j < ny and k < nz and reached(reach, r, s, t, i, j, k):
        return True
    i, j, k = i - (axis == 0), j - (axis == 1), k - (axis == 2)
    return min(i, j, k) >= 0 and i < nx and j < ny and k < nz and reached(reach, r, s, t, i, j, k)


@kernel
def _spread(particles, p, axis, owner_cell, reach, mass, momentum):
    """Add a particle to the eight faces about it."""
    position, velocity, affine = particles
    x = position[p, 0] - (ZERO if axis == 0 else HALF)
    y = position[p, 1] - (ZERO if axis == 1 else HALF)
    z = position[p, 2] - (ZERO if axis == 2 else HALF)
    i, j, k = np.int64(np.floor(x)), np.int64(np.floor(y)), np.int64(np.floor(z))
    u, v, w = x - np.float32(i), y - np.float32(j), z - np.float32(k)
    r, s, t = _owner_of(owner_cell, p, reach)
    free = reach[r, s, t] == ALL
    own = velocity[p, axis]
    cx, cy, cz = affine[p, axis, 0], affine[p, axis, 1], affine[p, axis, 2]
    for a in range(2):
        if i + a < 0 or i + a >= mass.shape[0]:
            continue
        wa = u if a else ONE - u
        for b in range(2):
            if j + b < 0 or j + b >= mass.shape[1]:
                continue
            wb = wa * (v if b else ONE - v)
            for c in range(2):
                if k + c < 0 or k + c >= mass.shape[2]:
                    continue
                if not free and not _beside_face(reach, r, s, t, np.int64(axis), i + a, j + b, k + c):
                    continue
                weight = wb * (w if c else ONE - w)
                there = own + cx * (np.float32(a) - u) + cy * (np.float32(b) - v) + cz * (np.float32(c) - w)
                mass[i + a, j + b, k + c] += weight
                momentum[i + a, j + b, k + c] += weight * there


@kernel
def _spread_free(position, velocity, affine, p, axis, mass, momentum):
    """The same of a particle with no thin wall and no side of the grid near."""
    x = position[p, 0] - (ZERO if axis == 0 else HALF)
    y = position[p, 1] - (ZERO if axis == 1 else HALF)
    z = position[p, 2] - (ZERO if axis == 2 else HALF)
    i, j, k = np.int64(x), np.int64(y), np.int64(z)
    u, v, w = x - np.float32(i), y - np.float32(j), z - np.float32(k)
    cx, cy, cz = affine[p, axis, 0], affine[p, axis, 1], affine[p, axis, 2]
    corner = velocity[p, axis] - cx * u - cy * v - cz * w
    for a in range(2):
        for b in range(2):
            weight = (u if a else ONE - u) * (v if b else ONE - v)
            low, high = weight * (ONE - w), weight * w
            there = corner + (cx if a else ZERO) + (cy if b else ZERO)
            mass[i + a, j + b, k] += low
            mass[i + a, j + b, k + 1] += high
            momentum[i + a, j + b, k] += low * there
            momentum[i + a, j + b, k + 1] += high * (there + cz)


@kernel
def _free(reach, i, j, k):
    """Whether no thin wall and no side of the grid is near the particles of a cell."""
    nx, ny, nz = reach.shape
    return 0 < i < nx - 1 and 0 < j < ny - 1 and 0 < k < nz - 1 and reach[i, j, k] == ALL


@parallel
def scatter(particles, cell_list, mass, momentum):
    """Add particles to the eight faces about them, along each axis, that thin walls do not part them from.

    Parameters
    ----------
    particles : Particles
    cell_list : CellList
        Of the same particles, sorted: slabs write side by side only if no particle lies outside its cell's slab.
    mass, momentum : FaceFields
        Added to.
    """
    position, velocity, affine = particles.position, particles.velocity, particles.affine
    start, owner_cell, reach = cell_list.start, cell_list.owner_cell, cell_list.reach
    mx, my, mz = mass.x, mass.y, mass.z
    u, v, w = momentum.x, momentum.y, momentum.z
    nx, ny, nz = reach.shape
    slabs = (nx + SLAB - 1) // SLAB
    for colour in range(2):
        for half in prange((slabs + 1 - colour) // 2):
            s = 2 * np.int64(half) + colour
            for i in range(s * SLAB, min((s + 1) * SLAB, nx)):
                for j in range(ny):
                    for k in range(nz):
                        cell, free = (i * ny + j) * nz + k, _free(reach, i, j, k)
                        for p in range(start[cell], start[cell + 1]):
                            if free:
                                _spread_free(position, velocity, affine, p, 0, mx, u)
                                _spread_free(position, velocity, affine, p, 1, my, v)
                                _spread_free(position, velocity, affine, p, 2, mz, w)
                            else:
                                _spread((position, velocity, affine), p, 0, owner_cell, reach, mx, u)
                                _spread((position, velocity, affine), p, 1, owner_cell, reach, my, v)
                                _spread((position, velocity, affine), p, 2, owner_cell, reach, mz, w)


@kernel
def _weigh(position, p, owner_cell, reach, density):
    """Add a particle to the eight cells whose middles are about it."""
    x, y, z = position[p, 0] - HALF, position[p, 1] - HALF, position[p, 2] - HALF
    r, s, t = _owner_of(owner_cell, p, reach)
    free = reach[r, s, t] == ALL
    i, j, k = np.int64(np.floor(x)), np.int64(np.floor(y)), np.int64(np.floor(z))
    u, v, w = x - np.float32(i), y - np.float32(j), z - np.float32(k)
    for a in range(2):
        if i + a < 0 or i + a >= density.shape[0]:
            continue
        wa = u if a else ONE - u
        for b in range(2):
            if j + b < 0 or j + b >= density.shape[1]:
                continue
            wb = wa * (v if b else ONE - v)
            for c in range(2):
                if 0 <= k + c < density.shape[2] and (free or reached(reach, r, s, t, i + a, j + b, k + c)):
                    density[i + a, j + b, k + c] += wb * (w if c else ONE - w)


@kernel
def _weigh_free(position, p, density):
    """The same of a particle with no thin wall and no side of the grid near."""
    x, y, z = position[p, 0] - HALF, position[p, 1] - HALF, position[p, 2] - HALF
    i, j, k = np.int64(x), np.int64(y), np.int64(z)
    u, v, w = x - np.float32(i), y - np.float32(j), z - np.float32(k)
    for a in range(2):
        for b in range(2):
            weight = (u if a else ONE - u) * (v if b else ONE - v)
            density[i + a, j + b, k] += weight * (ONE - w)
            density[i + a, j + b, k + 1] += weight * w


@parallel
def weigh(position, start, owner_cell, reach, density):
    """Add particles to the cells about them that thin walls (owner_cell, reach: `thin_kernels`) do not part them from,
    density (cells); start as in `scatter`."""
    nx, ny, nz = reach.shape
    slabs = (nx + SLAB - 1) // SLAB
    for colour in range(2):
        for half in prange((slabs + 1 - colour) // 2):
            s = 2 * np.int64(half) + colour
            for i in range(s * SLAB, min((s + 1) * SLAB, nx)):
                for j in range(ny):
                    for k in range(nz):
                        cell, free = (i * ny + j) * nz + k, _free(reach, i, j, k)
                        for p in range(start[cell], start[cell + 1]):
                            if free:
                                _weigh_free(position, p, density)
                            else:
                                _weigh(position, p, owner_cell, reach, density)


@kernel
def _within(x, y, z, nx, ny, nz):
    return ZERO <= x < nx and ZERO <= y < ny and ZERO <= z < nz


@parallel
def shift(position, faces, walls, most, phi):
    """Move particles by what faces (`FaceFields`) say [cells], `most` along each axis at most, and out of walls
    (`Barriers`), none up out of the liquid: what is pressed out is no spray. phi (nx, ny, nz) is the distance from
    the surface [cells]."""
    u, v, w = faces.x, faces.y, faces.z
    distance, keep, reach, stand, met = walls.distance, walls.keep, walls.now, walls.stand, walls.met
    for number in prange(len(position)):
        p = np.int64(number)
        x, y, z = position[p, 0], position[p, 1], position[p, 2]
        a = min(max(sample(u, 0, x, y, z), -most), most)
        b = min(max(sample(v, 1, x, y, z), -most), most)
        c = min(max(sample(w, 2, x, y, z), -most), most)
        guarded = reach[np.int64(x), np.int64(y), np.int64(z)] != ALL
        x, y, z = x + a, y + b, z + c
        ox, oy, oz = position[p, 0], position[p, 1], position[p, 2]
        if guarded:
            i, j, k = np.int64(ox), np.int64(oy), np.int64(oz)
            if hit(met, False, ox, oy, oz, x, y, z, LAP)[1] >= 0:
                continue
            here, there = apart(phi, reach, i, j, k, ox, oy, oz), apart(phi, reach, i, j, k, x, y, z)
        else:
            here, there = in_cells(phi, ox, oy, oz), in_cells(phi, x, y, z)
        if there > max(here, LIFTED):
            continue
        inside = keep[0, 0] <= x <= keep[1, 0] and keep[0, 1] <= y <= keep[1, 1] and keep[0, 2] <= z <= keep[1, 2]
        inside = inside and _within(x, y, z, np.float32(v.shape[0]), np.float32(u.shape[1]), np.float32(u.shape[2]))
        if inside and distance_at(distance, x, y, z) >= stand:
            position[p, 0], position[p, 1], position[p, 2] = x, y, z


@parallel
def normalise(mass, momentum):
    """Make momentum a velocity; 0 where no particle is near."""
    for row in prange(mass.shape[0]):
        i = np.int64(row)
        for j in range(mass.shape[1]):
            for k in range(mass.shape[2]):
                momentum[i, j, k] = momentum[i, j, k] / mass[i, j, k] if mass[i, j, k] > ZERO else ZERO


@kernel
def _corner(u, axis, x, y, z):
    """The face before a place, and how far beyond it this lies."""
    x -= ZERO if axis == 0 else HALF
    y -= ZERO if axis == 1 else HALF
    z -= ZERO if axis == 2 else HALF
    x, y, z = clamped(x, u.shape[0]), clamped(y, u.shape[1]), clamped(z, u.shape[2])
    i, j, k = np.int32(x), np.int32(y), np.int32(z)
    return i, j, k, x - np.float32(i), y - np.float32(j), z - np.float32(k)


@kernel
def sample(u, axis, x, y, z):
    """The velocity along an axis at a place, straight between faces."""
    i, j, k, a, b, c = _corner(u, axis, x, y, z)
    return between(u, i, j, k, a, b, c)


@kernel
def slopes_at(u, axis, x, y, z):
    """The same with its slope along x, y, z a cell."""
    i, j, k, a, b, c = _corner(u, axis, x, y, z)
    return slopes(corners(u, i, j, k), a, b, c)


@called
def _gather_apart(u, axis, reach, r, s, t, x, y, z):
    """The same of the faces that are beside what is reached from a cell (r, s, t) past thin walls; others are as these
    on average."""
    p, q, o, a, b, c = _corner(u, axis, x, y, z)
    i, j, k, across = np.int64(p), np.int64(q), np.int64(o), np.int64(axis)
    total, weights = ZERO, ZERO
    for n in range(8):
        d, e, f = n & 1, (n >> 1) & 1, n >> 2
        if _beside_face(reach, r, s, t, across, i + d, j + e, k + f):
            weight = (a if d else ONE - a) * (b if e else ONE - b) * (c if f else ONE - c)
            total += weight * u[i + d, j + e, k + f]
            weights += weight
    if weights < np.float32(1e-6):
        return u[i, j, k], ZERO, ZERO, ZERO
    mean = total / weights
    eight = (
        u[i, j, k] if _beside_face(reach, r, s, t, across, i, j, k) else mean,
        u[i, j, k + 1] if _beside_face(reach, r, s, t, across, i, j, k + 1) else mean,
        u[i, j + 1, k] if _beside_face(reach, r, s, t, across, i, j + 1, k) else mean,
        u[i, j + 1, k + 1] if _beside_face(reach, r, s, t, across, i, j + 1, k + 1) else mean,
        u[i + 1, j, k] if _beside_face(reach, r, s, t, across, i + 1, j, k) else mean,
        u[i + 1, j, k + 1] if _beside_face(reach, r, s, t, across, i + 1, j, k + 1) else mean,
        u[i + 1, j + 1, k] if _beside_face(reach, r, s, t, across, i + 1, j + 1, k) else mean,
        u[i + 1, j + 1, k + 1] if _beside_face(reach, r, s, t, across, i + 1, j + 1, k + 1) else mean,
    )
    return slopes(eight, a, b, c)


@kernel
def _out_of_walls(distance, keep, before, x, y, z, stand, velocity):
    """The place out of walls that is nearest, and whether it is a better one than before; a velocity into them is
    lost."""
    for _ in range(2):
        d = distance_at(distance, x, y, z)
        if d >= stand:
            if keep[0, 0] <= x <= keep[1, 0] and keep[0, 1] <= y <= keep[1, 1] and keep[0, 2] <= z <= keep[1, 2]:
                return x, y, z, True
            break
        sx, sy, sz = slope_at(distance, x, y, z)
        size = np.sqrt(sx * sx + sy * sy + sz * sz)
        if size < np.float32(1e-6):
            break
        sx, sy, sz = sx / size, sy / size, sz / size
        out = stand - d
        x, y, z = x + out * sx, y + out * sy, z + out * sz
        into = min(velocity[0] * sx + velocity[1] * sy + velocity[2] * sz, ZERO)
        velocity[0] -= into * sx
        velocity[1] -= into * sy
        velocity[2] -= into * sz
    for axis in range(3):
        at = x if axis == 0 else (y if axis == 1 else z)
        if at < keep[0, axis]:
            at, velocity[axis] = keep[0, axis], max(velocity[axis], ZERO)
        elif at > keep[1, axis]:
            at, velocity[axis] = keep[1, axis], min(velocity[axis], ZERO)
        x, y, z = at if axis == 0 else x, at if axis == 1 else y, at if axis == 2 else z
    d = distance_at(distance, x, y, z)
    return x, y, z, d >= ZERO or d > distance_at(distance, before[0], before[1], before[2])


@parallel
def carry(particles, flow, phi, walls, rule, owner_cell, state):
    """Take up the grid's velocity and move along it (midpoint rule), out of walls.

    Parameters
    ----------
    particles : Particles
        Written; all must lie on the grid.
    flow : FaceFields [m/s]
    phi : (nx, ny, nz) float32
        Distance from the surface [cells].
    walls : Barriers
        Placed at the end of the step.
    rule : StepRule
    owner_cell : (n,) int32
        Whose room they are in before the step, see `solids.thin_kernels`.
    state : (n,) uint8
        Written: 0, FLYING, or GONE for what has left the grid.
    """
    position, velocity, affine = particles.position, particles.velocity, particles.affine
    u, v, w = flow.x, flow.y, flow.z
    # taken apart: no tuple of tuples goes into a parallel loop, and one of arrays made in it counts references
    distance, keep, stand, met = walls.distance, walls.keep, walls.stand, walls.met
    reach, now = walls.before, walls.now
    step, fall, spray = rule.step, rule.fall, rule.spray
    nx, ny, nz = np.float32(v.shape[0]), np.float32(u.shape[1]), np.float32(u.shape[2])
    for number in prange(len(position)):
        p = np.int64(number)
        x, y, z = position[p, 0], position[p, 1], position[p, 2]
        i, j, k = np.int64(x), np.int64(y), np.int64(z)
        guarded = reach[i, j, k] != ALL or now[i, j, k] != ALL
        r, s, t = i, j, k
        if guarded:
            r, s, t = _owner_of(owner_cell, p, reach)
            flies = apart(phi, reach, r, s, t, x, y, z) > spray
        else:
            away = phi[i, j, k]
            flies = away > spray + HALF or (away > spray - FAR and in_cells(phi, x, y, z) > spray)
        if flies:
            before, gain = ZERO, ZERO
            for c in range(3):
                before += velocity[p, c] * velocity[p, c]
                gain += fall[c] * fall[c]
                velocity[p, c] += fall[c]
                for d in range(3):
                    affine[p, c, d] = ZERO
            x += step * (velocity[p, 0] - HALF * fall[0])
            y += step * (velocity[p, 1] - HALF * fall[1])
            z += step * (velocity[p, 2] - HALF * fall[2])
            if before < gain:
                # what was hardly above the surface is at rest on it again
                there = apart(phi, reach, r, s, t, x, y, z) if guarded else in_cells(phi, x, y, z)
                if there <= spray:
                    flies = False
                    velocity[p, 0], velocity[p, 1] = sample(u, 0, x, y, z), sample(v, 1, x, y, z)
                    velocity[p, 2] = sample(w, 2, x, y, z)
        else:
            if guarded:
                a, ax, ay, az = _gather_apart(u, 0, reach, r, s, t, x, y, z)
                b, bx, by, bz = _gather_apart(v, 1, reach, r, s, t, x, y, z)
                c, cx, cy, cz = _gather_apart(w, 2, reach, r, s, t, x, y, z)
            else:
                a, ax, ay, az = slopes_at(u, 0, x, y, z)
                b, bx, by, bz = slopes_at(v, 1, x, y, z)
                c, cx, cy, cz = slopes_at(w, 2, x, y, z)
            velocity[p, 0], velocity[p, 1], velocity[p, 2] = a, b, c
            affine[p, 0, 0], affine[p, 0, 1], affine[p, 0, 2] = ax, ay, az
            affine[p, 1, 0], affine[p, 1, 1], affine[p, 1, 2] = bx, by, bz
            affine[p, 2, 0], affine[p, 2, 1], affine[p, 2, 2] = cx, cy, cz
            if guarded:
                x, y, z = x + step * a, y + step * b, z + step * c
            else:
                half = HALF * step
                mx, my, mz = x + half * a, y + half * b, z + half * c
                x += step * sample(u, 0, mx, my, mz)
                y += step * sample(v, 1, mx, my, mz)
                z += step * sample(w, 2, mx, my, mz)
        if guarded:
            x, y, z = stopped(met, position[p], x, y, z, velocity[p], stand)
        ox, oy, oz, found = _out_of_walls(distance, keep, position[p], x, y, z, stand, velocity[p])
        if guarded and not (found and hit(met, False, x, y, z, ox, oy, oz, LAP)[1] < 0):
            # what pushes it out of one wall may not push it through another; there is no way there, so it stays
            found = True
            a, b, c = position[p, 0], position[p, 1], position[p, 2]
            if distance_at(distance, x, y, z) < min(distance_at(distance, a, b, c), ZERO):
                x, y, z = stopped(met, position[p], a, b, c, velocity[p], stand)
                velocity[p, 0], velocity[p, 1], velocity[p, 2] = ZERO, ZERO, ZERO
        else:
            x, y, z = ox, oy, oz
        if found:
            position[p, 0], position[p, 1], position[p, 2] = x, y, z
        state[p] = (FLYING if flies else 0) if not found or _within(x, y, z, nx, ny, nz) else GONE
