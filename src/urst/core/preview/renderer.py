"""A quick renderer of our own: what the stage shows, as pictures, without a browser or a graphics card."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from scipy import ndimage

from urst.core.air import DUST_EXTINCTION
from urst.core.geometry.view import axes
from urst.core.preview import kernels, water_kernels
from urst.core.preview.colour import linear, to_srgb
from urst.core.preview.look import DIMMING, Tint

_SUN = np.array([-0.55, -0.8, 1.3])
_SHADOW = 1536


@dataclass(frozen=True)
class View:
    """Where from and how wide."""

    eye: tuple[float, float, float]
    target: tuple[float, float, float]
    angle: float
    """horizontal angle of view [deg]"""
    width: int = 960
    height: int = 540


def _busy(density: np.ndarray) -> np.ndarray:
    """Whether there is dust in each block of 4^3 cells or beside it."""
    padded = np.pad(density > 1e-5, [(0, -n % 4) for n in density.shape])
    nx, ny, nz = (n // 4 for n in padded.shape)
    blocks = padded.reshape(nx, 4, ny, 4, nz, 4).any(axis=(1, 3, 5))
    return ndimage.binary_dilation(blocks, np.ones((3, 3, 3)))


def _distance(
    volume: tuple[np.ndarray, tuple[int, int, float] | list[float], float, np.ndarray | tuple[int, int, int]],
    view: View,
) -> float:
    density, origin, cell, _ = volume
    return float(np.linalg.norm(np.asarray(origin) + 0.5 * cell * np.array(density.shape) - view.eye))


def render(
    view: View,
    triangles: np.ndarray,
    colours: np.ndarray,
    *,
    normals: np.ndarray | None = None,
    crease: np.ndarray | None = None,
    jointed: np.ndarray | None = None,
    points: Sequence[tuple[np.ndarray, np.ndarray, np.ndarray]] = (),
    dust: Sequence[
        tuple[np.ndarray, tuple[int, int, float] | list[float], float, np.ndarray | tuple[int, int, int]]
    ] = (),
    water: Sequence[tuple[np.ndarray, np.ndarray, Tint]] = (),
    exposure: float = 0.0,
) -> np.ndarray:
    """Render one picture.

    Parameters
    ----------
    view : View
    triangles : (t, 3, 3) [m]
    colours : (t, 3) linear RGB
    normals : optional (t, 3, 3), one a corner; flat where they are not given
    crease, jointed : optional (t, 3) and (t,), the edges to draw and whether as mortar; see `kernels.shade`
    points : list of (positions (n, 3), sizes (n,) [m], colour (3,))
    dust : list of (density (nx, ny, nz) [kg/m3], origin (3,) [m], cell [m], albedo (3,))
        The farther ones lie behind the nearer as a whole.
    water : list of (triangles (t, 3, 3) [m], normals (t, 3, 3), Tint)
        Closed surfaces of liquids, with a normal a corner.
    exposure : float [stops]

    Returns
    -------
    (height, width, 3) uint8, sRGB
    """
    # twice as fine each way, then averaged: edges without stairs
    h, w = 2 * view.height, 2 * view.width
    frame = np.array([view.eye, *axes(view.eye, view.target)], float)
    scale = 0.5 * w / np.tan(np.radians(view.angle) / 2)
    depth, index = np.full((h, w), 1e9), np.full((h, w), -1, np.int64)
    triangles = np.ascontiguousarray(triangles, float)
    kernels.rasterise(triangles, frame, scale, True, depth, index)
    if normals is None:
        flat = np.cross(triangles[:, 1] - triangles[:, 0], triangles[:, 2] - triangles[:, 0])
        flat /= np.maximum(np.linalg.norm(flat, axis=1, keepdims=True), 1e-12)
        normals = np.repeat(flat[:, None], 3, axis=1)
    crease = np.zeros((len(triangles), 3), np.uint8) if crease is None else crease
    jointed = np.zeros(len(triangles), np.uint8) if jointed is None else jointed
    sun = _SUN / np.linalg.norm(_SUN)
    reach = 1.2 * np.linalg.norm(np.array(view.eye, float) - view.target)
    above = np.array(view.target) + 50.0 * sun
    sun_frame = np.array([above, *axes(above, view.target)], float)
    shadow, unused = np.full((_SHADOW, _SHADOW), 1e9), np.full((_SHADOW, _SHADOW), -1, np.int64)
    sun_scale = 0.5 * _SHADOW / reach
    kernels.rasterise(triangles, sun_frame, sun_scale, False, shadow, unused)
    image = np.empty((h, w, 3))
    background = linear("#a3a09b")
    skins = kernels.Skins(
        triangles, np.ascontiguousarray(normals, float), crease, jointed, np.ascontiguousarray(colours, float)
    )
    light = kernels.Sun(sun, sun_frame, float(sun_scale), shadow)
    kernels.shade(depth, index, skins, frame, scale, light, background, image)
    for position, size, colour in points:
        if len(position):
            kernels.splat(
                np.asarray(position, float), np.asarray(size, float), np.asarray(colour), frame, scale, depth, image
            )
    if any(len(x) for x, _, _ in water):
        skin, facing = (np.concatenate([w[n] for w in water]).astype(float) for n in (0, 1))
        clear, deep = (np.repeat([w[2][n] for w in water], [len(w[0]) for w in water], axis=0) for n in (0, 1))
        out = np.cross(skin[:, 1] - skin[:, 0], skin[:, 2] - skin[:, 0])
        towards = np.einsum("ij,ij->i", out, np.array(view.eye) - skin[:, 0]) > 0.0
        wet, which = np.full((h, w), 1e9), np.full((h, w), -1, np.int64)
        kernels.rasterise(skin[towards], frame, scale, True, wet, which)
        through = np.zeros((h, w))
        water_kernels.thicken(skin, towards, frame, scale, depth, through)
        seen = (x[towards] for x in (skin, facing, clear, deep))
        surfaces = water_kernels.Water(wet, which, through, *seen)
        water_kernels.wash(surfaces, frame, scale, sun, depth, image.copy(), image)
    image = 0.25 * (image[::2, ::2] + image[::2, 1::2] + image[1::2, ::2] + image[1::2, 1::2])
    near = np.minimum(np.minimum(depth[::2, ::2], depth[::2, 1::2]), np.minimum(depth[1::2, ::2], depth[1::2, 1::2]))
    for density, origin, cell, albedo in sorted(dust, key=lambda d: -_distance(d, view)):
        if density.max() <= 0:
            continue
        from_sun, from_sky = np.empty_like(density), np.empty_like(density)
        kernels.light_through(density, DIMMING * DUST_EXTINCTION, cell, sun, from_sun, from_sky)
        cloud = kernels.Cloud(
            density,
            _busy(density),
            from_sun,
            from_sky,
            np.asarray(origin, float),
            float(cell),
            DUST_EXTINCTION,
            np.asarray(albedo, float).reshape((1, 1, 1, 3) if np.ndim(albedo) == 1 else (*density.shape, 3)),
        )
        kernels.veil(near, frame, 0.5 * scale, cloud, sun, image)
    return to_srgb(image * 2.0**exposure)
