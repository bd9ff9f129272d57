"""What an artist says about the debris and dust that parting faces shed."""

from pydantic import BaseModel, ConfigDict, Field, model_validator

#: kinds of points, as frames hold them
CHIP, PUFF = 0, 1


class DebrisSettings(BaseModel):
    """How much is born where fragments part, and how it flies."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    chips: float = Field(60.0, ge=0, le=1e6, description="Chips born on a square metre of fresh face [1/m2]")
    dust: float = Field(40.0, ge=0, le=1e6, description="Dust puffs born on a square metre of fresh face [1/m2]")
    reach: float = Field(0.12, gt=0, le=10, description="A face has shed all it has once it has parted this far [m]")
    least_speed: float = Field(0.1, ge=0, le=100, description="Faces that part more slowly shed nothing [m/s]")
    spread: float = Field(0.5, ge=0, le=10, description="Random speed, as a share of the speed of parting")
    smallest: float = Field(0.008, gt=0, le=10, description="Smallest chip across [m]")
    largest: float = Field(0.05, gt=0, le=10, description="Largest chip across [m]")
    density: float = Field(1900.0, gt=0, le=3e4, description="Of the chips' matter [kg/m3]")
    life: float = Field(60.0, gt=0, le=1e5, description="Seconds a chip is kept [s]")
    puff_life: float = Field(0.35, gt=0, le=100, description="Seconds a puff gives off dust [s]")
    puff_mass: float = Field(0.006, gt=0, le=1e3, description="Dust in one puff [kg]")
    puff_radius: float = Field(0.25, gt=0, le=100, description="How far about its middle a puff gives off its dust [m]")
    restitution: float = Field(0.25, ge=0, le=1, description="Share of speed kept on a bounce")
    friction: float = Field(0.6, ge=0, le=5, description="Of a chip on a surface")
    substeps: int = Field(4, ge=1, le=64, description="Steps a frame")
    seed: int = Field(1, ge=0, le=2**31 - 1, description="Another number, other chips")

    @model_validator(mode="after")
    def _sizes(self):
        if self.smallest > self.largest:
            raise ValueError(
                f"smallest chip {self.smallest} m is larger than the largest, {self.largest} m: swap the two"
            )
        return self
