"""How a surface of flat triangles is to be shaded: where it creases, and normals that run smoothly elsewhere."""

import numpy as np

#: cosine of the angle between two triangles from which the edge between them counts as a crease
CREASE = 0.8


def shading(skin: np.ndarray, body: np.ndarray, inner: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Return normals and creases of many closed surfaces at once.

    Parameters
    ----------
    skin : (t, 3, 3) float [m]
        Triangles, corner by corner.
    body : (t,) int
        Which surface each triangle belongs to.
    inner : (t,) uint8
        1 for crack faces: they stay flat, and their edges are no creases of the body as it was.

    Returns
    -------
    (normals, crease)
        normals (t, 3, 3) float32 unit, one a corner; crease (t, 3) uint8, 1 where the edge facing that corner is one.
    """
    skin, inner = np.asarray(skin, float), np.asarray(inner, bool)
    flat = np.cross(skin[:, 1] - skin[:, 0], skin[:, 2] - skin[:, 0])
    area = np.linalg.norm(flat, axis=1, keepdims=True)
    unit = flat / np.maximum(area, 1e-30)
    normals, crease = np.repeat(unit[:, None], 3, axis=1), np.zeros((len(skin), 3), np.uint8)
    outer = np.flatnonzero(~inner)
    if not len(outer):
        return normals.astype(np.float32), crease
    grain = 1e-6 * max(1.0, float(np.abs(skin[outer]).max()))
    places = np.round(skin[outer].reshape(-1, 3) / grain).astype(np.int64)
    rows = np.column_stack([np.repeat(body[outer], 3), places])
    corner = np.unique(rows, axis=0, return_inverse=True)[1].reshape(-1, 3)
    crease[outer] = _creases(corner, unit[outer])
    normals[outer] = _smooth(corner, unit[outer], area[outer])
    return normals.astype(np.float32), crease


def _creases(corner: np.ndarray, unit: np.ndarray) -> np.ndarray:
    ends = np.sort(np.stack([np.roll(corner, -1, axis=1), np.roll(corner, -2, axis=1)], axis=-1), axis=-1).reshape(
        -1, 2
    )
    key = ends[:, 0] * (corner.max() + 1) + ends[:, 1]
    order = np.argsort(key, kind="stable")
    triangle = order // 3
    same = key[order][1:] == key[order][:-1]
    bent = np.einsum("ij,ij->i", unit[triangle[1:]], unit[triangle[:-1]]) < CREASE
    found = np.zeros(len(key), np.uint8)
    for side in (order[1:], order[:-1]):
        found[side[same & bent]] = 1
    return found.reshape(-1, 3)


def _smooth(corner: np.ndarray, unit: np.ndarray, area: np.ndarray) -> np.ndarray:
    """Mean of the normals round each corner that bend less than a crease from the triangle's own, weighted by area."""
    flat = corner.reshape(-1)
    order = np.argsort(flat, kind="stable")
    size = np.bincount(flat)
    start = np.concatenate([[0], np.cumsum(size)])
    mine = np.repeat(np.arange(len(flat)), size[flat])
    within = np.arange(len(mine)) - np.repeat(np.cumsum(size[flat]) - size[flat], size[flat])
    other = order[start[flat[mine]] + within] // 3
    near = np.einsum("ij,ij->i", unit[mine // 3], unit[other]) > CREASE
    total = np.zeros((len(flat), 3))
    weighted = unit[other[near]] * area[other[near]]
    for axis in range(3):
        total[:, axis] = np.bincount(mine[near], weighted[:, axis], minlength=len(flat))
    return (total / np.linalg.norm(total, axis=1, keepdims=True)).reshape(-1, 3, 3)
