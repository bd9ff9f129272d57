"""Breaking whole set pieces: where the sites go, and what comes out."""

from collections.abc import Callable
from dataclasses import dataclass, replace

import manifold3d
import numpy as np

from urst.core.bodies.fragments import Fragments, Solid, assemble
from urst.core.bodies.patches import JOINT, Patches, find_patches
from urst.core.fracture.convex_parts import convex_parts
from urst.core.fracture.settings import FractureSettings
from urst.core.fracture.voronoi import shatter
from urst.core.geometry.convex import hull_of
from urst.core.geometry.mesh import Mesh, mass_properties
from urst.core.geometry.winding import winding
from urst.errors import BadMesh

#: a fragment is convex enough if the hulls of its parts hold so much more than it does, each, and has so many parts at
#: most
_CONVEX, _PARTS = 0.03, 12
#: and what stays whole so many
_WHOLE_PARTS = 48


@dataclass(frozen=True)
class Broken:
    """The result of a break."""

    fragments: Fragments
    patches: Patches
    volume: float
    """of the bodies before the break [m3]"""


def break_pieces(
    pieces: list[tuple[int, list[Mesh]]], settings: FractureSettings, check_cancelled: Callable[[], None] = lambda: None
) -> Broken:
    """Break set pieces.

    The count is shared out among the parts by volume, or by volume near the focus when the pattern is clustered;
    a part with one site stays whole. So a wall of bricks opens along its joints, and its bricks crack only where
    the count allows.

    Parameters
    ----------
    pieces : list of (int, list of Mesh)
        A number for each piece, kept in the fragments, and its parts where they stand.
    settings : FractureSettings
    check_cancelled : callable
        Called between cuts; what it raises ends the work.

    Raises
    ------
    BadMesh
        If a part is open or encloses no volume.
    """
    rng = np.random.default_rng(settings.seed)
    parts = [(piece, mesh) for piece, meshes in pieces for mesh in meshes]
    fractions = _fractions([mesh for _, mesh in parts], settings)
    solids: list[Solid] = []
    total = 0.0
    for part, ((piece, mesh), fraction) in enumerate(zip(parts, fractions)):
        check_cancelled()
        total += mass_properties(mesh).volume
        if fraction == 1:
            whole = Solid(piece, mesh, np.zeros(len(mesh.triangles), bool), hull_of(mesh.vertices), part=part)
            solids += _in_parts(whole, len(solids), _WHOLE_PARTS)
            continue
        for solid in shatter(mesh, _sites(mesh, fraction, settings, rng), piece, check_cancelled):
            check_cancelled()
            solids += _in_parts(replace(solid, part=part), len(solids))
    if not solids:
        raise BadMesh("Nothing is left after the break: lower the count, so that fragments are thicker than a sliver.")
    fragments = assemble(solids)
    found = find_patches(fragments, JOINT)
    i, j = fragments.whole[found.pair.T]
    return Broken(fragments, found.only((i < 0) | (i != j)), total)


def _in_parts(solid: Solid, number: int, most: int = _PARTS) -> list[Solid]:
    """A fragment as convex parts, which `number` tells apart from those of others, itself if it is nearly convex."""
    assert solid.hull is not None
    volume, hull = mass_properties(solid.mesh).volume, mass_properties(solid.hull.mesh()).volume
    if hull - volume <= _CONVEX * volume:
        return [solid]
    try:
        parts = convex_parts(solid.mesh, most, _CONVEX * volume / hull)
    except BadMesh:
        return [solid]
    if len(parts) < 2:
        return [solid]
    own = _Marked(solid)
    return [
        replace(solid, mesh=m, inner=cut | own.inner(m), hull=hull_of(m.vertices), whole=number) for m, cut in parts
    ]


class _Marked:
    """Tells which triangles of a part lie where cracks are in the solid it is cut from."""

    def __init__(self, solid: Solid) -> None:
        corner = solid.mesh.vertices[solid.mesh.triangles[solid.inner]]
        normal = np.cross(corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0])
        normal /= np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-300)
        plane = np.column_stack([normal, np.einsum("ti,ti->t", normal, corner[:, 0])])
        self.size = float(np.ptp(solid.mesh.vertices, axis=0).max())
        self.planes = np.unique(np.round(plane / [1, 1, 1, self.size], 5), axis=0)

    def inner(self, mesh: Mesh) -> np.ndarray:
        """Whether the triangles of a mesh lie in cracks, (t,) bool."""
        corner = mesh.vertices[mesh.triangles]
        away = np.einsum("tki,pi->tkp", corner, self.planes[:, :3]) / self.size - self.planes[:, 3]
        return (np.abs(away).max(axis=1) < 1e-4).any(axis=1)


def _fractions(meshes: list[Mesh], settings: FractureSettings) -> np.ndarray:
    volume = np.array([mass_properties(m).volume for m in meshes])
    weight = volume.copy()
    if settings.pattern == "clustered":
        centre = np.array([m.vertices.mean(axis=0) for m in meshes])
        away = np.linalg.norm(centre - settings.focus, axis=1) / settings.focus_radius
        weight *= np.exp(-0.5 * away**2)
    spare = max(0, settings.count - len(meshes))
    if spare == 0 or weight.sum() <= 0:
        return np.ones(len(meshes), int)
    exact = weight / weight.sum() * spare
    fraction = np.floor(exact).astype(int)
    # the largest remainders get what rounding left over
    for i in np.argsort(-(exact - fraction), kind="stable")[: spare - fraction.sum()]:
        fraction[i] += 1
    return fraction + 1


def _sites(mesh: Mesh, count: int, settings: FractureSettings, rng: np.random.Generator) -> np.ndarray:
    """Random points inside the mesh, gathered round the focus when it is clustered."""
    body = manifold3d.Manifold(
        manifold3d.Mesh64(vert_properties=mesh.vertices, tri_verts=mesh.triangles.astype(np.uint64))
    )
    if body.status() != manifold3d.Error.NoError:
        raise BadMesh(f"The mesh is not a closed solid ({body.status().name}): repair it before breaking it.")
    low, high = mesh.bounds()
    kept = np.zeros((0, 3))
    clustered = settings.pattern == "clustered"
    for attempt in range(200):
        # after half the attempts an out-of-the-way focus gives way to an even spread
        if clustered and attempt < 100:
            points = rng.normal(settings.focus, settings.focus_radius, (4 * count, 3))
            points = points[((points > low) & (points < high)).all(axis=1)]
        else:
            points = rng.uniform(low, high, (4 * count, 3))
        kept = np.concatenate([kept, points[winding(mesh, points) > 0.5]])[:count]
        if len(kept) == count:
            return kept
    raise BadMesh(f"Only {len(kept)} of {count} crack sites fit into the mesh: it is too thin for this count.")
