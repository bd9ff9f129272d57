"""The shot: the one document that everything is a function of.

SI units throughout, z up. A shot is read from and written to `*.shot.json`; its JSON Schema is published in docs/.
"""

import base64
import json
import zlib
from typing import Annotated, Literal, get_args

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, ValidationError, field_validator, model_validator

from urst.core.debris.settings import DebrisSettings
from urst.core.fracture.settings import FractureSettings
from urst.core.gas.settings import GasSettings
from urst.core.geometry.mesh import Mesh
from urst.core.materials import MATERIALS
from urst.core.rigid.settings import RigidSettings
from urst.errors import BadFile, BadValue

FORMAT = "urst-shot/1"

Vector = tuple[float, float, float]
Metres = Annotated[float, Field(gt=0, le=1e5)]
Name = Annotated[str, Field(min_length=1, max_length=80)]
Slug = Annotated[str, Field(pattern=r"^[a-z][a-z0-9-]{0,39}$")]


class _Part(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)


class Box(_Part):
    """A box or slab: extents along x, y, z [m]."""

    kind: Literal["box"] = "box"
    width: Metres = 1.0
    depth: Metres = 1.0
    height: Metres = 1.0


class BrickWall(_Part):
    """A wall of bricks in running bond, one brick deep."""

    kind: Literal["brick wall"] = "brick wall"
    width: Metres = 6.0
    depth: Metres = 0.25
    height: Metres = 4.0
    brick_length: Metres = 0.4
    course_height: Metres = 0.2

    @model_validator(mode="after")
    def _count(self):
        bricks = self.width / self.brick_length * self.height / self.course_height
        if bricks > 20_000:
            raise ValueError(f"the wall would have {bricks:,.0f} bricks, more than 20,000: use larger bricks")
        return self


class Drum(_Part):
    """An upright prism of many sides: a drum, a column."""

    kind: Literal["drum"] = "drum"
    radius: Metres = 0.3
    height: Metres = 0.9
    sides: int = Field(14, ge=3, le=40)


class Ball(_Part):
    """A faceted ball."""

    kind: Literal["ball"] = "ball"
    radius: Metres = 0.5
    rings: int = Field(6, ge=3, le=16)


class Imported(_Part):
    """A mesh brought from a file, kept inside the document so that nothing that matters lies outside it."""

    kind: Literal["mesh"] = "mesh"
    source: str = Field("", max_length=200, description="Name of the file it came from")
    vertices: str = Field(description="base64 of zlib of float64 x, y, z, little endian")
    triangles: str = Field(description="base64 of zlib of int32 index triples, little endian")

    @classmethod
    def from_mesh(cls, mesh: Mesh, source: str = "") -> "Imported":
        """Pack a mesh."""
        pack = lambda a: base64.b64encode(zlib.compress(np.ascontiguousarray(a).tobytes(), 6)).decode()  # noqa: E731
        return cls(
            source=source, vertices=pack(mesh.vertices.astype("<f8")), triangles=pack(mesh.triangles.astype("<i4"))
        )

    def mesh(self) -> Mesh:
        """Unpack the mesh."""
        try:
            vertices = np.frombuffer(zlib.decompress(base64.b64decode(self.vertices)), "<f8").reshape(-1, 3)
            triangles = np.frombuffer(zlib.decompress(base64.b64decode(self.triangles)), "<i4").reshape(-1, 3)
        except (ValueError, zlib.error) as error:
            raise BadFile(
                f"The mesh kept under '{self.source}' is damaged ({error}): import the file again."
            ) from error
        return Mesh(vertices.astype(float), triangles.astype(np.int64))


Shape = Annotated[Box | BrickWall | Drum | Ball | Imported, Field(discriminator="kind")]


class Key(_Part):
    """Where a driven piece is at a frame."""

    frame: float
    position: Vector
    rotation: Vector = Field((0.0, 0.0, 0.0), description="Turns about x, y, z [deg]")


