"""Kernels between a liquid and bodies: how fast walls move, what of each face a body holds, where liquid is shut in.

samples is a `Samples`, node (n,) the node that moves each body, wet a `Wetted`; distance and owner (2nx, 2ny, 2nz) are
the samples' own, phi (nx, ny, nz) is the distance from the surface [cells].
"""

from typing import NamedTuple

import numpy as np
from numba import prange

from urst.core.bodies.nodes import NO_NODE
from urst.core.jit import kernel, parallel, serial
from urst.core.solids.wall_kernels import NONE, ONE, ZERO, closed_fraction

#: how deep a body's samples are looked at to see how much of it is wet [cells]
SKIN = np.float32(1.5)


class Samples(NamedTuple):
    """What is within walls, at eight samples a cell."""

    distance: np.ndarray
    """(2nx, 2ny, 2nz) float32 from the nearest wall, as `wall_kernels.carve` writes it [cells]"""
    owner: np.ndarray
    """(2nx, 2ny, 2nz) int32, whose wall that is"""
    ease: np.ndarray
    """(n,) float32, see `wall_kernels.closed_fraction`"""


class AxisFaces(NamedTuple):
    """The faces across one axis."""

    axis: int
    weight: np.ndarray
    """their open fractions, float32"""
    ends: np.ndarray
    """(2,) bool, whether the first and the last of them lie in sides of the grid that are walls"""


class Wetted(NamedTuple):
    """Where pressure is solved."""

    phi: np.ndarray
    """(nx, ny, nz) float32 [cells]"""
    least: np.float32
    """cells above minus this are no liquid [cells]"""


class Frame(NamedTuple):
    """Where the grid lies."""

    origin: np.ndarray
    """(3,) least corner [m]"""
    cell: float
    """[m]"""


class BodyMotion(NamedTuple):
    """How `n` bodies move."""

    position: np.ndarray
    """(n, 3) centres [m]"""
    velocity: np.ndarray
    """(n, 3) [m/s]"""
    spin: np.ndarray
    """(n, 3) [rad/s]"""


@kernel
def _sample(axis, i, j, k, s, owner):
    """One of the eight samples about a face, and whether there is one."""
    a, b, c = 2 * i + (s & 1), 2 * j + ((s >> 1) & 1), 2 * k + (s >> 2)
    if axis == 0:
        a -= 1
    elif axis == 1:
        b -= 1
    else:
        c -= 1
    there = min(a, b, c) >= 0 and a < owner.shape[0] and b < owner.shape[1] and c < owner.shape[2]
    return a, b, c, there


@kernel
def _at_side(axis, i, j, k, ends, shape):
    """Whether a face lies in a side of the grid that is a wall; ends (2,): whether the first and the last across the
    axis are."""
    at = i if axis == 0 else (j if axis == 1 else k)
    return (at == 0 and ends[0]) or (at == shape[axis] - 1 and ends[1])


@kernel
def _middle(axis, i, j, k, origin, cell):
    half = 0.5 * cell
    x = origin[0] + i * cell + (0.0 if axis == 0 else half)
    y = origin[1] + j * cell + (0.0 if axis == 1 else half)
    z = origin[2] + k * cell + (0.0 if axis == 2 else half)
    return x, y, z


@parallel
def move_walls(samples, faces, bodies, loose, frame, wall):
    """Write the velocity along an axis of what closes each face across it, the mean of bodies by what they close.

    Parameters
    ----------
    samples : Samples
    faces : AxisFaces
    bodies : BodyMotion
    loose : (n,) bool
        In sides of the grid that are walls these do not count: they lie against them.
    frame : Frame
    wall : faces, float32
        Written; 0 where nothing closes any of a face [m/s].
    """
    distance, owner, ease = samples.distance, samples.owner, samples.ease
    axis, weight, ends = faces.axis, faces.weight, faces.ends
    position, velocity, spin = bodies.position, bodies.velocity, bodies.spin
    origin, cell = frame.origin, frame.cell
    d, e = (axis + 1) % 3, (axis + 2) % 3
    for row in prange(wall.shape[0]):
        i, middle = np.int64(row), np.empty(3)
        for j in range(wall.shape[1]):
            for k in range(wall.shape[2]):
                wall[i, j, k] = ZERO
                if weight[i, j, k] == ONE:
                    continue
                side = _at_side(axis, i, j, k, ends, wall.shape)
                middle[0], middle[1], middle[2] = _middle(axis, i, j, k, origin, cell)
                total, closed = 0.0, 0.0
                for s in range(8):
                    a, b, c, there = _sample(axis, i, j, k, s, owner)
                    if not there:
                        continue
                    part = float(closed_fraction(distance, owner, ease, a, b, c))
                    closed += part
                    body = owner[a, b, c]
                    if body != NONE and not (side and loose[body]):
                        rd, re = middle[d] - position[body, d], middle[e] - position[body, e]
                        total += part * (velocity[body, axis] + spin[body, d] * re - spin[body, e] * rd)
                wall[i, j, k] = np.float32(total / closed) if closed > 0.0 else ZERO


