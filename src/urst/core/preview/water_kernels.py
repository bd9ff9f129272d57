"""Kernels of the quick renderer: water over what stands behind it."""

from typing import NamedTuple

import numpy as np
from numba import prange

from urst.core.jit import inline, parallel, serial
from urst.core.preview.kernels import BESIDE, depth_at, on_screen, twice_area

#: how far what is behind is seen aside, for a metre of water
BENT = 0.09


@inline
def _sky(up, c):
    level = min(max(up, 0.0), 1.0)
    fraction = np.sqrt(level)
    low, high = (0.40, 0.39, 0.37)[c], (0.30, 0.37, 0.46)[c]
    t = min(max((up + 0.15) / 0.25, 0.0), 1.0)
    return (low + fraction * (high - low)) * (0.45 + 0.55 * t * t * (3.0 - 2.0 * t))


@serial
def thicken(corners, towards, frame, scale, depth, through):
    """Add up how much of each pixel's way to what stands there lies in closed surfaces.

    Parameters
    ----------
    corners : (t, 3, 3) float
    towards : (t,) bool
        Whether a triangle faces the eye.
    frame : (4, 3) float
        See `kernels.rasterise`.
    scale : float
    depth : (h, w) float
    through : (h, w) float
        Written, 0 before: along `forward` [m].
    """
    h, w = depth.shape
    sx, sy, sz = np.empty(3), np.empty(3), np.empty(3)
    for t in range(len(corners)):
        if not on_screen(corners[t], frame, scale, True, (w, h), (sx, sy, sz)):
            continue
        area = twice_area(sx, sy)
        if abs(area) < 1e-9:
            continue
        sign = 1.0 if towards[t] else -1.0
        x0, x1 = max(0, int(np.floor(sx.min()))), min(w - 1, int(np.ceil(sx.max())))
        y0, y1 = max(0, int(np.floor(sy.min()))), min(h - 1, int(np.ceil(sy.max())))
        for j in range(y0, y1 + 1):
            for i in range(x0, x1 + 1):
                z = depth_at(i, j, area, True, sx, sy, sz)
                if z > BESIDE:
                    through[j, i] += sign * max(depth[j, i] - z, 0.0)


class Water(NamedTuple):
    """Surfaces of water as the eye has them."""

    depth: np.ndarray
    """(h, w) of the nearest triangle that faces the eye"""
    which: np.ndarray
    """(h, w) which that is, -1 for none"""
    through: np.ndarray
    """(h, w) see `thicken`"""
    corners: np.ndarray
    """(t, 3, 3) [m]"""
    normals: np.ndarray
    """(t, 3, 3)"""
    clear: np.ndarray
    """(t, 3) what a metre of it takes of red, green and blue"""
    deep: np.ndarray
    """(t, 3) what it gives instead"""


@parallel
def wash(water, frame, scale, sun, depth, behind, image):
    """Draw water before what stands behind it: mirrored sky by Fresnel (Schlick 1994), what is behind bent aside and
    dimmed by the way through the water (Beer and Lambert), a glint of the sun.

    Parameters
    ----------
    water : Water
    frame : (4, 3) float
        See `kernels.rasterise`.
    scale : float
    sun : (3,) float
        Towards it.
    depth : (h, w) float
        Of what stands behind; becomes that of the water.
    behind : (h, w, 3) float
        Its picture.
    image : (h, w, 3) float
        The same, drawn over.
    """
    index, through, corners, normals = water.which, water.through, water.corners, water.normals
    h, w = water.depth.shape
    for row in prange(h):
        j, p, v, n, r = np.int64(row), np.empty(3), np.empty(3), np.empty(3), np.empty(3)
        for i in range(w):
            t = index[j, i]
            z = water.depth[j, i]
            if t < 0 or z >= depth[j, i]:
                continue
            a, b = (i + 0.5 - 0.5 * w) / scale, (j + 0.5 - 0.5 * h) / scale
            length = 0.0
            for c in range(3):
                v[c] = -(a * frame[1, c] + b * frame[2, c] + frame[3, c])
                p[c] = frame[0, c] - z * v[c]
                length += v[c] * v[c]
            length = np.sqrt(length)
            size, dot = 0.0, 0.0
            for c in range(3):
                n[c] = 0.0
            for k in range(3):
                s, e = corners[t, (k + 1) % 3], corners[t, (k + 2) % 3]
                ux, uy, uz = e[0] - s[0], e[1] - s[1], e[2] - s[2]
                x, y, q = p[0] - s[0], p[1] - s[1], p[2] - s[2]
                x, y, q = uy * q - uz * y, uz * x - ux * q, ux * y - uy * x
                weight = np.sqrt(x * x + y * y + q * q)
                for c in range(3):
                    n[c] += weight * normals[t, k, c]
            for c in range(3):
                v[c] /= length
                size += n[c] * n[c]
            size = max(np.sqrt(size), 1e-12)
            for c in range(3):
                n[c] /= size
                dot += n[c] * v[c]
            dot = max(dot, 0.02)
            path = max(through[j, i], 0.0) * length
            across = n[0] * frame[1, 0] + n[1] * frame[1, 1] + n[2] * frame[1, 2]
            down = n[0] * frame[2, 0] + n[1] * frame[2, 1] + n[2] * frame[2, 2]
            bend = BENT * 0.5 * h * min(path, 1.2) / max(z, 0.1)
            i1, j1 = int(i - across * bend), int(j - down * bend)
            if 0 <= i1 < w and 0 <= j1 < h and depth[j1, i1] > z:
                path = max(through[j1, i1], 0.0) * length
            else:
                i1, j1 = i, j
            mirror = 0.02 + 0.98 * (1.0 - min(dot, 1.0)) ** 5
            glint, lit = 0.0, 0.0
            for c in range(3):
                r[c] = 2.0 * dot * n[c] - v[c]
                glint += r[c] * sun[c]
                lit += n[c] * sun[c]
            glint = max(glint, 0.0)
            bright = 6.0 * glint**380 + 0.18 * glint**40
            for c in range(3):
                left = np.exp(-water.clear[t, c] * path)
                given = water.deep[t, c] * (0.55 + 0.45 * max(lit, 0.0))
                seen = behind[j1, i1, c] * left + given * (1.0 - left)
                image[j, i, c] = (
                    seen + mirror * (_sky(r[2], c) - seen) + (1.0, 0.95, 0.86)[c] * bright * (0.25 + mirror)
                )
            depth[j, i] = z
