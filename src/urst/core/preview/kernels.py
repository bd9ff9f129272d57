"""Kernels of the quick renderer: triangles, shadows, points and dust in one picture.

frame (4, 3) is a view: place, right, down and forward; scale its pixels a metre, or at a metre's distance in
perspective. depth (h, w) is the distance of what each pixel shows [m], index (h, w) which triangle that is; image (h,
w, 3) is linear RGB, background (3,) what is seen where there is nothing. sx, sy, sz (3,) are a triangle's corners on
the screen, area twice its area there, (i, j) a pixel's column and row; points (n, 3) [m] have sizes (n,) [m] and a
colour (n, 3); density (nx, ny, nz) is dust [kg/m3], cloud is a `Cloud` and skins are `Skins`.
"""

from typing import NamedTuple

import numpy as np
from numba import prange

from urst.core.jit import inline, parallel, serial
from urst.core.trilinear import held

#: a depth that there is not
BESIDE = -1e30


@inline
def on_screen(corners, frame, scale, perspective, size, out):
    """Write where the corners (3, 3) of a triangle are seen: out, pixels and depth, (3,) each; returns whether none
    lies behind the eye. size: width and height in pixels."""
    (w, h), (sx, sy, sz) = size, out
    for k in range(3):
        x, y, z = corners[k, 0] - frame[0, 0], corners[k, 1] - frame[0, 1], corners[k, 2] - frame[0, 2]
        a = x * frame[1, 0] + y * frame[1, 1] + z * frame[1, 2]
        b = x * frame[2, 0] + y * frame[2, 1] + z * frame[2, 2]
        c = x * frame[3, 0] + y * frame[3, 1] + z * frame[3, 2]
        if perspective:
            if c < 0.05:
                return False
            a, b = a / c, b / c
        sx[k], sy[k], sz[k] = 0.5 * w + scale * a, 0.5 * h + scale * b, c
    return True


@inline
def twice_area(sx, sy):
    """Of a triangle on the screen, by its sense."""
    return (sx[1] - sx[0]) * (sy[2] - sy[0]) - (sx[2] - sx[0]) * (sy[1] - sy[0])


@inline
def depth_at(i, j, area, perspective, sx, sy, sz):
    """Depth of a triangle at the middle of a pixel, BESIDE where that is not in it."""
    px, py = i + 0.5, j + 0.5
    u = ((sx[1] - px) * (sy[2] - py) - (sx[2] - px) * (sy[1] - py)) / area
    v = ((sx[2] - px) * (sy[0] - py) - (sx[0] - px) * (sy[2] - py)) / area
    s = 1.0 - u - v
    if u < 0.0 or v < 0.0 or s < 0.0:
        return BESIDE
    return 1.0 / (u / sz[0] + v / sz[1] + s / sz[2]) if perspective else u * sz[0] + v * sz[1] + s * sz[2]


@serial
def rasterise(corners, frame, scale, perspective, depth, index):
    """Fill depth (h, w) and index (h, w) with the nearest triangle at each pixel.

    corners (t, 3, 3) [m]; frame (4, 3): origin, right, down, forward; scale: pixels a unit of tangent, or pixels a
    metre where not `perspective`. Depth is the distance along `forward`; pixels without a triangle keep what they had.
    """
    h, w = depth.shape
    sx, sy, sz = np.empty(3), np.empty(3), np.empty(3)
    for t in range(len(corners)):
        if not on_screen(corners[t], frame, scale, perspective, (w, h), (sx, sy, sz)):
            continue
        area = twice_area(sx, sy)
        if abs(area) < 1e-9:
            continue
        x0, x1 = max(0, int(np.floor(sx.min()))), min(w - 1, int(np.ceil(sx.max())))
        y0, y1 = max(0, int(np.floor(sy.min()))), min(h - 1, int(np.ceil(sy.max())))
        for j in range(y0, y1 + 1):
            for i in range(x0, x1 + 1):
                z = depth_at(i, j, area, perspective, sx, sy, sz)
                if z > BESIDE and z < depth[j, i]:
                    depth[j, i] = z
                    index[j, i] = t


