"""What an artist says about a liquid."""

from typing import Annotated, Literal, Self

from pydantic import BaseModel, ConfigDict, Field, model_validator

from urst.core.curves.varies import Number, Varies
from urst.core.fields import domain
from urst.core.fields.wet import DENSITY, VISCOSITY
from urst.core.launch.settings import Launch
from urst.core.ranges import Vector

#: particles along the edge of a cell, and in it
EDGE, PARTICLES = 2, 8
#: so near an open side of the domain there are particles at all depths, and where there are any they are kept in number
#: so far on into what has none, as far as liquid goes in a step [cells]
SIDE, SIDEWAYS = 2, 2
#: and where the sea beyond the domain's sides has more than this share
OUTER = 0.5

Corner = Vector


class Fill(BaseModel):
    """A set piece that is full of liquid at the start: the room within a hollow one, or all of a solid one."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)

    piece: Annotated[str, Field(min_length=1, max_length=80)] = Field(description="Set piece whose inside is liquid")
    level: float | None = Field(None, ge=-1e5, le=1e5, description="Up to where; empty: to its top [m]")
    velocity: Corner = Field((0.0, 0.0, 0.0), description="With what it starts [m/s]")


class _Window(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)

    piece: Annotated[str, Field(min_length=1, max_length=80)] = Field(description="Set piece that it is")
    since: int | None = Field(None, ge=-1_000_000, le=1_000_000, description="First frame; empty: from the start")
    until: int | None = Field(None, ge=-1_000_000, le=1_000_000, description="Last frame; empty: to the end")

    @model_validator(mode="after")
    def _order(self) -> Self:
        if self.since is not None and self.until is not None and self.until < self.since:
            raise ValueError(f"'{self.piece}' ends at frame {self.until}, before it begins at {self.since}")
        return self


class Pour(Launch):
    """How liquid sets off."""

    speed: float = Field(1.0, ge=-1e3, le=1e3, description="How fast it sets off; below 0 the other way [m/s]")
    direction: Corner = Field((0.0, 0.0, -1.0), description="Where to, if along a direction; its length does not count")


class Inflow(_Window):
    """A set piece from which liquid pours; it takes along what pours."""

    out_of: Literal["inside", "faces"] = Field(
        "inside", description="All of its inside pours, or a layer a cell thick before its faces"
    )
    facing: Corner | None = Field(
        None, description="Only faces that look this way as it stands at the start; empty: whichever way"
    )
    facing_within: float = Field(45.0, ge=0, le=180, description="How far a face may look off that [deg]")
    region: Annotated[str, Field(min_length=1, max_length=80)] | None = Field(
        None, description="Only what of its faces lies in this set piece at the start; empty: all"
    )
    launch: Pour = Pour()
    rate: Annotated[Number, Varies(("frame",), 0, 1e6)] | None = Field(
        None, description="How much comes in at most; empty: as much as its velocity takes away [m3/s]"
    )

    @model_validator(mode="after")
    def _faces(self) -> "Inflow":
        if self.facing is not None and not any(self.facing):
            raise ValueError(
                f"the faces of '{self.piece}' look no way: give a direction, such as 0, 0, 1, or leave it empty"
            )
        return self


class Region(_Window):
    """A set piece in whose inside liquid is taken away, or slowed."""

    does: Literal["take away", "slow"] = Field("take away", description="What happens to liquid in it")
    damping: float = Field(2.0, ge=0, le=1000, description="How soon it comes to rest, where it is slowed [1/s]")


Angle = Annotated[float, Field(ge=-360, le=360)]


class WaveSettings(BaseModel):
    """What waves go over a pool."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)

    wind: float = Field(0.0, ge=0, le=80, description="Wind that has raised the sea, 10 m up; 0: none [m/s]")
    fetch: float = Field(20_000.0, gt=0, le=2e6, description="Over how much water it has blown [m]")
    heading: Angle = Field(0.0, description="Where the sea goes to, 0 is +x, 90 is +y [deg]")
    spread: float = Field(
        8.0, ge=1, le=200, description="How closely its waves go that way: s of cos^2s of half the angle"
    )
    swell_height: float = Field(0.0, ge=0, le=40, description="Of swell beside it, from trough to crest [m]")
    swell_period: float = Field(6.0, gt=0.2, le=40, description="Of the swell [s]")
    swell_heading: Angle = Field(0.0, description="Where the swell goes to [deg]")
    depth: float | None = Field(
        None, gt=0, le=11_000, description="Of the water under them; empty: down to the floor of the domain [m]"
    )
    band: float = Field(
        1.0, gt=0, le=1000, description="Width along the sides in which liquid is brought to what the waves do [m]"
    )

    def any(self) -> bool:
        """Return whether there are waves at all."""
        return self.wind > 0.0 or self.swell_height > 0.0