@kernel
def _face_fractions(samples, node, axis, i, j, k, found_on):
    """Write which bodies with a node close a face, and their fractions of what is closed of it, into the two arrays of
    `found_on`; returns how many."""
    distance, owner, ease, (bodies, fractions) = samples.distance, samples.owner, samples.ease, found_on
    found, closed = 0, 0.0
    for s in range(8):
        a, b, c, there = _sample(axis, i, j, k, s, owner)
        if not there:
            continue
        part = float(closed_fraction(distance, owner, ease, a, b, c))
        closed += part
        body = owner[a, b, c]
        if part <= 0.0 or body == NONE or node[body] == NO_NODE:
            continue
        at = 0
        while at < found and bodies[at] != body:
            at += 1
        if at == found:
            bodies[at], fractions[at] = body, 0.0
            found += 1
        fractions[at] += part
    for n in range(found):
        fractions[n] /= closed
    return found


@kernel
def _solved(phi, least, i, j, k):
    inside = min(i, j, k) >= 0 and i < phi.shape[0] and j < phi.shape[1] and k < phi.shape[2]
    return inside and phi[i, j, k] <= -least


@parallel
def count_held(samples, node, faces, wet, count):
    """Write for each plane of faces across an axis how many entries `list_held` makes of it, count (planes,)."""
    axis, weight, ends = faces.axis, faces.weight, faces.ends
    phi, least = wet.phi, wet.least
    for row in prange(weight.shape[0]):
        i, bodies, fractions = np.int64(row), np.empty(8, np.int64), np.empty(8)
        n = 0
        for j in range(weight.shape[1]):
            for k in range(weight.shape[2]):
                if weight[i, j, k] == ONE or _at_side(axis, i, j, k, ends, weight.shape):
                    continue
                sides = 1 if _solved(phi, least, i, j, k) else 0
                sides += 1 if _solved(phi, least, i - (axis == 0), j - (axis == 1), k - (axis == 2)) else 0
                if sides:
                    n += sides * _face_fractions(samples, node, axis, i, j, k, (bodies, fractions))
        count[i] = n


@parallel
def list_held(samples, node, faces, wet, position, frame, first, out):
    """List what bodies hold of faces beside liquid.

    Parameters
    ----------
    samples : Samples
    node : (n,) int64
        Bodies of NO_NODE are left out.
    faces : AxisFaces
    wet : Wetted
    position : (n, 3) float [m]
        The bodies' centres.
    frame : Frame
    first : (planes + 1,) int64
        Where the entries of each plane of faces begin, from `count_held` on the same arguments; else it writes out of
        bounds.
    out : Held
        Written: bodies (m,), cells (m, 3), and what a unit of the body's velocity, and of its spin about its centre,
        drives out of that cell through that face (m, 6).
    """
    axis, weight, ends = faces.axis, faces.weight, faces.ends
    phi, least = wet.phi, wet.least
    origin, cell = frame.origin, frame.cell
    out_body, out_cell, out_value = out.body, out.cell, out.value
    d, e = (axis + 1) % 3, (axis + 2) % 3
    for row in prange(weight.shape[0]):
        i, bodies, fractions, middle = np.int64(row), np.empty(8, np.int64), np.empty(8), np.empty(3)
        m = first[i]
        for j in range(weight.shape[1]):
            for k in range(weight.shape[2]):
                if weight[i, j, k] == ONE or _at_side(axis, i, j, k, ends, weight.shape):
                    continue
                a, b, c = i - (axis == 0), j - (axis == 1), k - (axis == 2)
                here, before = _solved(phi, least, i, j, k), _solved(phi, least, a, b, c)
                if not here and not before:
                    continue
                middle[0], middle[1], middle[2] = _middle(axis, i, j, k, origin, cell)
                for n in range(_face_fractions(samples, node, axis, i, j, k, (bodies, fractions))):
                    body = bodies[n]
                    rd, re = middle[d] - position[body, d], middle[e] - position[body, e]
                    for side in range(2):
                        if not (before if side else here):
                            continue
                        # out of the cell before the face, into the one behind it
                        s = fractions[n] * (1.0 - float(weight[i, j, k]))
                        s = s if side else -s
                        out_body[m] = body
                        out_cell[m, 0] = a if side else i
                        out_cell[m, 1] = b if side else j
                        out_cell[m, 2] = c if side else k
                        for q in range(6):
                            out_value[m, q] = 0.0
                        out_value[m, axis] = s
                        # r x e_axis
                        out_value[m, 3 + d] = s * re
                        out_value[m, 3 + e] = -s * rd
                        m += 1


