"""Fragments: the bodies that a break makes and that fall, with their mass, their stand-ins and their skins."""

from dataclasses import dataclass, fields, replace

import numpy as np

from urst.core.geometry.convex import Hulls, Polyhedron, hull_of, pack
from urst.core.geometry.mesh import Mesh, mass_properties


@dataclass(frozen=True)
class Fragments:
    """`n` fragments, each in coordinates about its own centre of mass."""

    piece: np.ndarray
    """(n,) int64: which set piece it was cut from"""
    part: np.ndarray
    """(n,) int64: which part, such as which brick, it was cut from; parts of one piece differ"""
    centre: np.ndarray
    """(n, 3) float64 [m]: centre of mass where the set stands"""
    volume: np.ndarray
    """(n,) float64 [m3], of the exact shape"""
    inertia: np.ndarray
    """(n, 3, 3) float64 [m5], about the centre, for unit density"""
    ball: np.ndarray
    """(n,) float64 [m]: radius of what is a ball, 0 for all else; its hull and its skin are faceted"""
    whole: np.ndarray
    """(n,) int64: the same for convex parts of one fragment that is hollow or bent, which never part; -1 for all
    else"""
    hulls: Hulls
    """the convex stand-ins that collide; the shape itself where that is convex"""
    skin: np.ndarray
    """(s, 3, 3) float32 [m]: triangles of the exact shapes, corner by corner"""
    skin_start: np.ndarray
    """(n + 1,) int64"""
    inner: np.ndarray
    """(s,) uint8: 1 where a triangle lies on a crack"""

    def __len__(self) -> int:
        return len(self.piece)

    def to_arrays(self) -> dict[str, np.ndarray]:
        """Return everything as named arrays, for the store."""
        arrays = {f.name: getattr(self, f.name) for f in fields(self) if f.name != "hulls"}
        return arrays | {f"hull_{name}": getattr(self.hulls, name) for name in Hulls._fields}

    @classmethod
    def from_arrays(cls, arrays: dict[str, np.ndarray]) -> "Fragments":
        """Rebuild from what `to_arrays` returned."""
        hulls = Hulls(**{name: arrays[f"hull_{name}"] for name in Hulls._fields})
        plain = {f.name: arrays[f.name] for f in fields(cls) if f.name != "hulls"}
        return cls(hulls=hulls, **plain)

    def arms(self) -> np.ndarray:
        """Return the way from each fragment's centre to that of the whole it is a part of (n, 3) [m], where the set
        stands."""
        found = np.zeros((len(self), 3))
        for one in np.unique(self.whole[self.whole >= 0]):
            mine = self.whole == one
            found[mine] = np.average(self.centre[mine], axis=0, weights=self.volume[mine]) - self.centre[mine]
        return found

    def only(self, numbers: np.ndarray) -> "Fragments":
        """Return some of the fragments, in the order given."""
        numbers = np.asarray(numbers, np.int64)
        h = self.hulls
        corner, vertex_start = _ragged(h.vertex_start, numbers)
        face, face_start = _ragged(h.face_start, numbers)
        loop, loop_start = _ragged(h.loop_start, face)
        edge, edge_start = _ragged(h.edge_start, numbers)
        skin, skin_start = _ragged(self.skin_start, numbers)
        hulls = Hulls(
            h.vertices[corner],
            vertex_start,
            h.planes[face],
            face_start,
            h.loops[loop],
            loop_start,
            h.edges[edge],
            edge_start,
        )
        plain = {f.name: getattr(self, f.name)[numbers] for f in fields(self)[:7]}
        return Fragments(**plain, hulls=hulls, skin=self.skin[skin], skin_start=skin_start, inner=self.inner[skin])

    def of_pieces(self, piece: np.ndarray) -> "Fragments":
        """Return the same fragments under other piece numbers (n,)."""
        return replace(self, piece=np.asarray(piece, np.int64))

    def world_hulls(self) -> Hulls:
        """Return the stand-ins where the set stands."""
        h = self.hulls
        vertices = h.vertices + np.repeat(self.centre, np.diff(h.vertex_start), axis=0)
        planes = h.planes.copy()
        shift = np.repeat(self.centre, np.diff(h.face_start), axis=0)
        planes[:, 3] += np.einsum("ij,ij->i", planes[:, :3], shift)
        return Hulls(vertices, h.vertex_start, planes, h.face_start, h.loops, h.loop_start, h.edges, h.edge_start)