class SetPiece(_Part):
    """One thing in the set."""

    name: Name
    shape: Shape
    position: Vector = Field((0.0, 0.0, 0.0), description="Where the middle of its base stands [m]")
    rotation: Vector = Field((0.0, 0.0, 0.0), description="Turns about x, y, z [deg]")
    material: str = "concrete"
    density: float | None = Field(None, gt=0, le=3e4, description="Instead of the material's [kg/m3]")
    friction: float | None = Field(None, ge=0, le=5, description="Instead of the material's")
    restitution: float | None = Field(None, ge=0, le=1, description="Instead of the material's")
    motion: Literal["fixed", "driven", "loose"] = "loose"
    bonded: bool = Field(True, description="Whether bonds may join it to what it touches")
    velocity: Vector = Field((0.0, 0.0, 0.0), description="At the start [m/s]")
    spin: Vector = Field((0.0, 0.0, 0.0), description="At the start [rad/s]")
    keys: tuple[Key, ...] = Field((), description="Path of a driven piece")

    @field_validator("material")
    @classmethod
    def _known(cls, value):
        if value not in MATERIALS:
            raise ValueError(f"'{value}' is not a material; there are: {', '.join(MATERIALS)}")
        return value

    @model_validator(mode="after")
    def _path(self):
        if self.motion == "driven" and not self.keys:
            raise ValueError(f"'{self.name}' is driven but has no keys: give at least one frame and position")
        frames = [k.frame for k in self.keys]
        if any(b <= a for a, b in zip(frames, frames[1:])):
            raise ValueError(f"the keys of '{self.name}' are out of order: their frames must rise")
        return self

    def bulk(self) -> tuple[float, float, float]:
        """Return density [kg/m3], friction and restitution in force."""
        base = MATERIALS[self.material]
        pick = lambda own, other: other if own is None else own  # noqa: E731
        return (
            pick(self.density, base.density),
            pick(self.friction, base.friction),
            pick(self.restitution, base.restitution),
        )


class Link(_Part):
    """What a layer takes from another."""

    layer: Slug
    both_ways: bool = Field(False, description="Each acts on the other; they are then stepped together")
    exaggeration: float = Field(1.0, ge=0, le=100, description="1 is physical; acts where both act on each other")

    @model_validator(mode="after")
    def _acts(self):
        if self.exaggeration != 1.0 and not self.both_ways:
            raise ValueError(
                f"exaggeration {self.exaggeration:g} of the link to '{self.layer}' has nothing to act on: "
                "it exaggerates what two layers do to each other, so let the link act both ways or leave it at 1"
            )
        return self


class _Layer(_Part):
    id: Slug
    name: Name
    reads: tuple[Link, ...] = ()


class BreakLayer(_Layer):
    """Fracture."""

    kind: Literal["break"] = "break"
    settings: FractureSettings


class FallLayer(_Layer):
    """Rigid bodies."""

    kind: Literal["fall"] = "fall"
    settings: RigidSettings = RigidSettings()


class ShedLayer(_Layer):
    """Debris and dust from parting faces."""

    kind: Literal["shed"] = "shed"
    settings: DebrisSettings = DebrisSettings()


class BillowLayer(_Layer):
    """Dust and smoke in the air."""

    kind: Literal["billow"] = "billow"
    settings: GasSettings = GasSettings()


Layer = Annotated[BreakLayer | FallLayer | ShedLayer | BillowLayer, Field(discriminator="kind")]

#: the kinds each kind may read, and whether it must
READS: dict[str, dict[str, bool]] = {
    "break": {},
    "fall": {"break": False},
    "shed": {"fall": True},
    "billow": {"fall": False, "shed": True},
}


class Cue(_Part):
    """A named moment."""

    name: Name
    frame: int


class Camera(_Part):
    """Where the shot is seen from."""

    name: Name = "main"
    eye: Vector = (9.0, -11.0, 4.0)
    target: Vector = (0.0, 0.0, 1.8)
    lens: float = Field(35.0, ge=5, le=1000, description="Focal length on a 36 mm film back [mm]")

    @model_validator(mode="after")
    def _apart(self):
        if self.eye == self.target:
            raise ValueError(f"the eye is where it looks at, {self.eye}: move one of the two")
        return self


