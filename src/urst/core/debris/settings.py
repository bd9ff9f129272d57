"""What an artist says about the debris and dust that parting faces shed."""

from typing import Annotated

from pydantic import BaseModel, ConfigDict, Field, model_validator

from urst.core.curves.varies import Number, Varies, most

#: kinds of points, as frames hold them
CHIP, PUFF = 0, 1


class DebrisSettings(BaseModel):
    """How much is born where fragments part, and how it flies."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)

    chips: Annotated[Number, Varies(("speed", "frame"), 0, 1e6)] = Field(
        60.0, description="Chips born on a square metre of fresh face [1/m2]; speed: of the parting"
    )
    dust: Annotated[Number, Varies(("speed", "frame"), 0, 1e6)] = Field(
        40.0, description="Dust puffs born on a square metre of fresh face [1/m2]; speed: of the parting"
    )
    reach: float = Field(0.12, gt=0, le=10, description="A face has shed all it has once it has parted this far [m]")
    least_speed: float = Field(0.1, ge=0, le=100, description="Faces that part more slowly shed nothing [m/s]")
    spread: float = Field(0.5, ge=0, le=10, description="Random speed, as a fraction of the speed of parting")
    smallest: float = Field(0.008, gt=0, le=10, description="Smallest chip across [m]")
    largest: float = Field(0.05, gt=0, le=10, description="Largest chip across [m]")
    density: float = Field(1900.0, gt=0, le=3e4, description="Of the chips' matter [kg/m3]")
    life: float = Field(60.0, gt=0, le=1e5, description="Seconds a chip is kept [s]")
    puff_life: float = Field(0.35, gt=0, le=100, description="Seconds a puff gives off dust [s]")
    puff_mass: float = Field(0.006, gt=0, le=1e3, description="Dust in one puff [kg]")
    puff_giving: Annotated[Number, Varies(("age",), 0, 1000)] = Field(
        1.0, description="How strongly a puff gives off over its age; its shape counts, the dust in all stays the same"
    )
    puff_radius: float = Field(0.25, gt=0, le=100, description="How far about its middle a puff gives off its dust [m]")
    restitution: Annotated[Number, Varies(("speed",), 0, 1)] = Field(
        0.25, description="Fraction of speed kept on a bounce; speed: of the impact"
    )
    friction: float = Field(0.6, ge=0, le=5, description="Of a chip on a surface")
    substeps: int = Field(4, ge=1, le=64, description="Steps a frame")
    seed: int = Field(1, ge=0, le=2**31 - 1, description="Another number, other chips")

    @model_validator(mode="after")
    def _sizes(self) -> "DebrisSettings":
        if not most(self.puff_giving) > 0.0:
            raise ValueError("puff giving is 0 at every age, so a puff would give nothing: raise one of its points")
        if self.smallest > self.largest:
            raise ValueError(
                f"smallest chip {self.smallest} m is larger than the largest, {self.largest} m: swap the two"
            )
        return self