def _ragged(start: np.ndarray, numbers: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Items of some of many runs, and where each run then starts."""
    size = np.diff(start)[numbers]
    begin = np.concatenate([[0], np.cumsum(size)]).astype(np.int64)
    return np.repeat(start[numbers] - begin[:-1], size) + np.arange(begin[-1]), begin


@dataclass(frozen=True)
class Solid:
    """One piece of matter on its way to become a fragment, in set coordinates."""

    piece: int
    mesh: Mesh
    inner: np.ndarray
    """(t,) bool for each triangle of `mesh`"""
    hull: Polyhedron | None = None
    """its convex stand-in, where that is known: its own faces if it is convex"""
    part: int = 0
    """tells the parts of a piece apart, such as its bricks"""
    skin: Mesh | None = None
    """what is seen of it, where that is not `mesh`"""
    ball: float = 0.0
    """its radius, where `mesh` stands for a ball [m]"""
    whole: int = -1
    """tells which fragment it is a part of; -1: it is one itself"""


def assemble(solids: list[Solid]) -> Fragments:
    """Turn solids into fragments with mass properties, stand-ins and skins."""
    centres, volumes, inertias, shapes, skins, inner = [], [], [], [], [], []
    for solid in solids:
        mass = mass_properties(solid.mesh)
        shape = solid.hull or hull_of(solid.mesh.vertices)
        shapes.append(Polyhedron(shape.vertices - mass.centroid, shape.loops, shape.normals))
        centres.append(mass.centroid)
        volume = 4.0 / 3.0 * np.pi * solid.ball**3
        volumes.append(volume or mass.volume)
        inertias.append(0.4 * volume * solid.ball**2 * np.eye(3) if solid.ball else mass.inertia)
        seen = solid.skin or solid.mesh
        skins.append((seen.vertices - mass.centroid)[seen.triangles])
        inner.append(solid.inner)
    count = [len(s) for s in skins]
    return Fragments(
        piece=np.array([s.piece for s in solids], np.int64),
        part=np.array([s.part for s in solids], np.int64),
        centre=np.array(centres).reshape(-1, 3),
        volume=np.array(volumes),
        inertia=np.array(inertias).reshape(-1, 3, 3),
        ball=np.array([s.ball for s in solids], float),
        whole=np.array([s.whole for s in solids], np.int64),
        hulls=pack(shapes),
        skin=np.concatenate(skins).astype(np.float32) if skins else np.zeros((0, 3, 3), np.float32),
        skin_start=np.concatenate([[0], np.cumsum(count)]).astype(np.int64),
        inner=np.concatenate(inner).astype(np.uint8) if inner else np.zeros(0, np.uint8),
    )


def joined(sets: list[Fragments]) -> Fragments:
    """Put several sets of fragments into one."""
    chain = lambda name: np.concatenate([getattr(s, name) for s in sets])  # noqa: E731
    hull = lambda name: np.concatenate([getattr(s.hulls, name) for s in sets])  # noqa: E731

    def starts(parts: list[np.ndarray]) -> np.ndarray:
        base = np.cumsum([0] + [p[-1] for p in parts[:-1]])
        return np.concatenate([[0], *(p[1:] + b for p, b in zip(parts, base))]).astype(np.int64)

    packed = {
        name: starts([getattr(s.hulls, name) for s in sets]) if name.endswith("_start") else hull(name)
        for name in Hulls._fields
    }
    before = np.cumsum([0, *(int(s.whole.max(initial=-1)) + 1 for s in sets)])
    return Fragments(
        skin_start=starts([s.skin_start for s in sets]),
        hulls=Hulls(**packed),
        whole=np.concatenate([np.where(s.whole < 0, -1, s.whole + b) for s, b in zip(sets, before)]),
        **{f.name: chain(f.name) for f in fields(Fragments) if f.name not in ("skin_start", "hulls", "whole")},
    )
