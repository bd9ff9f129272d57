"""Shapes of set pieces."""

import math
from functools import lru_cache
from typing import Annotated, Any, ClassVar, Literal

import numpy as np
from pydantic import Field, model_validator
from scipy.spatial import ConvexHull, QhullError

from urst.core.fracture.convex_parts import convex_parts
from urst.core.fracture.settings import MOST_PARTS
from urst.core.geometry import generators, shell
from urst.core.geometry.mesh import Mesh, mass_properties, open_edges
from urst.core.remembered import remembered
from urst.errors import BadMesh
from urst.scene import library
from urst.scene.part import Metres, Part


class Closed(Part):
    """What has a closed surface: solid, hollow or a void in something."""

    matter: Literal["solid", "hollow", "void"] = Field(
        "solid", description="What is matter: all within its surface, a wall along it, or a block about it"
    )
    wall: Metres = Field(0.02, description="Thickness of the wall, or of the block where it is thinnest [m]")
    grows: Literal["inward", "outward", "both ways"] = Field(
        "inward", description="To which side of the surface a wall lies"
    )

    def surfaces(self) -> list[Mesh]:
        """Return its closed surfaces."""
        raise NotImplementedError

    def walls(self) -> list[tuple[Mesh, Mesh]]:
        """Return the outer and the inner surface of each of its parts, where it is not solid.

        Raises
        ------
        BadMesh
            If the wall is too thick for the shape.
        """
        found = []
        for mesh in self.surfaces():
            if len(open_edges(mesh)):
                raise BadMesh("This surface is open, so it has no inside: close it, or let it be solid.")
            if self.matter == "void":
                low, high = mesh.bounds()
                found.append((generators.box_between(low - self.wall, high + self.wall), mesh))
                continue
            out = {"inward": 0.0, "outward": 1.0, "both ways": 0.5}[self.grows] * self.wall
            outer = shell.moved_in(mesh, -out) if out else mesh
            found.append((outer, shell.moved_in(mesh, self.wall - out) if out < self.wall else mesh))
        return found

    def meshes(self) -> list[Mesh]:
        if self.matter == "solid":
            return self.surfaces()
        # why it cannot be hollow is said by preflight; it is solid until then
        return [shell.between(outer, inner) for outer, inner in _walls(self)[0]] or self.surfaces()


class Box(Closed):
    """A box or slab: extents along x, y, z [m]."""

    kind: Literal["box"] = "box"
    width: Metres = 1.0
    depth: Metres = 1.0
    height: Metres = 1.0

    def surfaces(self) -> list[Mesh]:
        return generators.box(self.width, self.depth, self.height)


class BrickWall(Part):
    """A wall of bricks in running bond, one brick deep."""

    jointed: ClassVar[bool] = True
    kind: Literal["brick wall"] = "brick wall"
    width: Metres = 6.0
    depth: Metres = 0.25
    height: Metres = 4.0
    brick_length: Metres = 0.4
    course_height: Metres = 0.2

    @model_validator(mode="after")
    def _count(self) -> "BrickWall":
        if not math.isfinite(self.width / self.brick_length * (self.height / self.course_height)):
            raise ValueError("its bricks are too small for its size: use larger bricks")
        bricks = self.bricks()
        if bricks > MOST_PARTS:
            raise ValueError(f"the wall would have {bricks:,.0f} bricks, more than {MOST_PARTS:,}: use larger bricks")
        return self

    def bricks(self) -> int:
        """How many bricks it has."""
        return generators.wall_bricks(self.width, self.height, self.brick_length, self.course_height)[2]

    def meshes(self) -> list[Mesh]:
        return generators.brick_wall(self.width, self.depth, self.height, self.brick_length, self.course_height)


class Drum(Closed):
    """An upright prism of many sides: a drum, a column."""

    kind: Literal["drum"] = "drum"
    radius: Metres = 0.3
    height: Metres = 0.9
    sides: int = Field(14, ge=3, le=400)

    def surfaces(self) -> list[Mesh]:
        return generators.prism(self.radius, self.height, self.sides)


