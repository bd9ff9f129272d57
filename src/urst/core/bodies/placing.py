"""Bringing packed convex hulls to where their bodies are."""

from typing import NamedTuple

import numpy as np

from urst.core.geometry.convex import Hulls
from urst.core.jit import serial


class Placed(NamedTuple):
    """`n` convex bodies where they are and how they move, for the kernels of whatever meets them."""

    hulls: Hulls
    """in world coordinates [m]"""
    low: np.ndarray
    """(n, 3) float64 [m]: least corner of each, less its margin"""
    high: np.ndarray
    """(n, 3) float64 [m]"""
    position: np.ndarray
    """(n, 3) float64 [m]: centres of mass"""
    rotation: np.ndarray
    """(n, 3, 3) float64"""
    velocity: np.ndarray
    """(n, 3) float64 [m/s]"""
    spin: np.ndarray
    """(n, 3) float64 [rad/s]"""


class Obstacles(NamedTuple):
    """What of placed bodies points bounce off: flat, as parallel kernels want it."""

    planes: np.ndarray
    face_start: np.ndarray
    low: np.ndarray
    high: np.ndarray
    position: np.ndarray
    velocity: np.ndarray
    spin: np.ndarray


def obstacles(bodies: Placed) -> Obstacles:
    """Return placed bodies as obstacles."""
    h = bodies.hulls
    return Obstacles(h.planes, h.face_start, bodies.low, bodies.high, bodies.position, bodies.velocity, bodies.spin)


def placed(
    hulls: Hulls, position: np.ndarray, rotation: np.ndarray, velocity: np.ndarray, spin: np.ndarray, margin: float
) -> Placed:
    """Bring hulls from body to world coordinates.

    Parameters
    ----------
    hulls : Hulls
        In body coordinates.
    position, rotation, velocity, spin : (n, 3), (n, 3, 3), (n, 3), (n, 3) float64
        As in `Placed`.
    margin : float or (n,) float [m]
        By how much the bounds are widened.
    """
    n = hulls.size
    world = hulls._replace(vertices=np.empty_like(hulls.vertices), planes=np.empty_like(hulls.planes))
    low, high = np.empty((n, 3)), np.empty((n, 3))
    _place(
        hulls,
        np.ascontiguousarray(position),
        np.ascontiguousarray(rotation),
        np.broadcast_to(margin, n).astype(float),
        world,
        low,
        high,
    )
    return Placed(world, low, high, position, rotation, velocity, spin)


@serial
def _place(hulls, position, rotation, margin, out, low, high):
    """Write the vertices and planes of `out` and the bounds low, high (n, 3), widened by `margin` (n,) [m]."""
    vertices, planes = hulls.vertices, hulls.planes
    for b in range(len(position)):
        r = rotation[b]
        for c in range(3):
            low[b, c], high[b, c] = np.inf, -np.inf
        for k in range(hulls.vertex_start[b], hulls.vertex_start[b + 1]):
            for c in range(3):
                x = r[c, 0] * vertices[k, 0] + r[c, 1] * vertices[k, 1] + r[c, 2] * vertices[k, 2] + position[b, c]
                out.vertices[k, c] = x
                low[b, c] = min(low[b, c], x)
                high[b, c] = max(high[b, c], x)
        for c in range(3):
            low[b, c] -= margin[b]
            high[b, c] += margin[b]
        for f in range(hulls.face_start[b], hulls.face_start[b + 1]):
            shift = planes[f, 3]
            for c in range(3):
                n = r[c, 0] * planes[f, 0] + r[c, 1] * planes[f, 1] + r[c, 2] * planes[f, 2]
                out.planes[f, c] = n
                shift += n * position[b, c]
            out.planes[f, 3] = shift


class Poses(NamedTuple):
    """Where `n` bodies are, and how far each has gone."""

    position: np.ndarray
    """(n, 3) float64 [m]"""
    rotation: np.ndarray
    """(n, 3, 3) float64"""
    travel: np.ndarray
    """(n,) float64 [m]"""


@serial
def place(hulls, some, owner, middle, poses, placed_at, out):
    """Bring some hulls to where their bodies are, corner and face coordinates apart.

    Parameters
    ----------
    hulls : Hulls
        In body coordinates.
    some : (k,) int64
        Which; they may come several times.
    owner : (s,) int64
        The body of each hull.
    middle : (s, 3) float64
        A point inside each, in body coordinates [m].
    poses : Poses
    placed_at : (s,) float64
        How far each hull's body had gone when it was placed last; brought up to date, and one that has not moved since
        is left.
    out : a tuple of arrays
        `vertices` (3, v), `planes` (4, f) and `centre` (s, 3) are written.
    """
    corners, planes = hulls.vertices, hulls.planes
    position, rotation, travel = poses.position, poses.rotation, poses.travel
    for s in some:
        b = owner[s]
        if placed_at[s] == travel[b]:
            continue
        placed_at[s] = travel[b]
        r, x, y, z = rotation[b], position[b, 0], position[b, 1], position[b, 2]
        r00, r01, r02, r10, r11, r12 = r[0, 0], r[0, 1], r[0, 2], r[1, 0], r[1, 1], r[1, 2]
        r20, r21, r22 = r[2, 0], r[2, 1], r[2, 2]
        u, v, w = middle[s, 0], middle[s, 1], middle[s, 2]
        out.centre[s, 0] = r00 * u + r01 * v + r02 * w + x
        out.centre[s, 1] = r10 * u + r11 * v + r12 * w + y
        out.centre[s, 2] = r20 * u + r21 * v + r22 * w + z
        for k in range(hulls.vertex_start[s], hulls.vertex_start[s + 1]):
            u, v, w = corners[k, 0], corners[k, 1], corners[k, 2]
            out.vertices[0, k] = r00 * u + r01 * v + r02 * w + x
            out.vertices[1, k] = r10 * u + r11 * v + r12 * w + y
            out.vertices[2, k] = r20 * u + r21 * v + r22 * w + z
        for f in range(hulls.face_start[s], hulls.face_start[s + 1]):
            u, v, w = planes[f, 0], planes[f, 1], planes[f, 2]
            nx, ny, nz = r00 * u + r01 * v + r02 * w, r10 * u + r11 * v + r12 * w, r20 * u + r21 * v + r22 * w
            out.planes[0, f], out.planes[1, f], out.planes[2, f] = nx, ny, nz
            out.planes[3, f] = planes[f, 3] + nx * x + ny * y + nz * z


def bounds(
    hulls: Hulls, position: np.ndarray, rotation: np.ndarray, margin: np.ndarray
) -> tuple[np.ndarray, np.ndarray]:
    """Return the least and greatest corners of hulls where their bodies are, one each, (n, 3) each [m].

    Parameters
    ----------
    hulls : Hulls
        In body coordinates.
    position, rotation : (n, 3), (n, 3, 3) float64
    margin : (n,) float64
        By how much the bounds are widened [m].
    """
    low, high = np.empty((hulls.size, 3)), np.empty((hulls.size, 3))
    _bounds(hulls, position, rotation, margin, low, high)
    return low, high


@serial
def _bounds(hulls, position, rotation, margin, low, high):
    for b in range(len(position)):
        r = rotation[b]
        for c in range(3):
            least, most = np.inf, -np.inf
            for k in range(hulls.vertex_start[b], hulls.vertex_start[b + 1]):
                v = hulls.vertices[k]
                x = r[c, 0] * v[0] + r[c, 1] * v[1] + r[c, 2] * v[2]
                least, most = min(least, x), max(most, x)
            low[b, c], high[b, c] = position[b, c] + least - margin[b], position[b, c] + most + margin[b]
