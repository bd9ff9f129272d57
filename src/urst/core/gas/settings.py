"""What an artist says about dust and smoke in the air."""

from typing import Annotated

from pydantic import BaseModel, ConfigDict, Field, model_validator

from urst.core.curves.varies import Number, Varies
from urst.core.fields import domain
from urst.core.ranges import Vector

Corner = Vector


class GasSettings(BaseModel):
    """Where the air is solved and how the dust in it behaves."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)

    cell_size: float = Field(0.12, gt=0, le=1000, description="Edge of a cell [m]")
    low: Corner = Field((-4.0, -4.0, -0.5), description="Least corner of the domain [m]")
    high: Corner = Field((4.0, 4.0, 5.0), description="Greatest corner of the domain [m]")
    weight: Annotated[Number, Varies(("frame",), -100, 100)] = Field(
        1.0, description="How heavy the dust makes the air; 1 is real"
    )
    heat: Annotated[Number, Varies(("frame",), -200, 2000)] = Field(
        0.0, description="Warmth of fresh dust over the air [K]; hot dust rises"
    )
    clearing: Annotated[Number, Varies(("frame",), 0, 1e5, above=True)] = Field(
        8.0, description="Seconds until a twentieth of the dust is left [s]"
    )
    swirl: Annotated[Number, Varies(("frame", "height"), 0, 10)] = Field(
        0.1, description="Vorticity given back against the grid's damping"
    )
    push: Annotated[Number, Varies(("frame",), 0, 100)] = Field(
        1.0, description="How hard flying points drag the air; 1 is real"
    )
    wind: Corner = Field((0.0, 0.0, 0.0), description="Air moving in from outside [m/s]")
    sharp: bool = Field(True, description="Carry fields with second-order correction")
    tolerance: float = Field(1e-4, gt=1e-7, le=0.1, description="Share of the divergence left in the pressure solve")
    most_substeps: int = Field(4, ge=1, le=64, description="Most steps a frame for fast air")

    @model_validator(mode="after")
    def _box(self):
        domain.check(self, 200_000_000)
        return self

    def shape(self) -> tuple[int, int, int]:
        """Return the cells along x, y, z; see `domain.shape`."""
        return domain.shape(self)

    def cells(self) -> int:
        """Return the number of cells."""
        nx, ny, nz = self.shape()
        return nx * ny * nz
