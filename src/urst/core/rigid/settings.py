"""What an artist says about a fall."""

from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field, model_validator

from urst.core.curves.varies import Number, Varies
from urst.core.launch.settings import Launch, Vector

Name = Annotated[str, Field(min_length=1, max_length=80)]


class BondSettings(BaseModel):
    """What holds fragments together."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    tension: Annotated[Number, Varies(("height", "distance"), 0, 1e10)] = Field(
        0.35e6, description="Pull a bond bears before it snaps [Pa]; 0: no bonds"
    )
    shear: Annotated[Number, Varies(("height", "distance"), 0, 1e10)] = Field(
        0.5e6, description="Shear a bond bears with no load across it [Pa]"
    )
    friction_angle: float = Field(30.0, ge=0, le=80, description="Shear gained under pressure, as an angle [deg]")
    elongation: float = Field(
        0.0, ge=0, le=1, description="Stretch at its strength before it parts, as a share of its length; 0: brittle"
    )
    modulus: float = Field(
        2e9, ge=1e5, le=1e12, description="Stiffness of what is held together, as Young's modulus [Pa]"
    )
    scatter: float = Field(0.18, ge=0, le=1, description="Spread of the strengths, as a share of their mean")
    seed: int = Field(1, ge=0, le=2**31 - 1, description="Another number, other weak spots")


class Event(BaseModel):
    """Something that happens to bodies once a moment has come."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)

    name: Name = "event"
    of: tuple[Name, ...] = Field((), description="Pieces or tags it happens to; none: all that is loose or driven")
    when: Literal["frame", "touch", "load", "region", "after"] = Field(
        "frame", description="At a frame, when first touched, under a load, once in a region, or after another event"
    )
    frame: float = Field(1.0, ge=-1e6, le=1e6, description="The frame, if at one")
    by: str = Field("", max_length=80, description="Piece or tag whose touch counts; empty: whatever moves")
    force: float = Field(1e4, ge=0, le=1e12, description="Force of contacts on one body, if under a load [N]")
    low: Vector = Field((-1.0, -1.0, 0.0), description="Lower corner of the region [m]")
    high: Vector = Field((1.0, 1.0, 2.0), description="Upper corner of the region [m]")
    after: str = Field("", max_length=80, description="Name of the event that it follows")
    delay: float = Field(0.0, ge=0, le=1e4, description="So much later [s]")
    what: Literal["launch", "blast", "let go", "anchor", "remove", "part", "slow down"] = Field(
        "launch",
        description="Sets them off; a charge goes off; held or driven ones fall; they stand from now on; they are gone; "
        "their bonds part; they are slowed down",
    )
    launch: Launch = Launch()
    charge: float = Field(1.0, gt=0, le=1e6, description="Charge at the launch's centre, as much TNT [kg]")
    top_speed: float = Field(1.0, ge=0, le=1e3, description="Speed they are slowed down to [m/s]")
    over: float = Field(0.5, gt=0, le=1e3, description="Time that slowing down takes [s]")

    @model_validator(mode="after")
    def _makes_sense(self):
        if any(a >= b for a, b in zip(self.low, self.high)):
            raise ValueError(f"the region of '{self.name}' is empty: its upper corner must lie above its lower one")
        if self.when == "after" and self.after in ("", self.name):
            raise ValueError(f"'{self.name}' follows no event: name another one in 'after'")
        if self.launch.least > self.launch.most:
            raise ValueError(
                f"'{self.name}' sets off at least at {self.launch.least:g} m/s and at most at {self.launch.most:g}: swap them"
            )
        return self


class RigidSettings(BaseModel):
    """How bodies move."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    bonds: BondSettings = BondSettings()
    steps: int = Field(32, ge=1, le=256, description="Collision checks a frame")
    substeps: int = Field(4, ge=1, le=32, description="Solver substeps a collision check")
    linear_damping: Annotated[Number, Varies(("frame",), 0, 100)] = Field(
        0.0, description="Share of velocity lost a second [1/s]"
    )
    angular_damping: Annotated[Number, Varies(("frame",), 0, 100)] = Field(
        0.1, description="Share of spin lost a second [1/s]"
    )
    top_speed: float = Field(100.0, gt=0, le=1e4, description="Fastest allowed [m/s]")
    top_spin: float = Field(60.0, gt=0, le=1e4, description="Fastest turn allowed [rad/s]")
    push_speed: float = Field(3.0, gt=0, le=100, description="Fastest way out of an overlap [m/s]")
    drag: float = Field(
        1.05, ge=0, le=10, description="Drag coefficient of bodies too small for the cells of a gas that acts on them"
    )
    ease: float = Field(
        0.0,
        ge=0,
        le=10,
        description="Time in which what is too fast or spins too fast comes down to the limit; 0: at once [s]",
    )
    wind: Vector = Field((0.0, 0.0, 0.0), description="Wind that bodies feel on their faces [m/s]")
    air: float = Field(
        0.0, ge=0, le=100, description="Density of the air that drags on them [kg/m3]; 0: none, 1.2: real"
    )
    events: tuple[Event, ...] = Field((), description="What happens to bodies, and when")
    settle: float = Field(0.5, ge=0, le=60, description="Seconds under gravity before the first frame, unseen [s]")

    @model_validator(mode="after")
    def _events_follow(self):
        names = [e.name for e in self.events]
        if len(set(names)) < len(names):
            raise ValueError(f"two events are called '{next(n for n in names if names.count(n) > 1)}': rename one")
        before = {e.name: e.after for e in self.events if e.when == "after"}
        for name in before:
            seen, at = set(), name
            while at in before and at not in seen:
                seen.add(at)
                at = before[at]
            if at in seen:
                raise ValueError(f"the event '{name}' waits for itself: let one of them come at a frame or by touch")
            if at not in names:
                raise ValueError(f"an event follows '{at}', which is no event of this layer: name one that is")
        return self