class Ball(Closed):
    """A ball: drawn with facets, rolling as round; as its facets where it is hollow."""

    kind: Literal["ball"] = "ball"
    radius: Metres = 0.5
    rings: int = Field(6, ge=3, le=64)

    def surfaces(self) -> list[Mesh]:
        return generators.ball(self.radius, self.rings)


class Ground(Part):
    """Level ground without an end: its top passes through the piece's place."""

    kind: Literal["ground"] = "ground"
    endless: ClassVar[bool] = True
    #: how far it reaches for what is solved: far enough for any shot, near enough for 64-bit numbers [m]
    reach: ClassVar[float] = 4000.0

    def meshes(self) -> list[Mesh]:
        r = self.reach
        return [generators.box_between((-r, -r, -0.1 * r), (r, r, 0.0))]


class Terrain(Part):
    """Rolling ground, an open sheet."""

    kind: Literal["terrain"] = "terrain"
    width: Metres = 40.0
    depth: Metres = 40.0
    relief: Metres = Field(2.0, description="From its lowest to its highest point [m]")
    feature: Metres = Field(15.0, description="Length of its longest waves [m]")
    cells: int = Field(32, ge=2, le=128, description="Squares along its longer side")
    seed: int = Field(1, ge=0, le=2**31 - 1, description="Another number, other hills")

    def meshes(self) -> list[Mesh]:
        return generators.terrain(self.width, self.depth, self.relief, self.feature, self.cells, self.seed)


class Imported(Closed):
    """A mesh brought from a file; the document names it by the hash of its content, a library keeps it."""

    kind: Literal["mesh"] = "mesh"
    source: str = Field("", max_length=200, description="Name of the file it came from")
    mesh: str = Field(pattern=r"^[0-9a-f]{40}$", description="Hash of its points and triangles")

    @classmethod
    def from_mesh(cls, mesh: Mesh, source: str = "") -> "Imported":
        """Put a mesh into the library."""
        return cls(source=source, mesh=library.put(mesh))

    def surfaces(self) -> list[Mesh]:
        return [library.get(self.mesh, self.source)]


#: convex parts of what only holds liquid at most, and when one of them is convex enough
_CLOSE_PARTS, _CLOSE = 256, 2e-4
#: triangles of all the shapes that each of these functions remembers, and what a shape weighs beside them
MOST_REMEMBERED, _ALONE = 10_000_000, 100

Shape = Annotated[Box | BrickWall | Drum | Ball | Ground | Terrain | Imported, Field(discriminator="kind")]


@remembered(MOST_REMEMBERED, lambda _, found: _ALONE + sum(len(m.triangles) for m in found))
def meshes(shape: Shape) -> tuple[Mesh, ...]:
    """Return the meshes of a shape before it is placed.

    Raises
    ------
    BadFile
        If an imported mesh is damaged.
    """
    return tuple(shape.meshes())


@remembered(MOST_REMEMBERED, lambda _, found: _ALONE + sum(len(c) for c in found))
def corners(shape: Shape) -> tuple[np.ndarray, ...]:
    """Of each part of a shape, few points (n, 3) that have the same convex hull; all of a flat one [m]."""
    return tuple(_spanning(m.vertices) for m in meshes(shape) if len(m.vertices))


def _spanning(points: np.ndarray) -> np.ndarray:
    if len(points) <= 8:
        return points
    try:
        return points[ConvexHull(points).vertices]
    except (QhullError, ValueError):
        return points


@lru_cache(maxsize=20_000)
def is_sheet(shape: Shape) -> bool:
    """Whether a shape encloses nothing: an open mesh, or one that is flat or turned inside out."""
    if not isinstance(shape, Terrain | Imported):
        return False
    return any(len(open_edges(m)) for m in meshes(shape)) or 0.0 in volumes(shape)


@remembered(MOST_REMEMBERED, lambda _, found: _ALONE + sum(len(m.triangles) for m, _ in found))
def parts(shape: Shape) -> tuple[tuple[Mesh, np.ndarray], ...]:
    """Return what a closed shape collides as: nearly convex meshes, and which of their triangles lie on cuts between
    them."""
    found = [part for outer, inner in _walls(shape)[0] for part in _wall(outer, inner)]
    if found:
        return tuple(found)
    for mesh in meshes(shape):
        whole = [(mesh, np.zeros(len(mesh.triangles), bool))]
        try:
            found += convex_parts(mesh) if isinstance(shape, Imported) else whole
        except BadMesh:
            # said by preflight; it collides as its hull then
            found += whole
    return tuple(found)


