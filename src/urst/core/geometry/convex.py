"""Convex polyhedra, many at a time, packed for the kernels."""

from dataclasses import dataclass

import numpy as np
from scipy.spatial import ConvexHull, QhullError

from urst.core.geometry.mesh import Mesh
from urst.errors import BadMesh


@dataclass(frozen=True)
class Polyhedron:
    """One convex solid: its corners and its flat faces as loops of corner indices, counter-clockwise outside."""

    vertices: np.ndarray
    """(v, 3) float64 [m]"""
    loops: list[np.ndarray]
    """one (k,) int64 array a face"""
    normals: np.ndarray
    """(f, 3) unit, outward"""

    def mesh(self) -> Mesh:
        """Return the surface as a triangle mesh, each face a fan."""
        loops = np.concatenate(self.loops)
        size = np.array([len(p) for p in self.loops])
        start, fan = np.cumsum(size) - size, size - 2
        face = np.repeat(np.arange(len(size)), fan)
        step = np.arange(len(face)) - (np.cumsum(fan) - fan)[face]
        first = start[face]
        return Mesh(self.vertices, np.column_stack([loops[first], loops[first + step + 1], loops[first + step + 2]]))


@dataclass(frozen=True)
class Hulls:
    """`n` convex polyhedra packed end to end; the ragged parts are found through `*_start` (n + 1,) int64."""

    vertices: np.ndarray
    """(v, 3) float64 [m]"""
    vertex_start: np.ndarray
    planes: np.ndarray
    """(f, 4) float64: unit normal and offset, normal . x = offset on the face"""
    face_start: np.ndarray
    loops: np.ndarray
    """(l,) int64, corner indices within the polyhedron, face after face"""
    loop_start: np.ndarray
    """(f + 1,) int64"""
    edges: np.ndarray
    """(e, 4) int64: two corners and the two faces that meet there, within the polyhedron"""
    edge_start: np.ndarray

    NAMES = ("vertices", "vertex_start", "planes", "face_start", "loops", "loop_start", "edges", "edge_start")

    def __len__(self) -> int:
        return len(self.vertex_start) - 1

    def arrays(self) -> tuple[np.ndarray, ...]:
        """Return the packed arrays in the order the kernels take them."""
        return tuple(getattr(self, name) for name in self.NAMES)

    def corners(self, i: int) -> np.ndarray:
        """Return the corners of polyhedron `i`, (k, 3) [m]."""
        return self.vertices[self.vertex_start[i] : self.vertex_start[i + 1]]

    def radius(self) -> np.ndarray:
        """Return for each polyhedron the greatest distance of a corner from its local origin, (n,) [m]."""
        return np.maximum.reduceat(np.linalg.norm(self.vertices, axis=1), self.vertex_start[:-1])


def hull_of(points: np.ndarray) -> Polyhedron:
    """Convex hull of points (n, 3) with coplanar triangles merged into faces.

    Raises
    ------
    BadMesh
        If the points span no volume.
    """
    points = np.asarray(points, float)
    origin = points.mean(axis=0)
    scale = np.abs(points - origin).max() or 1.0
    try:
        hull = ConvexHull((points - origin) / scale)
    except (QhullError, ValueError) as error:
        raise BadMesh(
            f"These {len(points)} points span no volume, so they have no solid hull: give the piece thickness."
        ) from error
    group = np.arange(len(hull.simplices))
    # neighbouring hull triangles whose planes agree belong to one face
    for i, neighbours in enumerate(hull.neighbors):
        for j in neighbours:
            if j > i and np.abs(hull.equations[i] - hull.equations[j]).max() < 1e-7:
                group[group == group[j]] = group[i]
    used, index = np.unique(hull.simplices, return_inverse=True)
    simplices = index.reshape(hull.simplices.shape)
    vertices = points[used]
    loops, normals = [], []
    for g in np.unique(group):
        members = np.unique(simplices[group == g])
        normal = hull.equations[group == g][0, :3]
        loops.append(_around(vertices[members], members, normal))
        normals.append(normal)
    return Polyhedron(vertices, loops, np.array(normals))


def _around(points, members, normal):
    first = np.zeros(3)
    first[np.argmin(np.abs(normal))] = 1.0
    across = np.cross(normal, first)
    across /= np.linalg.norm(across)
    up = np.cross(normal, across)
    offset = points - points.mean(axis=0)
    return members[np.argsort(np.arctan2(offset @ up, offset @ across), kind="stable")]


def pack(solids: list[Polyhedron]) -> Hulls:
    """Pack polyhedra for the kernels, each in the coordinates it is given in."""
    if not solids:
        none, zero = np.zeros(0, np.int64), np.zeros(1, np.int64)
        return Hulls(np.zeros((0, 3)), zero, np.zeros((0, 4)), zero, none, zero, np.zeros((0, 4), np.int64), zero)
    starts = lambda counts: np.concatenate([[0], np.cumsum(counts)]).astype(np.int64)  # noqa: E731
    vertex_start, face_start = starts([len(s.vertices) for s in solids]), starts([len(s.loops) for s in solids])
    size = np.array([len(loop) for s in solids for loop in s.loops])
    loop_start = starts(size)
    loops = np.concatenate([loop for s in solids for loop in s.loops]).astype(np.int64)
    vertices, normals = np.concatenate([s.vertices for s in solids]), np.concatenate([s.normals for s in solids])
    face = np.repeat(np.arange(len(size)), size)
    owner = np.repeat(np.arange(len(solids)), np.diff(face_start))
    corner = vertices[loops + vertex_start[owner[face]]]
    offset = np.add.reduceat(np.einsum("li,li->l", corner, normals[face]), loop_start[:-1]) / size
    # the next corner round each face, and the edges between: each comes twice, once from either face
    after = np.arange(1, len(loops) + 1)
    after[loop_start[1:] - 1] = loop_start[:-1]
    ends = np.sort(np.stack([loops, loops[after]], axis=1), axis=1)
    solid = owner[face]
    order = np.lexsort((face, ends[:, 1], ends[:, 0], solid))
    first, second = order[::2], order[1::2]
    within = face_start[solid]
    edges = np.column_stack([ends[first], (face - within)[first], (face - within)[second]])
    return Hulls(
        vertices=vertices,
        vertex_start=vertex_start,
        planes=np.column_stack([normals, offset]),
        face_start=face_start,
        loops=loops,
        loop_start=loop_start,
        edges=np.ascontiguousarray(edges, np.int64),
        edge_start=starts(np.bincount(solid[first], minlength=len(solids))),
    )
