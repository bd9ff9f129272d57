"""What an artist says about a fall."""

from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field, model_validator

from urst.core.curves.varies import Number, Varies
from urst.core.launch.settings import SpinningLaunch
from urst.core.ranges import Number as Bounded
from urst.core.ranges import Vector

Name = Annotated[str, Field(min_length=1, max_length=80)]


class BondSettings(BaseModel):
    """What holds fragments together."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)

    tension: Annotated[Number, Varies(("height", "distance"), 0, 1e10)] = Field(
        0.35e6, description="Stress across a bond at which it snaps [Pa]; 0: no bonds"
    )
    shear: Annotated[Number, Varies(("height", "distance"), 0, 1e10)] = Field(
        0.5e6, description="Stress along a bond at which it snaps, with no pressure across it [Pa]"
    )
    friction_angle: float = Field(30.0, ge=0, le=80, description="Shear gained under pressure, as an angle [deg]")
    toughness: float = Field(
        60.0,
        ge=0,
        le=1e7,
        description="Energy that a crack takes as it opens [J/m2]; 0: it parts at its strength",
    )
    elongation: float = Field(
        0.0,
        ge=0,
        le=1,
        description=(
            "Stretch at its strength before it parts, as a fraction of its length, beside what its crack "
            "opens; 0: brittle"
        ),
    )
    modulus: float = Field(
        2e9, ge=1e5, le=1e12, description="Stiffness of what is held together, as Young's modulus [Pa]"
    )
    scatter: float = Field(0.18, ge=0, le=1, description="Spread of the strengths, as a fraction of their mean")
    correlation: float = Field(
        0.5, gt=0, le=1e4, description="Distance over which strength is alike: weak spots lie about so far apart [m]"
    )
    chunks: int = Field(
        0, ge=0, le=1000, description="Chunks that each piece comes apart into first, and that break again; 0: none"
    )
    chunk_holds: float = Field(4.0, ge=1, le=1000, description="Within a chunk bonds are so many times as strong")
    seed: int = Field(1, ge=0, le=2**31 - 1, description="Another number, other weak spots")


class Event(BaseModel):
    """Something that happens to bodies once a moment has come."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)

    name: Name = Field("event", description="What it is called in lists and on the stage")
    of: tuple[Name, ...] = Field(
        (), max_length=10_000, description="Pieces or tags it happens to; none: all that is loose or driven"
    )
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
        description="Sets them off; a charge goes off; held or driven ones fall; they stand from now on; "
        "they are gone; their bonds part; they are slowed down",
    )
    launch: SpinningLaunch = SpinningLaunch()
    charge: float = Field(1.0, gt=0, le=1e6, description="Charge at the launch's centre, as much TNT [kg]")
    top_speed: float = Field(1.0, ge=0, le=1e3, description="Speed they are slowed down to [m/s]")
    over: float = Field(0.5, gt=0, le=1e3, description="Time that slowing down takes [s]")

    @model_validator(mode="after")
    def _makes_sense(self) -> "Event":
        if any(a >= b for a, b in zip(self.low, self.high)):
            raise ValueError(f"the region of '{self.name}' is empty: its upper corner must lie above its lower one")
        if self.when == "after" and self.after in ("", self.name):
            raise ValueError(f"'{self.name}' follows no event: name another one in 'after'")
        if self.launch.least > self.launch.most:
            raise ValueError(
                f"'{self.name}' sets off at least at {self.launch.least:g} m/s and at most at {self.launch.most:g}: "
                "swap them"
            )
        return self


#: kinds of joints
JOINTS = ("weld", "hinge", "slider", "ball", "rope", "spring")