class Skins(NamedTuple):
    """Triangles as they are drawn."""

    corners: np.ndarray  # (t, 3, 3) [m]
    normals: np.ndarray  # (t, 3, 3) one a corner
    crease: np.ndarray  # (t, 3) uint8, 1 where the edge facing that corner is drawn
    jointed: np.ndarray  # (t,) uint8, 1 where it is drawn as mortar
    colours: np.ndarray  # (t, 3) linear RGB


class Sun(NamedTuple):
    """Where the light comes from and what it reaches first."""

    direction: np.ndarray  # (3,) unit, towards it
    frame: np.ndarray  # (4, 3) its view: place, right, down, forward
    scale: float  # pixels a metre
    shadow: np.ndarray  # (s, s) depth it reaches


class Cloud(NamedTuple):
    """Dust and the light in it."""

    density: np.ndarray  # (nx, ny, nz) [kg/m3]
    busy: np.ndarray  # blocks of 4^3 cells with dust in or beside them
    from_sun: np.ndarray  # (nx, ny, nz) fraction of the sun's light left
    from_sky: np.ndarray  # (nx, ny, nz) fraction of the sky's
    origin: np.ndarray  # (3,) [m]
    cell: float  # [m]
    extinction: float  # [m2/kg]
    albedo: np.ndarray  # (nx, ny, nz, 3), or (1, 1, 1, 3) where it is one


@parallel
def shade(depth, index, skins, frame, scale, light, background, image):
    """Colour each pixel: sun with soft-edged shadow, sky from above, a little light from the ground. Linear RGB.

    corners, normals (t, 3, 3); crease (t, 3): edges, by the corner that faces them, that are drawn, as mortar where
    jointed (t,), else as worn.
    """
    corners, normals, crease, jointed, colours = (
        skins.corners,
        skins.normals,
        skins.crease,
        skins.jointed,
        skins.colours,
    )
    sun, sun_frame, sun_scale, shadow = light.direction, light.frame, light.scale, light.shadow
    h, w = depth.shape
    size = shadow.shape[0]
    for j in prange(h):
        for i in range(w):
            t = index[j, i]
            if t < 0:
                for c in range(3):
                    image[j, i, c] = background[c]
                continue
            z = depth[j, i]
            a, b = (i + 0.5 - 0.5 * w) / scale * z, (j + 0.5 - 0.5 * h) / scale * z
            p = np.empty(3)
            for c in range(3):
                p[c] = frame[0, c] + a * frame[1, c] + b * frame[2, c] + z * frame[3, c]
            wide, pixel, edge, total = 0.007 if jointed[t] else 0.003, z / scale, 0.0, 0.0
            n = np.zeros(3)
            for k in range(3):
                s, e = corners[t, (k + 1) % 3], corners[t, (k + 2) % 3]
                ux, uy, uz = e[0] - s[0], e[1] - s[1], e[2] - s[2]
                vx, vy, vz = p[0] - s[0], p[1] - s[1], p[2] - s[2]
                x, y, q = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
                # twice the area beyond this edge: the weight of the corner that faces it
                weight = np.sqrt(x * x + y * y + q * q)
                total += weight
                for c in range(3):
                    n[c] += weight * normals[t, k, c]
                if crease[t, k]:
                    away = weight / np.sqrt(ux * ux + uy * uy + uz * uz)
                    fraction = min(1.0, max(0.0, (wide + pixel - away) / pixel)) * min(1.0, 2.0 * wide / pixel)
                    edge = max(edge, fraction)
            length = np.sqrt(n[0] * n[0] + n[1] * n[1] + n[2] * n[2])
            nx, ny, nz = n[0] / length, n[1] / length, n[2] / length
            facing = nx * sun[0] + ny * sun[1] + nz * sun[2]
            lit = 0.0
            if facing > 0.0:
                x, y, q = (
                    p[0] + 0.02 * nx - sun_frame[0, 0],
                    p[1] + 0.02 * ny - sun_frame[0, 1],
                    p[2] + 0.02 * nz - sun_frame[0, 2],
                )
                u = 0.5 * size + sun_scale * (x * sun_frame[1, 0] + y * sun_frame[1, 1] + q * sun_frame[1, 2])
                v = 0.5 * size + sun_scale * (x * sun_frame[2, 0] + y * sun_frame[2, 1] + q * sun_frame[2, 2])
                d = x * sun_frame[3, 0] + y * sun_frame[3, 1] + q * sun_frame[3, 2]
                for dy in range(-1, 2):
                    for dx in range(-1, 2):
                        m, o = int(v + 0.8 * dy), int(u + 0.8 * dx)
                        if m < 0 or o < 0 or m >= size or o >= size or d < shadow[m, o] + 0.03:
                            lit += facing / 9.0
            sky, ground = 0.5 + 0.5 * nz, 0.5 - 0.5 * nz
            for c in range(3):
                light = 1.75 * lit * (1.0, 0.93, 0.82)[c] + 0.55 * sky * (0.9, 0.95, 1.0)[c] + 0.22 * ground
                seam = (0.34, 0.31, 0.265)[c] if jointed[t] else 0.62 * colours[t, c]
                image[j, i, c] = (colours[t, c] + edge * (seam - colours[t, c])) * light


