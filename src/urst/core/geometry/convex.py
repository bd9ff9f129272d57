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

    def is_closed(self) -> bool:
        """Whether each edge joins two faces that run along it in opposite directions."""
        ends = [np.stack([p, np.roll(p, -1)], axis=1) for p in self.loops]
        edges = np.concatenate(ends) if ends else np.zeros((0, 2), np.int64)
        count = len(self.vertices)
        forward, backward = edges[:, 0] * count + edges[:, 1], edges[:, 1] * count + edges[:, 0]
        return len(edges) > 0 and np.array_equal(np.sort(forward), np.sort(backward))

    def mesh(self) -> Mesh:
        """Return the surface as a triangle mesh, each face a fan."""
        fans = [np.column_stack([np.full(len(p) - 2, p[0]), p[1:-1], p[2:]]) for p in self.loops]
        return Mesh(self.vertices, np.concatenate(fans))


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
    starts = {"vertex": [0], "face": [0], "loop": [0], "edge": [0]}
    planes: list[list[float]] = []
    loops: list[int] = []
    edges: list[list[int]] = []
    for solid in solids:
        sides: dict[tuple[int, int], list[int]] = {}
        for f, loop in enumerate(solid.loops):
            normal = solid.normals[f]
            planes.append([*normal, float(np.mean(solid.vertices[loop] @ normal))])
            loops.extend(loop)
            starts["loop"].append(len(loops))
            for a, b in zip(loop, np.roll(loop, -1)):
                sides.setdefault((min(a, b), max(a, b)), []).append(f)
        edges.extend([a, b, f[0], f[-1]] for (a, b), f in sides.items())
        starts["vertex"].append(starts["vertex"][-1] + len(solid.vertices))
        starts["face"].append(len(planes))
        starts["edge"].append(len(edges))
    index = {name: np.array(value, np.int64) for name, value in starts.items()}
    return Hulls(
        vertices=np.concatenate([s.vertices for s in solids]) if solids else np.zeros((0, 3)),
        vertex_start=index["vertex"],
        planes=np.array(planes, float).reshape(-1, 4),
        face_start=index["face"],
        loops=np.array(loops, np.int64),
        loop_start=index["loop"],
        edges=np.array(edges, np.int64).reshape(-1, 4),
        edge_start=index["edge"],
    )
