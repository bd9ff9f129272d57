"""A closed mesh taken apart into nearly convex parts, so that what is hollow or bent collides as what it is.

The worst part is cut again and again by the plane that brings most: one in which a face beside a reflex edge lies, or
one across its middle (after Mamou & Ghorbel 2009, Approximate convex decomposition, with concavity as volume missing
from the hull).
"""

from collections.abc import Iterator

import manifold3d
import numpy as np

from urst.core.geometry.convex import hull_of
from urst.core.geometry.mesh import Mesh
from urst.errors import BadMesh

#: planes that are tried for a cut, beside three across the middle
_PLANES = 12
#: a mesh of more triangles is judged by one that is coarser by so much of its size
_FINE, _COARSER = 4000, 0.002
#: how much the worst piece of a cut counts beside all that its pieces miss
_WORST = 0.5
#: an edge is reflex whose faces lie so far behind each other, as a fraction of the size
_REFLEX = 1e-4


def convex_parts(mesh: Mesh, most: int = 48, enough: float = 0.004) -> list[tuple[Mesh, np.ndarray]]:
    """Take a closed mesh apart.

    Parameters
    ----------
    mesh : Mesh
        Closed, and wound outward.
    most : int
        Parts at most.
    enough : float
        A part is convex enough whose hull holds so much more, as a fraction of the whole's hull.

    Returns
    -------
    list of (part, inner)
        Closed meshes, and which of their triangles lie on cuts, (t,) bool. One part if the mesh is convex enough.

    Raises
    ------
    BadMesh
        If the mesh is not closed.
    """
    body = manifold3d.Manifold(
        manifold3d.Mesh64(vert_properties=mesh.vertices, tri_verts=mesh.triangles.astype(np.uint64))
    )
    if body.status() != manifold3d.Error.NoError:
        raise BadMesh(f"The mesh is not a closed solid ({body.status().name}): repair it first.")
    body = body.as_original()
    original, size = body.original_id(), float(np.ptp(mesh.vertices, axis=0).max())
    # where to cut is judged on a coarser one
    coarse = body.simplify(_COARSER * size) if body.num_tri() > _FINE else body
    spare = enough * coarse.hull().volume()
    parts = [(body, coarse, _missing(coarse))]
    while len(parts) < most:
        worst = max(range(len(parts)), key=lambda k: parts[k][2])
        fine, part, missing = parts[worst]
        if missing <= spare:
            break
        plane = _cut(part, size)
        if plane is None:
            parts[worst] = (fine, part, 0.0)
            continue
        both = zip(fine.split_by_plane(*plane), part.split_by_plane(*plane))
        parts[worst : worst + 1] = [(f, c, _missing(c)) for f, c in both if not f.is_empty()]
    return [x for fine, _, _ in parts if (x := _as_mesh(fine, original, size)) is not None]


def _missing(part: manifold3d.Manifold) -> float:
    return part.hull().volume() - part.volume()


def _cut(part: manifold3d.Manifold, size: float) -> tuple[tuple[float, ...], float] | None:
    """The best plane, its normal and offset; None if no plane cuts it.

    A first cut through something hollow brings nothing by itself; then the one counts that leaves the least in one
    piece.
    """
    best, least = None, np.inf
    for normal, offset in _candidates(part, size):
        plane = tuple(float(x) for x in normal), float(offset)
        halves = part.split_by_plane(*plane)
        if any(h.volume() < 1e-6 * part.volume() for h in halves):
            continue
        left = [_missing(h) for h in halves]
        score = sum(left) + _WORST * max(left)
        if score < least:
            best, least = plane, score
    return best


def _candidates(part: manifold3d.Manifold, size: float) -> Iterator[tuple[np.ndarray, float]]:
    raw = part.to_mesh64()
    points = np.asarray(raw.vert_properties)[:, :3]
    triangles = np.asarray(raw.tri_verts).astype(np.int64)
    corner = points[triangles]
    cross = np.cross(corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0])
    area = np.linalg.norm(cross, axis=1)
    normal = cross / np.maximum(area, 1e-300)[:, None]
    offset = np.einsum("ti,ti->t", normal, corner[:, 0])
    # the far corner of a neighbour in front of a face tells a reflex edge
    edges = np.sort(np.concatenate([triangles[:, [k, (k + 1) % 3]] for k in range(3)]), axis=1)
    far = np.concatenate([triangles[:, (k + 2) % 3] for k in range(3)])
    face = np.tile(np.arange(len(triangles)), 3)
    order = np.lexsort((edges[:, 1], edges[:, 0]))
    first, second = order[::2], order[1::2]
    front = np.einsum("ei,ei->e", points[far[second]], normal[face[first]]) - offset[face[first]]
    reflex = front > _REFLEX * size
    planes: dict[tuple, float] = {}
    for k in np.concatenate([face[first[reflex]], face[second[reflex]]]):
        key = (*np.round(normal[k], 3), round(float(offset[k]) / size, 3))
        planes[key] = planes.get(key, 0.0) + float(area[k])
    for key in sorted(planes, key=lambda p: (-planes[p], p))[:_PLANES]:
        n = np.array(key[:3])
        yield n / np.linalg.norm(n), key[3] * size
    middle = 0.5 * (points.min(axis=0) + points.max(axis=0))
    for axis in np.eye(3):
        yield axis, float(middle @ axis)


def _as_mesh(part: manifold3d.Manifold, original: int, size: float) -> tuple[Mesh, np.ndarray] | None:
    raw = part.to_mesh64()
    triangles = np.asarray(raw.tri_verts).astype(np.int64)
    result = Mesh(np.asarray(raw.vert_properties)[:, :3].astype(float), triangles)
    try:
        hull_of(result.vertices)
    except BadMesh:
        return None
    inner = np.ones(len(triangles), bool)
    runs = np.asarray(raw.run_index) // 3
    for run, owner in enumerate(raw.run_original_id):
        if owner == original:
            inner[int(runs[run]) : int(runs[run + 1])] = False
    return result, inner
