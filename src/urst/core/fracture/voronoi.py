"""Voronoi fracture of closed bodies into closed fragments."""

from collections.abc import Callable, Iterator
from dataclasses import dataclass

import manifold3d
import numpy as np
from scipy.spatial import cKDTree

from urst.core.bodies.fragments import Solid
from urst.core.fracture import kernels
from urst.core.geometry.convex import Polyhedron, hull_of
from urst.core.geometry.mesh import Mesh, mass_properties
from urst.errors import BadMesh

#: convex bodies of more faces are cut by booleans, which cost less then
MOST_FACES = 256


@dataclass(frozen=True)
class Cell:
    """One convex cell."""

    polygons: np.ndarray
    """(f, c, 3) float64 [m]: the corners of each face, the first `counts` of them"""
    counts: np.ndarray
    """(f,) int64"""
    tags: np.ndarray
    """(f,) int64: the site across each face, negative for a face of the body"""

    def corners(self) -> np.ndarray:
        """Return all faces' corners, (k, 3) [m]; each place comes once for every face that meets there."""
        return self.polygons[np.arange(self.polygons.shape[1]) < self.counts[:, None]]

    def polyhedron(self, tolerance: float) -> tuple[Polyhedron, bool]:
        """Join the polygons' corners into one vertex list; corners closer than `tolerance` [m] become one.

        Returns
        -------
        (solid, closed)
            `closed` is False where joining corners has cost it a face.
        """
        total = int(self.counts.sum())
        vertices, loops = np.empty((total, 3)), np.empty(total, np.int64)
        sizes, normals = np.empty(len(self.counts), np.int64), np.empty((len(self.counts), 3))
        found, faces, closed = kernels.join(
            self.polygons, self.counts, len(self.counts), tolerance, vertices, loops, sizes, normals
        )
        ends = np.cumsum(sizes[:faces])
        parts = [loops[end - size : end] for end, size in zip(ends, sizes)]
        return Polyhedron(vertices[:found], parts, normals[:faces]), closed


def cells(sites: np.ndarray, body: Polyhedron) -> Iterator[Cell | None]:
    """Voronoi cells of sites (n, 3) [m] within a convex body; None where a site's cell misses the body.

    Each cell is the body cut by the bisectors to its neighbours, nearest first, until the next bisector must
    miss it (the security radius; Rycroft 2009, Voro++: A three-dimensional Voronoi cell library, sec. II).

    Parameters
    ----------
    sites : (n, 3) float [m]
    body : Polyhedron
    """
    sites = np.ascontiguousarray(sites, float)
    size = np.ptp(body.vertices, axis=0).max()
    tree = cKDTree(sites)
    faces_room, corners_room = len(body.loops) + 40, max(map(len, body.loops)) + 24
    for i in range(len(sites)):
        reach = 32
        while True:
            cut = _start(body, faces_room, corners_room)
            order = np.atleast_1d(tree.query(sites[i], k=min(reach, len(sites)))[1])
            order = order[order != i].astype(np.int64)
            faces, sure = kernels.cell(i, sites, order, cut, len(body.loops), 1e-12 * size)
            if faces < 0:
                faces_room, corners_room = 2 * faces_room, 2 * corners_room
                continue
            if sure or reach >= len(sites):
                break
            reach *= 4
        wide = int(cut.counts[:faces].max()) if faces else 0
        kept = cut.polygons[:faces, :wide], cut.counts[:faces], cut.tags[:faces]
        yield Cell(*(part.copy() for part in kept)) if faces else None


def _start(body: Polyhedron, faces_room: int, corners_room: int) -> kernels.Faces:
    polygons = np.zeros((faces_room, corners_room, 3))
    counts, tags = np.zeros(faces_room, np.int64), np.zeros(faces_room, np.int64)
    for f, loop in enumerate(body.loops):
        polygons[f, : len(loop)] = body.vertices[loop]
        counts[f], tags[f] = len(loop), -1 - f
    return kernels.Faces(polygons, counts, tags, np.empty((corners_room, 3)), np.empty((corners_room, 3)))