@serial
def splat(points, sizes, colour, frame, scale, depth, image):
    """Draw points as shaded discs where nothing nearer stands; those smaller than a pixel cover it in part."""
    h, w = depth.shape
    for p in range(len(points)):
        x, y, z = points[p, 0] - frame[0, 0], points[p, 1] - frame[0, 1], points[p, 2] - frame[0, 2]
        c = x * frame[3, 0] + y * frame[3, 1] + z * frame[3, 2]
        if c < 0.1:
            continue
        a = 0.5 * w + scale * (x * frame[1, 0] + y * frame[1, 1] + z * frame[1, 2]) / c
        b = 0.5 * h + scale * (x * frame[2, 0] + y * frame[2, 1] + z * frame[2, 2]) / c
        wide = 0.5 * sizes[p] * scale / c
        r, cover = max(0.6, wide), min(1.0, (wide / 0.6) ** 2)
        for j in range(max(0, int(b - r)), min(h - 1, int(b + r)) + 1):
            for i in range(max(0, int(a - r)), min(w - 1, int(a + r)) + 1):
                dx, dy = (i + 0.5 - a) / r, (j + 0.5 - b) / r
                if dx * dx + dy * dy <= 1.0 and c < depth[j, i]:
                    if cover > 0.5:
                        depth[j, i] = c
                    for k in range(3):
                        image[j, i, k] += cover * (colour[k] * (0.9 - 0.6 * dy) - image[j, i, k])


@serial
def light_through(density, dimming, cell, sun, from_sun, from_sky):
    """Shares of the sun's and of the sky's light that reach each cell (Beer-Lambert), layer by layer from the top.

    dimming [m2/kg]; sun: unit vector towards it, not level; from_sun, from_sky (nx, ny, nz) are written.
    """
    nx, ny, nz = density.shape
    dx, dy = sun[0] / sun[2], sun[1] / sun[2]
    slant = np.sqrt(1.0 + dx * dx + dy * dy)
    ix, iy = int(np.floor(dx)), int(np.floor(dy))
    fx, fy = dx - ix, dy - iy
    above, here, sky = np.zeros((nx, ny)), np.zeros((nx, ny)), np.zeros((nx, ny))
    for k in range(nz - 1, -1, -1):
        for i in range(nx):
            for j in range(ny):
                dose, before = dimming * density[i, j, k] * cell, 0.0
                for corner in range(4):
                    p, q = i + ix + (corner & 1), j + iy + (corner >> 1)
                    if p >= 0 and q >= 0 and p < nx and q < ny:
                        wx, wy = fx if corner & 1 else 1.0 - fx, fy if corner >> 1 else 1.0 - fy
                        before += wx * wy * above[p, q]
                here[i, j] = before + slant * dose
                sky[i, j] += 0.6 * dose
                from_sun[i, j, k] = np.exp(-before - 0.5 * slant * dose)
                from_sky[i, j, k] = np.exp(-sky[i, j])
        above, here = here, above


