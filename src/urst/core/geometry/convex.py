"""Convex polyhedra, many at a time, packed for the kernels."""

from dataclasses import dataclass
from typing import NamedTuple

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


class Hulls(NamedTuple):
    """`n` convex polyhedra packed end to end; the ragged parts are found through `*_start` (n + 1,) int64.

    A tuple of arrays, so that kernels take it as one argument.
    """

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

    @property
    def size(self) -> int:
        """How many polyhedra there are."""
        return len(self.vertex_start) - 1

    def radius(self) -> np.ndarray:
        """Return for each polyhedron the greatest distance of a corner from its local origin, (n,) [m]."""
        if not self.size:
            return np.zeros(0)
        return np.maximum.reduceat(np.linalg.norm(self.vertices, axis=1), self.vertex_start[:-1])


def with_points(hulls: Hulls, some: np.ndarray) -> Hulls:
    """Return the hulls with some of them, (n,) bool, shrunk to the point at their origin.

    Parameters
    ----------
    hulls : Hulls
    some : (n,) bool
    """
    if not some.any():
        return hulls
    count = np.diff(hulls.vertex_start)
    gone, start = np.repeat(some, count), np.concatenate([[0], np.cumsum(np.where(some, 1, count))])
    vertices = np.zeros((start[-1], 3))
    vertices[np.repeat(~some, np.where(some, 1, count))] = hulls.vertices[~gone]

    def without(values: np.ndarray, starts: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        sizes = np.where(some, 0, np.diff(starts))
        return values[np.repeat(~some, np.diff(starts))], np.concatenate([[0], np.cumsum(sizes)]).astype(np.int64)

    planes, face_start = without(hulls.planes, hulls.face_start)
    edges, edge_start = without(hulls.edges, hulls.edge_start)
    face = np.repeat(~some, np.diff(hulls.face_start))
    size = np.diff(hulls.loop_start)
    loops, size = hulls.loops[np.repeat(face, size)], size[face]
    loop_start = np.concatenate([[0], np.cumsum(size)]).astype(np.int64)
    return Hulls(vertices, start.astype(np.int64), planes, face_start, loops, loop_start, edges, edge_start)


def hull_of(points: np.ndarray) -> Polyhedron:
    """Convex hull of points with coplanar triangles merged into faces.

    Parameters
    ----------
    points : (n, 3) float [m]

    Returns
    -------
    Polyhedron
        Each edge joins exactly two faces, which run along it in opposite directions.

    Raises
    ------
    BadMesh
        If the points span no volume.
    """
    points = np.asarray(points, float)
    origin = points.mean(axis=0) if len(points) else np.zeros(3)
    scale = (np.abs(points - origin).max() if len(points) else 0.0) or 1.0
    try:
        hull = ConvexHull((points - origin) / scale)
    except (QhullError, ValueError) as error:
        raise BadMesh(
            f"These {len(points)} points span no volume, so they have no solid hull: give the piece thickness."
        ) from error
    first, second = np.repeat(np.arange(len(hull.simplices)), 3), hull.neighbors.reshape(-1)
    alike = np.abs(hull.equations[first] - hull.equations[second]).max(axis=1) < 1e-7
    group = _groups(len(hull.simplices), first[alike].tolist(), second[alike].tolist())
    used, index = np.unique(hull.simplices, return_inverse=True)
    triangles = _oriented(index.reshape(hull.simplices.shape), points[used], hull)
    faces = _outlines(triangles, group)
    corners = np.unique(np.concatenate([loop for loop, _ in faces]))
    renumber = np.zeros(len(used), np.int64)
    renumber[corners] = np.arange(len(corners))
    normals = np.array([hull.equations[t, :3] for _, t in faces])
    return Polyhedron(points[used][corners], [renumber[loop] for loop, _ in faces], normals)


def _groups(size: int, first: list[int], second: list[int]) -> np.ndarray:
    """Number the groups that pairs make of so many things, (size,), in the order of their first ones."""
    # for a few dozen triangles a sparse matrix takes ten times as long
    root = list(range(size))
    for a, b in zip(first, second):
        while root[a] != a:
            root[a] = a = root[root[a]]
        while root[b] != b:
            root[b] = b = root[root[b]]
        root[max(a, b)] = min(a, b)
    for k in range(size):
        root[k] = root[root[k]]
    return np.unique(root, return_inverse=True)[1]


def _oriented(triangles: np.ndarray, points: np.ndarray, hull: ConvexHull) -> np.ndarray:
    """Turn triangles counter-clockwise outside: by their volume about the middle, or, where slivers leave that to
    rounding, from neighbour to neighbour."""
    a, b, c = (points[triangles[:, k]] - points.mean(axis=0) for k in range(3))
    volume = np.einsum("ij,ij->i", a, np.cross(b, c))
    turned = np.where((volume < 0)[:, None], triangles[:, ::-1], triangles)
    directed = np.concatenate([turned[:, [0, 1]], turned[:, [1, 2]], turned[:, [2, 0]]])
    key = directed[:, 0] * len(points) + directed[:, 1]
    if len(np.unique(key)) == len(key):
        return turned
    start = int(np.abs(volume).argmax())
    done, stack = {start}, [start]
    while stack:
        t = stack.pop()
        edges = {(turned[t, k], turned[t, (k + 1) % 3]) for k in range(3)}
        for n in hull.neighbors[t]:
            if n not in done:
                done.add(n)
                stack.append(n)
                if edges & {(turned[n, k], turned[n, (k + 1) % 3]) for k in range(3)}:
                    turned[n] = turned[n, ::-1]
    return turned


def _outlines(triangles: np.ndarray, group: np.ndarray) -> list[tuple[np.ndarray, int]]:
    """Return (loop, a triangle of it) for each group of triangles; a group with no single outline stays triangles."""
    faces = []
    order = np.argsort(group, kind="stable")
    for members in np.split(order, np.flatnonzero(np.diff(group[order])) + 1):
        loop = triangles[members[0]] if len(members) == 1 else _outline(triangles[members])
        if loop is None:
            faces += [(triangles[t], t) for t in members]
        else:
            faces.append((loop, members[0]))
    return faces


def _outline(triangles: np.ndarray) -> np.ndarray | None:
    edges = {(int(t[k]), int(t[(k + 1) % 3])) for t in triangles for k in range(3)}
    after = {}
    for a, b in edges:
        if (b, a) not in edges:
            if a in after:
                return None
            after[a] = b
    start = min(after, default=-1)
    loop, at = [start], after.get(start, start)
    while at != start and len(loop) <= len(after):
        loop.append(at)
        at = after[at]
    # an outline in several parts, such as one round a hole, is no face
    return np.array(loop) if len(loop) == len(after) and len(loop) >= 3 else None


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