def shatter(
    mesh: Mesh, sites: np.ndarray, piece: int = 0, check_cancelled: Callable[[], None] = lambda: None
) -> list[Solid]:
    """Cut a closed mesh into the parts nearest each site.

    A convex mesh is cut exactly, face by face; another is intersected with each site's cell by a boolean that
    guarantees closed results, and a cell that meets it in several parts gives several solids.

    Parameters
    ----------
    mesh : Mesh
        Closed.
    sites : (n, 3) float [m]
    piece : int
        Which set piece it is, kept in the solids.
    check_cancelled : callable
        Called between cuts; what it raises ends the work.

    Returns
    -------
    list of Solid
        Slivers too thin to be bodies are left out.

    Raises
    ------
    BadMesh
        If the mesh is not closed or encloses no volume.
    """
    whole = mass_properties(mesh)
    hull = hull_of(mesh.vertices)
    convex = abs(mass_properties(hull.mesh()).volume - whole.volume) < 1e-6 * whole.volume
    size = np.ptp(mesh.vertices, axis=0).max()
    if convex and len(hull.loops) <= MOST_FACES:
        return _shatter_convex(hull, sites, piece, size, check_cancelled)
    return _shatter_general(mesh, sites, piece, size, check_cancelled)


def _shatter_convex(
    hull: Polyhedron, sites: np.ndarray, piece: int, size: float, check_cancelled: Callable[[], None]
) -> list[Solid]:
    solids = []
    planes = np.array([[*n, hull.vertices[p[0]] @ n] for n, p in zip(hull.normals, hull.loops)])
    for cell in cells(sites, hull):
        check_cancelled()
        if cell is None:
            continue
        shape, closed = cell.polyhedron(1e-9 * size)
        if not closed:
            whole = _hull_of_solid(shape.mesh(), size)
            if whole is None:
                continue
            shape = whole
        mesh = shape.mesh()
        if not _volume(mesh) > 1e-12 * size**3:
            continue
        centre = mesh.vertices[mesh.triangles].mean(axis=1)
        outside = (np.abs(centre @ planes[:, :3].T - planes[:, 3]) < 1e-7 * size).any(axis=1)
        solids.append(Solid(piece, mesh, ~outside, shape))
    return solids


def _shatter_general(
    mesh: Mesh, sites: np.ndarray, piece: int, size: float, check_cancelled: Callable[[], None]
) -> list[Solid]:
    body = manifold3d.Manifold(
        manifold3d.Mesh64(vert_properties=mesh.vertices, tri_verts=mesh.triangles.astype(np.uint64))
    )
    if body.status() != manifold3d.Error.NoError:
        raise BadMesh(f"The mesh is not a closed solid ({body.status().name}): repair it before breaking it.")
    low, high = mesh.bounds()
    margin = 0.05 * size
    corners = np.array(np.meshgrid(*zip(low - margin, high + margin))).reshape(3, -1).T
    original = body.original_id() if body.original_id() >= 0 else None
    if original is None:
        body = body.as_original()
        original = body.original_id()
    solids = []
    for cell in cells(sites, hull_of(corners)):
        check_cancelled()
        if cell is None:
            continue
        shape = manifold3d.Manifold.hull_points(cell.corners())
        for part in (body ^ shape).decompose():
            raw = part.to_mesh64()
            triangles = np.asarray(raw.tri_verts).astype(np.int64)
            result = Mesh(np.asarray(raw.vert_properties)[:, :3].astype(float), triangles)
            hull = _hull_of_solid(result, size) if len(triangles) else None
            if hull is None:
                continue
            inner = np.ones(len(triangles), bool)
            runs = np.asarray(raw.run_index) // 3
            for run, owner in enumerate(raw.run_original_id):
                if owner == original:
                    inner[int(runs[run]) : int(runs[run + 1])] = False
            solids.append(Solid(piece, result, inner, hull))
    return solids


def _volume(mesh: Mesh) -> float:
    """Enclosed volume [m3], 0 where there is none."""
    try:
        return mass_properties(mesh).volume
    except BadMesh:
        return 0.0


def _hull_of_solid(mesh: Mesh, size: float) -> Polyhedron | None:
    """The hull of a part, None where the part is too thin for mass properties and a hull to mean anything."""
    try:
        hull = hull_of(mesh.vertices)
    except BadMesh:
        return None
    return hull if _volume(mesh) > 1e-12 * size**3 else None
