"""Closed surfaces made hollow: the surface at a distance from another, and convex parts of the wall between two."""

from typing import Any

import manifold3d
import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from urst.core.geometry.convex import hull_of
from urst.core.geometry.mesh import Mesh, mass_properties
from urst.errors import BadMesh

#: a mesh whose hull holds no more than this share beside it is convex
_CONVEX = 1e-6
#: triangles from which on a convex wall is taken apart into wedges
_MANY = 400
#: corners go no farther than so many thicknesses where faces meet at a sharp edge
_MITRE = 4.0
#: normals whose spread about a corner is less than this share are one [-]
_FLAT = 0.02
#: faces that would shrink to less than such a fraction of their area go back by so much, on so much of the area at most
_SHRUNK, _BACK, _THIN = 1e-3, 0.7, 0.15
#: a wall that is thinner than such a fraction of the size is none
_LEAST = 1e-4
#: rounds in which they do, and in which the greatest thickness is sought
_ROUNDS = 20


def moved_in(mesh: Mesh, thickness: float) -> Mesh:
    """Return the surface that lies a distance behind all faces of a closed one.

    Corners go where the faces about them, moved along their normals, meet: the point nearest to the corner that does
    so in the least squares.

    Parameters
    ----------
    mesh : Mesh
        Closed, and wound outward.
    thickness : float
        Below 0 it goes outward [m].

    Raises
    ------
    BadMesh
        If the surface would pass through itself.
    """
    moved = _moved(mesh, thickness)
    if moved is None:
        low, high = 0.0, thickness
        for _ in range(_ROUNDS):
            middle = 0.5 * (low + high)
            low, high = (middle, high) if _moved(mesh, middle) is not None else (low, middle)
        if abs(low) < _LEAST * float(np.ptp(mesh.vertices, axis=0).max()):
            raise BadMesh("No surface lies behind this one: it is not a sound solid; repair it, or let it be solid.")
        raise BadMesh(
            f"A wall of {abs(thickness) * 100:.3g} cm leaves no room where this shape is narrow: use at most "
            f"{abs(low) * 99:.2g} cm, "
            "or let it grow to the other side."
        )
    return moved


def _moved(mesh: Mesh, thickness: float) -> Mesh | None:
    """The same, None where it passes through itself."""
    corner = mesh.vertices[mesh.triangles]
    cross = np.cross(corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0])
    size = np.linalg.norm(cross, axis=1)
    normal = cross / np.maximum(size, 1e-300)[:, None]
    # each face counts by the angle that it has at a corner, so that how it is cut into triangles does not matter
    n = len(mesh.vertices)
    about, wanted = np.zeros((n, 3, 3)), np.zeros((n, 3))
    for k in range(3):
        a, b = corner[:, (k + 1) % 3] - corner[:, k], corner[:, (k + 2) % 3] - corner[:, k]
        length = np.linalg.norm(a, axis=1) * np.linalg.norm(b, axis=1)
        angle = np.arccos(np.clip(np.einsum("ti,ti->t", a, b) / np.maximum(length, 1e-300), -1.0, 1.0))
        angle = np.where(size > 1e-14 * length, angle, 0.0)
        np.add.at(about, mesh.triangles[:, k], angle[:, None, None] * normal[:, :, None] * normal[:, None, :])
        np.add.at(wanted, mesh.triangles[:, k], angle[:, None] * normal)
    step = np.einsum("nij,nj->ni", np.linalg.pinv(about, rcond=_FLAT**2, hermitian=True), wanted)
    far = np.linalg.norm(step, axis=1)
    step *= np.minimum(1.0, _MITRE / np.maximum(far, 1e-300))[:, None]
    # small faces at sharp edges have no room to go all the way
    fraction = np.ones(n)
    for _ in range(_ROUNDS):
        moved = mesh.vertices - thickness * fraction[:, None] * step
        corner = moved[mesh.triangles]
        turned = np.cross(corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0])
        over = (np.einsum("ti,ti->t", cross, turned) < _SHRUNK * size**2) & (size > 0.0)
        if not over.any():
            break
        fraction[mesh.triangles[over]] *= _BACK
    thin = (fraction[mesh.triangles].min(axis=1) < 1.0) @ size
    result = Mesh(moved, mesh.triangles)
    return result if thin <= _THIN * size.sum() and _sound(mesh, result, thickness) else None


def _sound(mesh: Mesh, moved: Mesh, thickness: float) -> bool:
    """Whether one surface lies within the other."""
    try:
        volume = mass_properties(moved).volume
    except BadMesh:
        return False
    inner, outer = (moved, mesh) if thickness > 0.0 else (mesh, moved)
    inside, around = _solid(inner), _solid(outer)
    if inside is None or around is None:
        return False
    return volume > 0.0 and (inside - around).volume() < 1e-6 * around.volume()


def _solid(mesh: Mesh) -> Any:
    body = manifold3d.Manifold(
        manifold3d.Mesh64(vert_properties=mesh.vertices, tri_verts=mesh.triangles.astype(np.uint64))
    )
    return body if body.status() == manifold3d.Error.NoError else None


