"""Kernels of viscosity on a staggered grid, with the liquid's fractions of cells, edges and faces.

Energies of strain at cells and edges, weighted with what of them is liquid (Batty & Bridson 2008, Accurate viscous
free surfaces for buckling, coiling, and rotating liquids). Lengths are in cells.

Of the faces across an axis (0, 1, 2): weight is their open fraction, fraction how much of the cube about each is
liquid, kind what each is, uint8. phi (nx, ny, nz) is the distance from the surface; faces more closed than open are
walls. flow is the velocity on all faces, strength viscosity times step over density and cell squared; out is written.
"""

from typing import NamedTuple

import numpy as np
from numba import prange

from urst.core.jit import kernel, parallel
from urst.core.solids.wall_kernels import HALF, ONE, ZERO

#: what a face is: in the air, in the liquid, or in a wall, with which the liquid goes
AIR, FREE, WALL = 0, 1, 2


@kernel
def _phi(phi, i, j, k):
    nx, ny, nz = phi.shape
    return phi[min(max(i, 0), nx - 1), min(max(j, 0), ny - 1), min(max(k, 0), nz - 1)]


@kernel
def _full(d):
    """What of a cube is liquid whose middle lies so far from the surface."""
    return min(max(HALF - d, ZERO), ONE)


@kernel
def _cell(phi, i, j, k):
    nx, ny, nz = phi.shape
    if min(i, j, k) < 0 or i >= nx or j >= ny or k >= nz:
        return ZERO
    return _full(phi[i, j, k])


@kernel
def _edge(phi, d, e, i, j, k):
    """Liquid share about the edge before cell (i, j, k) across both axes d and e."""
    total = ZERO
    for s in range(4):
        a, b = s & 1, s >> 1
        total += _phi(
            phi,
            i - (a if d == 0 else 0) - (b if e == 0 else 0),
            j - (a if d == 1 else 0) - (b if e == 1 else 0),
            k - (a if d == 2 else 0) - (b if e == 2 else 0),
        )
    return _full(np.float32(0.25) * total)


@kernel
def _at(u, i, j, k):
    nx, ny, nz = u.shape
    return u[min(max(i, 0), nx - 1), min(max(j, 0), ny - 1), min(max(k, 0), nz - 1)]


@kernel
def _around(phi, d, i, j, k):
    """Twice the liquid fractions of the cells on both sides of a face across d, and those of its four edges."""
    e, f = (d + 1) % 3, (d + 2) % 3
    total = np.float32(2.0) * (_cell(phi, i, j, k) + _cell(phi, i - (d == 0), j - (d == 1), k - (d == 2)))
    total += _edge(phi, d, e, i, j, k) + _edge(phi, d, e, i + (e == 0), j + (e == 1), k + (e == 2))
    return total + _edge(phi, d, f, i, j, k) + _edge(phi, d, f, i + (f == 0), j + (f == 1), k + (f == 2))


@parallel
def faces(phi, weight, axis, kind, fraction):
    """Write what each face across an axis is, uint8, and how much of the cube about it is liquid, float32."""
    for row in prange(kind.shape[0]):
        i = np.int64(row)
        for j in range(kind.shape[1]):
            for k in range(kind.shape[2]):
                a, b, c = i - (axis == 0), j - (axis == 1), k - (axis == 2)
                full = _full(HALF * (_phi(phi, i, j, k) + _phi(phi, a, b, c)))
                fraction[i, j, k] = weight[i, j, k] * full
                # what is strained beside it has a say in it as well
                any_of = full + _around(phi, axis, i, j, k)
                kind[i, j, k] = WALL if weight[i, j, k] < HALF else (FREE if any_of > ZERO else AIR)


@kernel
def _step(u, e, ends, i, j, k):
    """How u changes along e up to (i, j, k); at sides of the grid that are walls it is 0 half a cell beyond."""
    at = i if e == 0 else (j if e == 1 else k)
    before = _at(u, i - (e == 0), j - (e == 1), k - (e == 2))
    here = _at(u, i, j, k)
    if at == 0:
        return here + here if ends[e, 0] else ZERO
    if at == u.shape[e]:
        return -before - before if ends[e, 1] else ZERO
    return here - before


class Stressed(NamedTuple):
    """What flows and is rubbed by itself."""

    phi: np.ndarray
    """(nx, ny, nz) float32: distance from the surface [cells]"""
    u: np.ndarray
    """faces across an axis, float32 [m/s]"""
    v: np.ndarray
    """across the one after it"""
    w: np.ndarray
    """across the one after that"""
    ends: np.ndarray
    """(3, 2) bool: which sides of the grid are walls that liquid sticks to"""


@kernel
def _shear(flow, d, second, i, j, k):
    """Liquid fraction of the edge before (i, j, k) across d and the axis one or two after it, times the shear there."""
    e, v = (d + second) % 3, flow.v if second == 1 else flow.w
    part = _edge(flow.phi, d, e, i, j, k)
    return part * (_step(flow.u, e, flow.ends, i, j, k) + _step(v, d, flow.ends, i, j, k)) if part > ZERO else ZERO


@kernel
def _stress(flow, d, i, j, k):
    """What flows into a face across d by stress; see `Stressed`."""
    phi, u, e, f = flow.phi, flow.u, (d + 1) % 3, (d + 2) % 3
    own = _at(u, i, j, k)
    two = np.float32(2.0)
    total = two * _cell(phi, i, j, k) * (_at(u, i + (d == 0), j + (d == 1), k + (d == 2)) - own)
    a, b, c = i - (d == 0), j - (d == 1), k - (d == 2)
    total -= two * _cell(phi, a, b, c) * (own - _at(u, a, b, c))
    total += _shear(flow, d, 1, i + (e == 0), j + (e == 1), k + (e == 2)) - _shear(flow, d, 1, i, j, k)
    total += _shear(flow, d, 2, i + (f == 0), j + (f == 1), k + (f == 2)) - _shear(flow, d, 2, i, j, k)
    return total


