"""What an artist says about the air, and the dust and smoke in it."""

from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field, model_validator

from urst.core.air import DUST_EXTINCTION
from urst.core.curves.varies import Number, Varies
from urst.core.fields import domain
from urst.core.ranges import Vector

Corner = Vector


class Scalar(BaseModel):
    """One thing that the air carries."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)

    name: Annotated[str, Field(pattern=r"^[a-z][a-z0-9_]{0,39}$")] = Field(
        description="As frames and files that are handed over have it; other programs look for 'density' and "
        "'temperature'. Small letters, digits and _"
    )
    measure: Literal["concentration", "temperature"] = Field(
        "concentration", description="A concentration is dust or smoke; a temperature is how much warmer than the air"
    )
    rise: Annotated[Number, Varies(("frame",), -200, 2000)] = Field(
        0.0, description="Of a temperature: how much warmer than the air fresh dust comes in [K]; hot dust rises"
    )
    clearing: Annotated[Number, Varies(("frame",), 0, 1e5, above=True)] = Field(
        8.0, description="Seconds until a twentieth of it is left [s]"
    )
    buoyancy: Annotated[Number, Varies(("frame",), -100, 100)] = Field(
        1.0, description="How much it weighs on the air, or lifts it if it is a temperature; 1 is real"
    )
    diffusion: Annotated[Number, Varies(("frame",), 0, 100)] = Field(
        0.0, description="How fast eddies too small for the cells spread it [m2/s]; 0 to 0.5, 0 keeps it crisp"
    )
    colour: Annotated[str, Field(pattern=r"^(#[0-9a-fA-F]{6})?$")] = Field(
        "", description="Of a concentration: its colour as #rrggbb; empty: that of the material's dust"
    )
    extinction: float = Field(
        DUST_EXTINCTION,
        ge=0,
        le=1e5,
        description="Of a concentration: how much light it takes [m2/kg]; fine smoke takes more",
    )

    @model_validator(mode="after")
    def _free(self) -> "Scalar":
        if self.name == "velocity" or self.name.startswith("velocity_"):
            raise ValueError(f"'{self.name}' is what the air's own motion is called: choose another name")
        if self.name == "levels":
            raise ValueError("'levels' is what the distances from a surface are called in files: choose another name")
        return self

    def is_temperature(self) -> bool:
        """Whether it is a temperature, not a concentration."""
        return self.measure == "temperature"


class GasSettings(BaseModel):
    """Where the air is solved and how what it carries behaves."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)

    cell_size: float = Field(0.12, gt=0, le=1000, description="Edge of a cell [m]")
    low: Corner = Field((-4.0, -4.0, -0.5), description="Least corner of the domain [m]")
    high: Corner = Field((4.0, 4.0, 5.0), description="Greatest corner of the domain [m]")
    scalars: tuple[Scalar, ...] = Field(
        (Scalar(name="density"), Scalar(name="temperature", measure="temperature")),
        min_length=1,
        max_length=8,
        description="What the air carries",
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
    def _box(self) -> "GasSettings":
        domain.check(self, 200_000_000)
        names = [s.name for s in self.scalars]
        twice = next((n for n in names if names.count(n) > 1), None)
        if twice:
            raise ValueError(f"two of what the air carries are called '{twice}': give each a name of its own")
        if all(s.is_temperature() for s in self.scalars):
            raise ValueError("the air carries only temperatures: add a concentration, which brings them along")
        return self

    def concentrations(self) -> tuple[str, ...]:
        """Return the names of what sources may give off."""
        return tuple(s.name for s in self.scalars if not s.is_temperature())

    def shape(self) -> tuple[int, int, int]:
        """Return the cells along x, y, z; see `domain.shape`."""
        return domain.shape(self)

    def cells(self) -> int:
        """Return the number of cells."""
        nx, ny, nz = self.shape()
        return nx * ny * nz