@remembered(MOST_REMEMBERED, lambda _, found: _ALONE + sum(len(m.triangles) for m, _ in found))
def close_parts(shape: Shape) -> tuple[tuple[Mesh, np.ndarray], ...]:
    """Return the same, closer to a mesh that was brought in: for what only holds liquid."""
    if not is_cut(shape) or is_hollow(shape):
        return parts(shape)
    return tuple(part for mesh in meshes(shape) for part in convex_parts(mesh, _CLOSE_PARTS, _CLOSE))


def _wall(outer: Mesh, inner: Mesh) -> list[tuple[Mesh, np.ndarray]]:
    """Convex parts of what lies between two surfaces; what is seen is the whole."""
    if len(outer.triangles) == len(inner.triangles) or shell.is_convex(inner):
        found = shell.wall_parts(outer, inner)
    else:
        found = [m for m, _ in convex_parts(shell.between(outer, inner))]
    return [(m, np.zeros(len(m.triangles), bool)) for m in found]


def is_hollow(shape: Shape) -> bool:
    """Whether there is room within a shape."""
    return isinstance(shape, Closed) and shape.matter != "solid"


@remembered(MOST_REMEMBERED, lambda _, found: _ALONE + sum(len(m.triangles) for pair in found[0] for m in pair))
def _walls(shape: Any) -> tuple[tuple[tuple[Mesh, Mesh], ...], str]:
    """The outer and inner surfaces of a hollow shape, and why there are none if it cannot be one."""
    try:
        return (tuple(shape.walls()) if is_hollow(shape) else ()), ""
    except BadMesh as error:
        return (), str(error)


def no_room(shape: Shape) -> str:
    """Return why a hollow shape cannot be one, empty if it can."""
    return _walls(shape)[1]


@remembered(MOST_REMEMBERED, lambda _, found: _ALONE + sum(len(m.triangles) for m in found))
def rooms(shape: Shape) -> tuple[Mesh, ...]:
    """Return convex parts of the room within a hollow shape."""
    return tuple(part for _, inner in _walls(shape)[0] for part, _ in convex_parts(inner))


def is_cut(shape: Shape) -> bool:
    """Whether a shape is one body of several convex parts."""
    return is_hollow(shape) or (isinstance(shape, Imported) and not is_sheet(shape) and len(parts(shape)) > 1)


def ball_radius(shape: Shape) -> float:
    """Return the radius of what rolls as a ball [m], 0 for all else."""
    return shape.radius if isinstance(shape, Ball) and not is_hollow(shape) else 0.0


def is_endless(shape: Shape) -> bool:
    """Whether a shape has no end."""
    return getattr(shape, "endless", False)


def is_jointed(shape: Shape) -> bool:
    """Whether a shape's parts are laid in mortar."""
    return getattr(shape, "jointed", False)


@lru_cache(maxsize=20_000)
def volumes(shape: Shape) -> tuple[float, ...]:
    """Volume of each part of a shape [m3], 0 where it encloses none."""
    found = []
    for mesh in meshes(shape):
        try:
            found.append(mass_properties(mesh).volume)
        except BadMesh:
            # said by preflight; a forecast goes on without it
            found.append(0.0)
    return tuple(found)


@lru_cache(maxsize=20_000)
def displaced(shape: Shape) -> float:
    """Volume that a shape takes up, the room within it included [m3], 0 where it encloses none."""
    outer = sum(mass_properties(m).volume for m, _ in _walls(shape)[0])
    return outer or sum(volumes(shape))


@lru_cache(maxsize=20_000)
def room(shape: Shape) -> float:
    """Volume that can be filled in a shape: that within a hollow one, all of a solid one [m3]."""
    return displaced(shape) - sum(volumes(shape)) if is_hollow(shape) else sum(volumes(shape))


def count(shape: Shape) -> int:
    """How many parts a shape has."""
    return len(meshes(shape))