class Joint(BaseModel):
    """What holds two pieces together and lets them move against each other in one way."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)

    name: Name = Field("joint", description="What it is called in lists and on the stage")
    kind: Literal["weld", "hinge", "slider", "ball", "rope", "spring"] = Field(
        "hinge",
        description="Holds fast, turns about an axis, slides along one, turns all ways, pulls at its length, springs",
    )
    first: str = Field(max_length=80, description="A set piece; the fragment at the joint is held if it is broken")
    second: str = Field("", max_length=80, description="The other one; empty: the world")
    at: Vector = Field((0.0, 0.0, 0.0), description="Where it holds the first [m]")
    to: Vector = Field((0.0, 0.0, 1.0), description="Where a rope or a spring holds the second [m]")
    axis: Vector = Field((0.0, 0.0, 1.0), description="What it turns about, or slides along")
    turns: tuple[Bounded, Bounded] = Field(
        (-180.0, 180.0), description="How far the first turns from how it stands, least and most [deg]"
    )
    slides: tuple[Bounded, Bounded] = Field(
        (-1.0, 1.0), description="How far the first slides from where it stands, least and most [m]"
    )
    length: float = Field(
        0.0, ge=0, le=1e5, description="Length of a rope, or of a spring at rest; 0: as it stands [m]"
    )
    stiffness: float = Field(1e5, gt=0, le=1e12, description="Of a spring [N/m]")
    damping: float = Field(0.0, ge=0, le=1e9, description="Against turning [N m s], sliding or springing [N s/m]")
    strength: float = Field(0.0, ge=0, le=1e12, description="Force at which it breaks; 0: never [N]")

    @model_validator(mode="after")
    def _makes_sense(self) -> "Joint":
        if self.first == self.second:
            raise ValueError(
                f"the joint '{self.name}' joins '{self.first}' to itself: name two pieces, or one and the world"
            )
        if not any(self.axis):
            raise ValueError(f"the axis of the joint '{self.name}' has no length: write one like 0, 0, 1")
        for low, high in (self.turns, self.slides):
            if low > high:
                raise ValueError(
                    f"the limits of the joint '{self.name}' are {low:g} to {high:g}: write the smaller first"
                )
        if self.turns[0] < -180 or self.turns[1] > 180:
            raise ValueError(
                f"the joint '{self.name}' turns beyond half a turn: limits go from -180 to 180 deg, which is freely"
            )
        if self.kind in ("rope", "spring") and self.at == self.to:
            raise ValueError(f"the {self.kind} '{self.name}' begins where it ends: give its other end another place")
        return self


class Region(BaseModel):
    """A box in which something else pulls, or bodies are slowed down."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)

    name: Name = Field("region", description="What it is called in lists and on the stage")
    low: Vector = Field((-1.0, -1.0, 0.0), description="Lower corner [m]")
    high: Vector = Field((1.0, 1.0, 2.0), description="Upper corner [m]")
    pull: Vector = Field((0.0, 0.0, -9.81), description="Gravity in there, instead of the shot's [m/s2]")
    damping: float = Field(0.0, ge=0, le=1000, description="Fraction of velocity and spin lost a second in there [1/s]")
    since: float | None = Field(None, ge=-1e6, le=1e6, description="From this frame on; empty: from the start")
    until: float | None = Field(None, ge=-1e6, le=1e6, description="Until the end of this frame; empty: to the end")

    @model_validator(mode="after")
    def _makes_sense(self) -> "Region":
        if any(a >= b for a, b in zip(self.low, self.high)):
            raise ValueError(f"the region '{self.name}' is empty: its upper corner must lie above its lower one")
        if self.since is not None and self.until is not None and self.until < self.since:
            raise ValueError(f"the region '{self.name}' ends at frame {self.until:g}, before it begins: swap the two")
        return self

    def acts(self, frame: float) -> bool:
        """Whether it pulls at a frame."""
        return (self.since is None or frame >= self.since) and (self.until is None or frame < self.until + 1.0)


class RigidSettings(BaseModel):
    """How bodies move."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)

    bonds: BondSettings = BondSettings()
    steps: int = Field(32, ge=1, le=256, description="Collision checks a frame")
    substeps: int = Field(4, ge=1, le=32, description="Solver substeps a collision check")
    linear_damping: Annotated[Number, Varies(("frame",), 0, 100)] = Field(
        0.0, description="Fraction of velocity lost a second [1/s]"
    )
    angular_damping: Annotated[Number, Varies(("frame",), 0, 100)] = Field(
        0.0, description="Fraction of spin lost a second [1/s]"
    )
    top_speed: float = Field(100.0, gt=0, le=1e4, description="Fastest allowed [m/s]")
    top_spin: float = Field(200.0, gt=0, le=1e4, description="Fastest turn allowed [rad/s]")
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
    events: tuple[Event, ...] = Field((), max_length=2000, description="What happens to bodies, and when")
    regions: tuple[Region, ...] = Field(
        (), max_length=1000, description="Boxes with a gravity or a damping of their own"
    )
    joints: tuple[Joint, ...] = Field(
        (), max_length=10_000, description="Hinges, sliders, ropes and springs between pieces"
    )
    settle: float = Field(0.5, ge=0, le=60, description="Seconds under gravity before the first frame, unseen [s]")

    @model_validator(mode="after")
    def _events_follow(self) -> "RigidSettings":
        joints = [j.name for j in self.joints]
        if len(set(joints)) < len(joints):
            raise ValueError(f"two joints are called '{next(n for n in joints if joints.count(n) > 1)}': rename one")
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