@parallel
def veil(depth, frame, scale, cloud, sun, image):
    """Lay the dust over the picture: march each pixel's ray to what stands there.

    Absorption by Beer and Lambert; the sun's light scattered once by the phase function of Henyey & Greenstein (1941)
    with g = 0.35, more often as a slowly fading even glow. What stands in the dust's shadow is dimmed.
    busy: for blocks of 4^3 cells, whether there is dust in one or beside it; rays leap over the rest.
    """
    density, busy, from_sun, from_sky = cloud.density, cloud.busy, cloud.from_sun, cloud.from_sky
    origin, cell, extinction, albedo = cloud.origin, cloud.cell, cloud.extinction, cloud.albedo
    h, w = depth.shape
    nx, ny, nz = density.shape
    last_x, last_y, last_z = albedo.shape[0] - 1, albedo.shape[1] - 1, albedo.shape[2] - 1
    for j in prange(h):
        for i in range(w):
            a, b = (i + 0.5 - 0.5 * w) / scale, (j + 0.5 - 0.5 * h) / scale
            ray = np.empty(3)
            inside = depth[j, i] < 1e8
            for c in range(3):
                ray[c] = frame[3, c] + a * frame[1, c] + b * frame[2, c]
                hit = (frame[0, c] + depth[j, i] * ray[c] - origin[c]) / cell
                inside = inside and hit > 0.0 and hit < density.shape[c]
            if inside:
                x = (frame[0, 0] + depth[j, i] * ray[0] - origin[0]) / cell - 0.5
                y = (frame[0, 1] + depth[j, i] * ray[1] - origin[1]) / cell - 0.5
                z = (frame[0, 2] + depth[j, i] * ray[2] - origin[2]) / cell - 0.5
                fraction = 0.45 + 0.55 * held(from_sun, x, y, z)
                for c in range(3):
                    image[j, i, c] *= fraction
            start, stop = 0.0, depth[j, i]
            for c in range(3):
                top = origin[c] + cell * density.shape[c]
                if abs(ray[c]) < 1e-12:
                    continue
                s, e = (origin[c] - frame[0, c]) / ray[c], (top - frame[0, c]) / ray[c]
                start, stop = max(start, min(s, e)), min(stop, max(s, e))
            if stop <= start:
                continue
            length = np.sqrt(ray[0] ** 2 + ray[1] ** 2 + ray[2] ** 2)
            step = 0.9 * cell / length
            jitter = 52.9829189 * ((0.06711056 * i + 0.00583715 * j) % 1.0) % 1.0
            towards = (ray[0] * sun[0] + ray[1] * sun[1] + ray[2] * sun[2]) / length
            phase = 0.8775 / (1.1225 - 0.7 * towards) ** 1.5
            t, clear, red, green, blue = start + jitter * step, 1.0, 0.0, 0.0, 0.0
            while t < stop and clear > 0.01:
                x = (frame[0, 0] + t * ray[0] - origin[0]) / cell - 0.5
                y = (frame[0, 1] + t * ray[1] - origin[1]) / cell - 0.5
                z = (frame[0, 2] + t * ray[2] - origin[2]) / cell - 0.5
                p, q, r = int(min(max(x, 0.0), nx - 1)), int(min(max(y, 0.0), ny - 1)), int(min(max(z, 0.0), nz - 1))
                if not busy[p >> 2, q >> 2, r >> 2]:
                    t += 4.0 * step
                    continue
                amount = held(density, x, y, z)
                if amount > 1e-5:
                    taken = 1.0 - np.exp(-extinction * amount * step * length)
                    lit = held(from_sun, x, y, z)
                    sunny = clear * taken * (phase * lit + 0.4 * np.sqrt(np.sqrt(lit)))
                    even = clear * taken * (0.16 + 0.38 * held(from_sky, x, y, z))
                    tint = albedo[min(p, last_x), min(q, last_y), min(r, last_z)]
                    red += tint[0] * (0.62 * sunny + even)
                    green += tint[1] * (0.56 * sunny + even)
                    blue += tint[2] * (0.48 * sunny + even)
                    clear *= 1.0 - taken
                t += step
            image[j, i, 0] = image[j, i, 0] * clear + red
            image[j, i, 1] = image[j, i, 1] * clear + green
            image[j, i, 2] = image[j, i, 2] * clear + blue
