"""Points in and on bodies, for whatever is given off by them."""

from typing import Literal

import numpy as np

from urst.core.bodies.fragments import Fragments

Where = Literal["volume", "surface"]


def sample(fragments: Fragments, where: Where, count: int, seed: int) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Draw points spread evenly over the volume or the surface of bodies.

    Parameters
    ----------
    fragments : Fragments
    where : 'volume' or 'surface'
    count, seed : int

    Returns
    -------
    (body, local, normal)
        body (count,) int64; local (count, 3) [m] in the body's frame; normal (count, 3), of the nearest face where
        the point is inside.
    """
    rng = np.random.default_rng(seed)
    skin = fragments.skin.astype(float)
    cross = np.cross(skin[:, 1] - skin[:, 0], skin[:, 2] - skin[:, 0])
    area = np.linalg.norm(cross, axis=1)
    owner = np.repeat(np.arange(len(fragments)), np.diff(fragments.skin_start))
    if where == "surface":
        triangle = rng.choice(len(skin), count, p=area / area.sum())
        u, v = rng.random((2, count, 1))
        u, v = np.where(u + v > 1.0, 1.0 - u, u), np.where(u + v > 1.0, 1.0 - v, v)
        a, b, c = (skin[triangle, k] for k in range(3))
        normal = cross[triangle] / np.maximum(area[triangle, None], 1e-30)
        return owner[triangle], a + u * (b - a) + v * (c - a), normal
    return _inside(fragments, count, rng)


def _inside(fragments: Fragments, count: int, rng: np.random.Generator) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Points inside the stand-ins, by throwing away those outside."""
    h = fragments.hulls
    fraction = fragments.volume / fragments.volume.sum()
    body = rng.choice(len(fragments), count, p=fraction)
    local, normal = np.empty((count, 3)), np.empty((count, 3))
    for b in np.unique(body):
        mine = np.flatnonzero(body == b)
        corners = h.vertices[h.vertex_start[b] : h.vertex_start[b + 1]]
        planes = h.planes[h.face_start[b] : h.face_start[b + 1]]
        low, high = corners.min(axis=0), corners.max(axis=0)
        while len(mine):
            points = rng.uniform(low, high, (len(mine), 3))
            away = points @ planes[:, :3].T - planes[:, 3]
            within = (away <= 0.0).all(axis=1)
            local[mine[within]] = points[within]
            normal[mine[within]] = planes[away[within].argmax(axis=1), :3]
            mine = mine[~within]
    return body, local, normal