@parallel
def apply(flow, axis, kind, fraction, strength, out):
    """Write the operator's product at the free faces across an axis, 0 at others.

    Parameters
    ----------
    flow : Stressed
        Its velocities from `axis` on.
    axis : int
    kind, fraction : faces
        See `faces`.
    strength : float32
        Kinematic viscosity times the step over the square of a cell.
    out : faces, float32
    """
    for row in prange(out.shape[0]):
        i = np.int64(row)
        for j in range(out.shape[1]):
            for k in range(out.shape[2]):
                out[i, j, k] = ZERO
                if kind[i, j, k] == FREE:
                    out[i, j, k] = fraction[i, j, k] * flow.u[i, j, k] - strength * _stress(flow, axis, i, j, k)


@parallel
def wall_stress(flow, axis, kind, strength, out):
    """Write what stress does to the closed faces across an axis, in steps of velocity of a full cell, 0 at others; see
    `apply`."""
    for row in prange(out.shape[0]):
        i = np.int64(row)
        for j in range(out.shape[1]):
            for k in range(out.shape[2]):
                out[i, j, k] = ZERO
                if kind[i, j, k] == WALL:
                    out[i, j, k] = strength * _stress(flow, axis, i, j, k)


@parallel
def diagonal(phi, axis, kind, fraction, strength, out):
    """Write the operator's diagonal at the free faces across an axis, 1 at others."""
    for row in prange(out.shape[0]):
        i = np.int64(row)
        for j in range(out.shape[1]):
            for k in range(out.shape[2]):
                out[i, j, k] = ONE
                if kind[i, j, k] != FREE:
                    continue
                out[i, j, k] = max(fraction[i, j, k] + strength * _around(phi, axis, i, j, k), np.float32(1e-6))


@parallel
def pull(phi, axis, strength, least, u):
    """Add what surface tension does to the faces across an axis beside the liquid.

    The pressure at the surface is its tension times its curvature. That times the step, as a field about the surface,
    is taken from the flow before pressure is solved for what is left: there it is 0.

    Parameters
    ----------
    phi : (nx, ny, nz) float32
    axis : int
    strength : float32
        Tension times the step, over density and the square of a cell [m/s].
    least : float32
        Cells above -least are no liquid.
    u : faces, float32 [m/s]
    """
    nx, ny, nz = phi.shape
    for row in prange(u.shape[0]):
        i = np.int64(row)
        if axis == 0 and (i == 0 or i == nx):
            continue
        for j in range(1 if axis == 1 else 0, ny):
            for k in range(1 if axis == 2 else 0, nz):
                a, b, c = i - (axis == 0), j - (axis == 1), k - (axis == 2)
                here, before = phi[i, j, k], phi[a, b, c]
                if (here > -least and before > -least) or abs(here) > np.float32(3.0) or abs(before) > np.float32(3.0):
                    continue
                u[i, j, k] -= strength * (_curvature(phi, i, j, k) - _curvature(phi, a, b, c))


@kernel
def _curvature(phi, i, j, k):
    """Twice the mean curvature of the surface through the middle of a cell, that of a drop is positive [1/cell]; it
    fades three cells from the surface."""
    two, quarter = np.float32(2.0), np.float32(0.25)
    o = phi[i, j, k]
    xm, xp = _phi(phi, i - 1, j, k), _phi(phi, i + 1, j, k)
    ym, yp = _phi(phi, i, j - 1, k), _phi(phi, i, j + 1, k)
    zm, zp = _phi(phi, i, j, k - 1), _phi(phi, i, j, k + 1)
    px, py, pz = HALF * (xp - xm), HALF * (yp - ym), HALF * (zp - zm)
    pxx, pyy, pzz = xp - two * o + xm, yp - two * o + ym, zp - two * o + zm
    pxy = quarter * (
        _phi(phi, i + 1, j + 1, k)
        - _phi(phi, i - 1, j + 1, k)
        - _phi(phi, i + 1, j - 1, k)
        + _phi(phi, i - 1, j - 1, k)
    )
    pxz = quarter * (
        _phi(phi, i + 1, j, k + 1)
        - _phi(phi, i - 1, j, k + 1)
        - _phi(phi, i + 1, j, k - 1)
        + _phi(phi, i - 1, j, k - 1)
    )
    pyz = quarter * (
        _phi(phi, i, j + 1, k + 1)
        - _phi(phi, i, j - 1, k + 1)
        - _phi(phi, i, j + 1, k - 1)
        + _phi(phi, i, j - 1, k - 1)
    )
    square = px * px + py * py + pz * pz
    if square < np.float32(0.04):
        return ZERO
    top = px * px * (pyy + pzz) + py * py * (pxx + pzz) + pz * pz * (pxx + pyy)
    top -= two * (px * py * pxy + px * pz * pxz + py * pz * pyz)
    bent = top / (square * np.sqrt(square))
    # at the surface itself it is less bent the farther out this is measured
    bent = bent / max(ONE - HALF * bent * o, quarter)
    return min(max(bent, -ONE), ONE) * min(max(np.float32(3.0) - abs(o), ZERO), ONE)