def between(outer: Mesh, inner: Mesh) -> Mesh:
    """Return the closed mesh of what lies between two closed surfaces.

    Parameters
    ----------
    outer, inner : Mesh
        One within the other, both wound outward.
    """
    n = len(outer.vertices)
    return Mesh(
        np.concatenate([outer.vertices, inner.vertices]),
        np.concatenate([outer.triangles, inner.triangles[:, ::-1] + n]),
    )


def is_convex(mesh: Mesh) -> bool:
    """Whether a closed mesh is convex."""
    try:
        volume = mass_properties(mesh).volume
        return mass_properties(hull_of(mesh.vertices).mesh()).volume - volume <= _CONVEX * volume
    except BadMesh:
        return False


def wall_parts(outer: Mesh, inner: Mesh) -> list[Mesh]:
    """Return convex parts of what lies between two closed surfaces.

    Around a convex hollow they are cut off one after another by the planes of its faces, and together are just that.
    Else each flat convex patch of faces, which both surfaces must have in common, becomes a wedge, and wedges lap
    over a little where faces meet in a hollow edge. Cutting takes the square of the number of faces, so of many
    wedges are made around a convex hollow as well, if together they are just the wall.

    Parameters
    ----------
    outer, inner : Mesh
    """
    if not (is_convex(outer) and is_convex(inner)):
        return _wedges(outer, inner)
    if len(outer.triangles) == len(inner.triangles) >= _MANY:
        wedges, wall = _wedges(outer, inner, convex=True), mass_properties(outer).volume - mass_properties(inner).volume
        if abs(sum(mass_properties(m).volume for m in wedges) - wall) <= _CONVEX * wall:
            return wedges
    return _cut_off(outer, inner)


def _cut_off(outer: Mesh, inner: Mesh) -> list[Mesh]:
    rest, found = _solid(outer), []
    for normal in _planes(inner):
        part, rest = rest.split_by_plane(tuple(float(x) for x in normal[:3]), float(normal[3]))
        if not part.is_empty():
            found += _hull(np.asarray(part.to_mesh64().vert_properties)[:, :3])
    return found


def _hull(points: np.ndarray) -> list[Mesh]:
    """The hull of points, none if they span no volume."""
    try:
        return [hull_of(points).mesh()]
    except BadMesh:
        return []


def _planes(mesh: Mesh) -> np.ndarray:
    """The planes of a convex mesh's faces, (f, 4)."""
    solid = hull_of(mesh.vertices)
    first = np.array([loop[0] for loop in solid.loops])
    return np.column_stack([solid.normals, np.einsum("fi,fi->f", solid.normals, solid.vertices[first])])


def _wedges(outer: Mesh, inner: Mesh, convex: bool = False) -> list[Mesh]:
    found = []
    for patch in _flat_patches(outer, convex):
        corners = np.unique(outer.triangles[patch])
        found += _hull(np.concatenate([outer.vertices[corners], inner.vertices[corners]]))
    return found


def _flat_patches(mesh: Mesh, convex: bool) -> list[np.ndarray]:
    """Neighbouring triangles that together are a flat convex polygon, as arrays of their numbers; of a `convex` mesh
    all flat ones are."""
    corner = mesh.vertices[mesh.triangles]
    cross = np.cross(corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0])
    normal = cross / np.maximum(np.linalg.norm(cross, axis=1), 1e-300)[:, None]
    edge = np.sort(np.concatenate([mesh.triangles[:, [k, (k + 1) % 3]] for k in range(3)]), axis=1)
    face = np.tile(np.arange(len(mesh.triangles)), 3)
    order = np.lexsort((edge[:, 1], edge[:, 0]))
    same = (edge[order][1:] == edge[order][:-1]).all(axis=1)
    first, second = face[order][:-1][same], face[order][1:][same]
    flat = np.einsum("ei,ei->e", normal[first], normal[second]) > 1.0 - 1e-9
    size = len(mesh.triangles)
    joined = coo_matrix((np.ones(flat.sum()), (first[flat], second[flat])), shape=(size, size))
    group = connected_components(joined, directed=False)[1]
    found, order = [], np.argsort(group, kind="stable")
    for patch in np.split(order, np.flatnonzero(np.diff(group[order])) + 1):
        found += (
            [patch]
            if convex or len(patch) == 1 or _is_polygon(mesh, patch, normal[patch[0]])
            else [patch[k : k + 1] for k in range(len(patch))]
        )
    return found


def _is_polygon(mesh: Mesh, patch: np.ndarray, normal: np.ndarray) -> bool:
    """Whether flat triangles fill a convex polygon."""
    points = mesh.vertices[np.unique(mesh.triangles[patch])]
    corner = mesh.vertices[mesh.triangles[patch]]
    area = 0.5 * np.linalg.norm(np.cross(corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0]), axis=1).sum()
    try:
        # as a prism of height 1
        hull = mass_properties(hull_of(np.concatenate([points, points + normal])).mesh()).volume
    except BadMesh:
        return False
    return hull - area <= 1e-6 * area