@parallel
def press_rest(samples, node, faces, pressure, out):
    """Sum up for each plane of faces across an axis what pressure does to what has no node and to the grid's sides.

    Parameters
    ----------
    samples : Samples
    node : (n,) int64
    faces : AxisFaces
    pressure : (nx, ny, nz) float32
    out : (planes, 2) float
        Written: the sum and that of the sizes.
    """
    axis, weight, ends = faces.axis, faces.weight, faces.ends
    nx, ny, nz = pressure.shape
    for row in prange(weight.shape[0]):
        i, bodies, fractions = np.int64(row), np.empty(8, np.int64), np.empty(8)
        net, size = 0.0, 0.0
        for j in range(weight.shape[1]):
            for k in range(weight.shape[2]):
                a, b, c = i - (axis == 0), j - (axis == 1), k - (axis == 2)
                here = float(pressure[i, j, k]) if i < nx and j < ny and k < nz else 0.0
                before = float(pressure[a, b, c]) if min(a, b, c) >= 0 else 0.0
                if here == before:
                    continue
                fraction = 1.0 - float(weight[i, j, k])
                if fraction > 0.0:
                    rest = 1.0
                    if _at_side(axis, i, j, k, ends, weight.shape):
                        net += fraction * (before - here)
                        size += abs(fraction * (before - here))
                        continue
                    for n in range(_face_fractions(samples, node, axis, i, j, k, (bodies, fractions))):
                        rest -= fractions[n]
                    fraction *= rest
                    net += fraction * (before - here)
                    size += abs(fraction * (before - here))
        out[i, 0], out[i, 1] = net, size


@serial
def shut_in(wx, wy, wz, phi, least, closed, pocket):
    """Number the liquid cells that have no way to a surface or out of the grid, pocket by pocket from 1.

    Parameters
    ----------
    wx, wy, wz : faces
        Open shares; by less than `closed` a face counts as shut.
    phi : (nx, ny, nz) float32
        Cells above -least are no liquid [cells].
    least, closed : float32
    pocket : (nx, ny, nz) int32
        Written, 0 for all others.

    Returns
    -------
    int
        How many there are.
    """
    nx, ny, nz = phi.shape
    pocket[:] = 0
    stack, count = np.empty((phi.size, 3), np.int32), 0
    for i0 in range(nx):
        for j0 in range(ny):
            for k0 in range(nz):
                if pocket[i0, j0, k0] != 0 or phi[i0, j0, k0] > -least:
                    continue
                # -1 while it is not known where it leads, -2 once it is known to lead out
                top, first, vented = 1, 0, False
                stack[0, 0], stack[0, 1], stack[0, 2] = i0, j0, k0
                pocket[i0, j0, k0] = -2
                while first < top:
                    i, j, k = stack[first, 0], stack[first, 1], stack[first, 2]
                    first += 1
                    for f in range(6):
                        side, axis = f & 1, f >> 1
                        w = (
                            wx[i + side, j, k]
                            if axis == 0
                            else (wy[i, j + side, k] if axis == 1 else wz[i, j, k + side])
                        )
                        if w < closed:
                            continue
                        step = 2 * side - 1
                        a, b, c = i + step * (axis == 0), j + step * (axis == 1), k + step * (axis == 2)
                        if min(a, b, c) < 0 or a >= nx or b >= ny or c >= nz or phi[a, b, c] > -least:
                            vented = True
                        elif pocket[a, b, c] == 0:
                            pocket[a, b, c] = -2
                            stack[top, 0], stack[top, 1], stack[top, 2] = a, b, c
                            top += 1
                if not vented:
                    count += 1
                    for n in range(top):
                        pocket[stack[n, 0], stack[n, 1], stack[n, 2]] = count
    for i in range(nx):
        for j in range(ny):
            for k in range(nz):
                pocket[i, j, k] = max(pocket[i, j, k], 0)
    return count


@parallel
def immersed(distance, owner, phi, wet, all_of):
    """Count the samples within each body near its surface, all_of (planes, n), and those beside liquid, wet (planes,
    n); both by planes of cells."""
    nx, ny, nz = phi.shape
    for row in prange(nx):
        i = np.int64(row)
        for j in range(ny):
            for k in range(nz):
                for s in range(8):
                    a, b, c = 2 * i + (s & 1), 2 * j + ((s >> 1) & 1), 2 * k + (s >> 2)
                    body = owner[a, b, c]
                    if body == NONE or not -SKIN < distance[a, b, c] <= ZERO:
                        continue
                    all_of[i, body] += 1.0
                    if phi[i, j, k] <= ZERO:
                        wet[i, body] += 1.0