class Shot(_Part):
    """A shot: range, set, layers."""

    format: Literal["urst-shot/1"] = FORMAT
    name: Name
    note: str = Field("", max_length=2000)
    start: int = Field(1, ge=-100_000, le=1_000_000, description="First frame")
    end: int = Field(96, ge=-100_000, le=1_000_000, description="Last frame")
    rate: float = Field(24.0, gt=0, le=1000, description="Frames a second [1/s]")
    gravity: Vector = Field((0.0, 0.0, -9.81), description="[m/s2]")
    pieces: tuple[SetPiece, ...] = ()
    layers: tuple[Layer, ...] = ()
    cues: tuple[Cue, ...] = ()
    camera: Camera = Camera()

    @model_validator(mode="after")
    def _consistent(self):
        if self.end < self.start:
            raise ValueError(f"end {self.end} is before start {self.start}: the last frame must not precede the first")
        _distinct([p.name for p in self.pieces], "set pieces")
        _distinct([layer.id for layer in self.layers], "layers")
        names, by_id = {p.name for p in self.pieces}, {layer.id: layer for layer in self.layers}
        for layer in self.layers:
            for link in layer.reads:
                if link.layer not in by_id:
                    raise ValueError(
                        f"layer '{layer.name}' reads '{link.layer}', which is not in the shot: add or unlink it"
                    )
                kind = by_id[link.layer].kind
                if kind not in READS[layer.kind] and not _reaches(by_id, link.layer, layer.id):
                    allowed = ", ".join(READS[layer.kind]) or "no other layer"
                    raise ValueError(
                        f"layer '{layer.name}' ({layer.kind}) cannot read a {kind} layer; it reads {allowed}"
                    )
            if layer.kind == "break":
                missing = [p for p in layer.settings.pieces if p not in names]
                if missing:
                    raise ValueError(
                        f"layer '{layer.name}' breaks '{missing[0]}', which is no set piece: name one of the set"
                    )
        broken = [p for layer in self.layers if layer.kind == "break" for p in layer.settings.pieces]
        _distinct(broken, "broken pieces (each piece is broken by one layer)")
        _no_cycle(by_id)
        for layer in self.layers:
            have = {by_id[link.layer].kind for link in layer.reads}
            for kind, needed in READS[layer.kind].items():
                if needed and kind not in have:
                    raise ValueError(f"layer '{layer.name}' ({layer.kind}) must read a {kind} layer: link it to one")
        return self

    def layer(self, layer_id: str):
        """Return the layer with this id.

        Raises
        ------
        BadValue
            If there is none.
        """
        for layer in self.layers:
            if layer.id == layer_id:
                return layer
        raise BadValue(f"The shot has no layer '{layer_id}'; it has {', '.join(x.id for x in self.layers) or 'none'}.")

    def frames(self) -> range:
        """Return the frame numbers."""
        return range(self.start, self.end + 1)

    def seconds(self, frame: float) -> float:
        """Return the time of a frame [s], 0 at the first."""
        return (frame - self.start) / self.rate


def _distinct(names, what):
    seen = set()
    for name in names:
        if name in seen:
            raise ValueError(f"two {what} are called '{name}': names must differ")
        seen.add(name)


def _reaches(by_id, start, goal):
    seen, stack = set(), [start]
    while stack:
        here = stack.pop()
        if here == goal:
            return True
        if here not in seen and here in by_id:
            seen.add(here)
            stack += [link.layer for link in by_id[here].reads]
    return False


def _no_cycle(by_id):
    for start, layer in by_id.items():
        for link in layer.reads:
            if not link.both_ways and _reaches(by_id, link.layer, start):
                raise ValueError(
                    f"layers '{layer.name}' and '{by_id[link.layer].name}' read each other in a circle: "
                    "remove one link, or make it act both ways"
                )


def explain(error: ValidationError) -> str:
    """One sentence for the first fault in a document: field, value, what is allowed."""
    first = error.errors()[0]
    where = " > ".join(_plain(part) for part in first["loc"] if not _is_tag(part)) or "shot"
    text = first["msg"].removeprefix("Value error, ")
    shown = first.get("input")
    if first["type"] == "value_error" or isinstance(shown, (dict, list, tuple)) or shown is None:
        return f"{where}: {text}."
    return f"{where}: {shown!r} is not allowed; {text[0].lower()}{text[1:]}."


def _plain(part):
    return f"no. {part + 1}" if isinstance(part, int) else str(part).replace("_", " ")


#: kinds of layers and shapes, which the validator names on its way to a field
_TAGS = {m.model_fields["kind"].default for union in (Layer, Shape) for m in get_args(get_args(union)[0])}


def _is_tag(part):
    return part in _TAGS


def parse(data: dict) -> Shot:
    """Validate a document.

    Raises
    ------
    BadValue
        With one sentence that names the field, the value and the allowed range.
    """
    try:
        return Shot.model_validate(data)
    except ValidationError as error:
        raise BadValue(explain(error)) from error


def loads(text: str | bytes, source: str = "the file") -> Shot:
    """Read a shot from the text of a `*.shot.json`."""
    try:
        data = json.loads(text)
    except (ValueError, UnicodeDecodeError) as error:
        raise BadFile(
            f"{source} is not complete JSON ({error}): it may have been cut short; take an earlier copy."
        ) from error
    if not isinstance(data, dict) or data.get("format") != FORMAT:
        raise BadFile(f"{source} is not a shot: its 'format' must be '{FORMAT}'.")
    return parse(data)


def dumps(shot: Shot) -> str:
    """Write a shot as the text of a `*.shot.json`."""
    return json.dumps(shot.model_dump(mode="json"), indent=1) + "\n"