class LiquidSettings(BaseModel):
    """Where a liquid is solved and what of it there is."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)

    cell_size: float = Field(0.1, gt=0, le=1000, description="Edge of a cell [m]")
    low: Corner = Field((-4.0, -4.0, -0.5), description="Least corner of the domain [m]")
    high: Corner = Field((4.0, 4.0, 4.0), description="Greatest corner of the domain [m]")
    sides: Literal["wall", "open", "waves"] = Field(
        "wall", description="Floor and sides of the domain: walls, or what goes out is gone, or the sea goes on beyond"
    )
    level: float | None = Field(
        None, ge=-1e5, le=1e5, description="All that is open below this is full at the start; empty: nothing [m]"
    )
    pool_at: Corner | None = Field(
        None,
        description="A place in the pool: only what is joined to it below the level is full; empty: all [m]",
    )
    waves: WaveSettings = Field(WaveSettings(), description="Waves on the pool")
    fills: tuple[Fill, ...] = Field((), max_length=1000, description="Set pieces whose inside is full at the start")
    inflows: tuple[Inflow, ...] = Field((), max_length=1000, description="Set pieces that pour liquid")
    regions: tuple[Region, ...] = Field(
        (), max_length=1000, description="Set pieces in which liquid is taken away or slowed"
    )
    density: float = Field(
        DENSITY, ge=1, le=30_000, description="How heavy it is; water 1000, oil 900, brine 1200, mud 1600 [kg/m3]"
    )
    viscosity: float = Field(
        0.0, ge=0, le=1e6, description="How thick it is; water 0.001, oil 0.1, syrup 5, honey 10 [Pa s]"
    )
    colour: Annotated[str, Field(pattern=r"^(#[0-9a-fA-F]{6})?$")] = Field(
        "", description="Its colour where it is deep, as #rrggbb; empty: that of harbour water"
    )
    sight: float = Field(
        6.0, ge=1e-4, le=1000, description="How far one sees into it; water 6, oil 0.5, slurry 0.01, milk 0.003 [m]"
    )
    tension: float = Field(0.0, ge=0, le=10, description="Of its surface; water 0.072; 0: none [N/m]")
    particle_depth: float | None = Field(
        4.0,
        ge=3,
        le=1000,
        description=(
            "So many cells below the surface there are particles, deeper the flow is on the grid alone; empty: "
            "everywhere"
        ),
    )
    air: Literal["vents", "keeps its volume"] = Field(
        "vents", description="What air does that liquid shuts in: gives way, or keeps its volume and rises as bubbles"
    )
    tolerance: float = Field(1e-3, gt=1e-7, le=0.1, description="Share of the divergence left in the pressure solve")
    most_substeps: int = Field(16, ge=1, le=256, description="Most steps a frame for a fast liquid")
    settle: float = Field(
        0.0, ge=0, le=600, description="Seconds it comes to rest before the first frame, with all held still [s]"
    )
    start_below: float | None = Field(
        None,
        ge=-1e5,
        le=1e5,
        description="Where it begins from a frame: only what of that lies below this height; empty: all [m]",
    )
    start_within: Annotated[str, Field(min_length=1, max_length=80)] | None = Field(
        None, description="Where it begins from a frame: only what of that lies in this set piece; empty: all"
    )
    seed: int = Field(1, ge=0, le=2**31 - 1, description="Another number, other particles")

    @model_validator(mode="after")
    def _pool(self) -> "LiquidSettings":
        if self.pool_at is not None and self.level is None:
            raise ValueError("a place of the pool is given and no level: give the pool a level, or empty its place")
        if self.waves.any() and self.level is None:
            raise ValueError("there are waves and no pool: give the pool a level, or take the waves out")
        if self.sides == "waves" and (self.level is None or self.level <= self.low[2]):
            raise ValueError(
                "the sea goes on beyond the sides and there is no pool: give it a level above the domain's floor"
            )
        return self

    @model_validator(mode="after")
    def _box(self) -> "LiquidSettings":
        domain.check(self, 100_000_000)
        return self

    def kinematic(self) -> float:
        """Return its viscosity over its density, that of water if it is given none [m2/s]."""
        return self.viscosity / self.density or VISCOSITY

    def shape(self) -> tuple[int, int, int]:
        """Return the cells along x, y, z; see `domain.shape`."""
        return domain.shape(self)

    def cells(self) -> int:
        """Return the number of cells."""
        nx, ny, nz = self.shape()
        return nx * ny * nz
