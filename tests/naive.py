"""Plain, slow references for kernels: what they compute, said as directly as NumPy can."""

import itertools

import numpy as np


def trilinear(field, place):
    """A field at index coordinates, held constant beyond its samples."""
    place = np.clip(place, 0.0, np.array(field.shape) - 1.001)
    low = np.floor(place).astype(int)
    fraction, total = place - low, 0.0
    for corner in itertools.product((0, 1), repeat=3):
        weight = np.prod(np.where(corner, fraction, 1.0 - fraction))
        total += weight * field[tuple(low + corner)]
    return total


def hat_weights(shape, at, reach, open_):
    """The normalised weights by which a point at index coordinates sees open faces (faces)."""
    weight = np.ones(shape)
    for axis in range(3):
        index = np.arange(shape[axis]).reshape([-1 if a == axis else 1 for a in range(3)])
        weight = weight * np.maximum(0.0, 1.0 - np.abs(index - at[axis]) / reach)
    weight = weight * open_
    return weight / weight.sum() if weight.sum() > 0.0 else weight


def scatter(position, velocity, affine, axis, shape):
    """Masses and momenta of particles on the faces across an axis (APIC; Jiang et al. 2015), with no walls near."""
    mass, momentum = np.zeros(shape), np.zeros(shape)
    middle = np.where(np.arange(3) == axis, 0.0, 0.5)
    for p, own in enumerate(velocity):
        at = position[p] - middle
        low = np.floor(at).astype(int)
        for corner in itertools.product((0, 1), repeat=3):
            face = low + corner
            if (face < 0).any() or (face >= shape).any():
                continue
            weight = np.prod(1.0 - np.abs(face - at))
            mass[tuple(face)] += weight
            momentum[tuple(face)] += weight * (own[axis] + affine[p, axis] @ (face - at))
    return mass, momentum


def outflow(velocity, weights, walls):
    """Net outflow of each cell through open and closed fractions of its faces, in speeds across a cell."""
    total = 0.0
    for axis in range(3):
        flux = weights[axis] * velocity[axis] + (1.0 - weights[axis]) * walls[axis]
        total = total + np.diff(flux, axis=axis)
    return total


def diffused(line, weight, rate):
    """One implicit step of diffusion along a line of open cells; weight: open share of the faces between them."""
    n = len(line)
    matrix = np.eye(n)
    for k, w in enumerate(rate * np.asarray(weight)):
        matrix[k : k + 2, k : k + 2] += w * np.array([[1.0, -1.0], [-1.0, 1.0]])
    return np.linalg.solve(matrix, line)


def inside(planes, points):
    """Which points (n, 3) lie within a convex body, given by planes (f, 4)."""
    return (points @ planes[:, :3].T <= planes[:, 3]).all(axis=1)


def fly(position, velocity, size, density, gravity, dt, *, air_density, air_viscosity):
    """Chips in still air over a step, drag taken implicitly (Schiller & Naumann 1933)."""
    reynolds = air_density * np.linalg.norm(velocity, axis=1) * size / air_viscosity
    rate = 18.0 * air_viscosity / (density * size**2) * (1.0 + 0.15 * reynolds**0.687)
    after = (velocity + dt * gravity) / (1.0 + dt * rate)[:, None]
    return position + dt * after, after


def volume_below(distance, level, scale):
    """Cells below a level of a signed distance, each by the share that a flat surface leaves it."""
    return np.clip(0.5 - (distance - level) / scale, 0.0, 1.0).sum()


def pressure_gradient(weights, pressure, axis):
    """What pressure takes from the open faces across an axis; it is 0 beyond the grid."""
    padded = np.pad(pressure, [(1, 1) if a == axis else (0, 0) for a in range(3)])
    return np.where(weights > 0.0, weights * np.diff(padded, axis=axis), 0.0)


def patch_stress(bonds, b):
    """Greatest tension and shear of a bond's patch by itself."""
    force, twist = bonds.force[b, :3], bonds.force[b, 3:]
    area, about_first, about_second, by_twist = bonds.section[b]
    tension = (
        -force[0] * area
        + twist[2] * about_second * bonds.corner[b, :, 0]
        - twist[1] * about_first * bonds.corner[b, :, 1]
    )
    return tension.max(), np.hypot(force[1], force[2]) * area + abs(twist[0]) * by_twist


def section_stress(sections, bonds, b):
    """Greatest tension, shear and least tension at the corners of a bond's patch, from the force and the moment that
    the living members of its section carry together."""
    members = slice(sections.start[b], sections.start[b + 1])
    some, side = sections.member[members], sections.side[members]
    some, side = some[bonds.alive[some] == 1], side[bonds.alive[some] == 1]
    axes, area = sections.axes[some], 1.0 / bonds.section[some, 0]
    vector = (side * area) @ axes[:, 0]
    own = sections.axes[b]
    corner = bonds.corner[b] @ own[1:]
    if np.linalg.norm(vector) < 0.5 / bonds.section[b, 0]:
        some, side, axes, area, vector = some[some == b], np.ones(1), own[None], 1.0 / bonds.section[[b], 0], own[0]
    n = vector / np.linalg.norm(vector)
    e = own[1] if abs(own[1] @ n) <= abs(own[2] @ n) else own[2]
    e = e - (e @ n) * n
    e /= np.linalg.norm(e)
    plane = np.stack([e, np.cross(n, e)])
    flat = side * (axes[:, 0] @ n)
    middle = (flat * area) @ sections.centre[some] / (flat * area).sum()
    arm = sections.centre[some] - middle
    spread = np.zeros((2, 2))
    for k in range(len(some)):
        r, u, v = plane @ arm[k], plane @ axes[k, 1], plane @ axes[k, 2]
        about_first, about_second = 1.0 / bonds.section[some[k], 1:3]
        spread += flat[k] * (area[k] * np.outer(r, r) + about_second * np.outer(u, u) + about_first * np.outer(v, v))
    force = np.einsum("k,ka,kac->kc", side, bonds.force[some, :3], axes)
    moment = np.einsum("k,ka,kac->c", side, bonds.force[some, 3:], axes) + np.cross(arm, force).sum(axis=0)
    force = force.sum(axis=0)
    even = -(force @ n) / (flat * area).sum()
    at = (sections.centre[b] - middle + corner) @ plane.T
    found = []
    for ahead in (*((sections.ends[b] - sections.centre[b]) @ n), 0.0):
        turning = moment - ahead * np.cross(n, force)
        slope = np.linalg.solve(spread, [turning @ plane[1], -turning @ plane[0]])
        found.append(even + at @ slope)
    across = force - (force @ n) * n
    shear = np.linalg.norm(across) / (flat * area).sum()
    shear += abs(moment @ n) * np.linalg.norm(at, axis=1).max() / np.trace(spread)
    return np.max(found), shear, np.min(found)
