"""Set pieces: what stands in the shot, of what, and how it moves."""

from typing import Any, Literal

from pydantic import Field, field_validator, model_validator

from urst.core.ranges import Vector
from urst.scene.materials import MATERIALS
from urst.scene.part import Name, Part
from urst.scene.shapes import Shape, is_endless

Motion = Literal["fixed", "driven", "loose"]


#: the greatest numbers that are taken of each kind, and what they are of
_MOST = {"position": (1e6, "m"), "velocity": (1e5, "m/s"), "spin": (1e5, "rad/s"), "frame": (1e6, "frames")}


def _within(
    value: float | tuple[float, float, float] | list[float], name: str
) -> float | tuple[float, float, float] | list[float]:
    most, unit = _MOST[name]
    for x in value if isinstance(value, (list, tuple)) else [value]:
        if isinstance(x, (int, float)) and not abs(x) <= most:
            raise ValueError(f"{x:g} is out of bounds: it may be {-most:g} to {most:g} {unit}")
    return value


class Key(Part):
    """Where a driven piece is at a frame, counted at full speed: a time scale slows the path with all else."""

    frame: float = Field(ge=-1e6, le=1e6)
    position: Vector
    rotation: Vector = Field((0.0, 0.0, 0.0), description="Turns about x, y, z [deg]")
    going: Literal["through", "stop", "straight"] = Field(
        "through",
        description="Goes through it smoothly, comes to rest there, or goes on straight and evenly to the next",
    )

    @field_validator("position", "frame", mode="before")
    @classmethod
    def _bounded(
        cls, value: float | tuple[float, float, float] | list[float], info: Any
    ) -> float | tuple[float, float, float] | list[float]:
        return _within(value, info.field_name)


class SetPiece(Part):
    """One thing in the set."""

    name: Name
    shape: Shape
    tags: tuple[Name, ...] = Field((), max_length=64, description="Words by which several pieces are meant at once")
    position: Vector = Field((0.0, 0.0, 0.0), description="Where the middle of its base stands [m]")
    rotation: Vector = Field((0.0, 0.0, 0.0), description="Turns about x, y, z [deg]")
    material: Name = "concrete"
    density: float | None = Field(None, gt=0, le=3e4, description="Instead of the material's [kg/m3]")
    friction: float | None = Field(None, ge=0, le=5, description="Instead of the material's")
    restitution: float | None = Field(None, ge=0, le=1, description="Instead of the material's")
    rolling: float | None = Field(
        None, ge=0, le=1, description="Rolling resistance as a ball, instead of the material's"
    )
    compression: float | None = Field(
        None,
        gt=0,
        le=1e12,
        description="Compressive strength, instead of the material's: beyond it bonds are crushed, and so is what "
        "something driven squeezes [Pa]",
    )
    motion: Motion = "loose"
    force: float = Field(
        0.0,
        ge=0,
        le=1e12,
        description="Greatest force of a driven piece: what takes more stalls it, and it goes on along its path when "
        "that gives way; 0: whatever it takes [N]",
    )
    bonded: bool = Field(True, description="Whether bonds may join it to what it touches")
    holds: float = Field(
        1.0,
        gt=0,
        le=1e4,
        description="Its bonds bear so many times what the layer says; between two pieces the lesser counts",
    )
    elongation: float | None = Field(
        None,
        ge=0,
        le=1,
        description="Stretch of its bonds before they part, as a fraction; empty: the layer's; the lesser counts",
    )
    velocity: Vector = Field((0.0, 0.0, 0.0), description="At the start [m/s]")
    spin: Vector = Field((0.0, 0.0, 0.0), description="At the start [rad/s]")
    keys: tuple[Key, ...] = Field((), max_length=20_000, description="Path of a driven piece")
    heads: bool = Field(False, description="Whether a driven piece turns along its path")

    @field_validator("material")
    @classmethod
    def _known(cls, value: str) -> str:
        if value not in MATERIALS:
            raise ValueError(f"'{value}' is not a material; there are: {', '.join(MATERIALS)}")
        return value

    @field_validator("position", "velocity", "spin", mode="before")
    @classmethod
    def _bounded(cls, value: Any, info: Any) -> Any:
        return _within(value, info.field_name)

    @model_validator(mode="after")
    def _path(self) -> "SetPiece":
        if self.motion == "driven" and not self.keys:
            raise ValueError(f"'{self.name}' is driven but has no keys: give at least one frame and position")
        if is_endless(self.shape) and self.motion != "fixed":
            raise ValueError(f"'{self.name}' has no end, so it cannot be {self.motion}: let it be fixed")
        frames = [k.frame for k in self.keys]
        if any(b <= a for a, b in zip(frames, frames[1:])):
            raise ValueError(f"the keys of '{self.name}' are out of order: their frames must rise")
        return self

    def bulk(self) -> tuple[float, float, float, float, float]:
        """Return density [kg/m3], friction, restitution, rolling resistance and compressive strength [Pa] in force."""
        base = MATERIALS[self.material]
        pick = lambda own, other: other if own is None else own  # noqa: E731
        return (
            pick(self.density, base.density),
            pick(self.friction, base.friction),
            pick(self.restitution, base.restitution),
            pick(self.rolling, base.rolling),
            pick(self.compression, base.compression),
        )
