"""What an artist says about foam, bubbles, spray and mist."""

from typing import Annotated

from pydantic import BaseModel, ConfigDict, Field, model_validator

from urst.core.ranges import Vector

#: kinds of points
FOAM, BUBBLE, SPRAY, MIST = 0, 1, 2, 3

Count = Annotated[float, Field(ge=0, le=1e9)]


class _Group(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)


class Limits(_Group):
    """Below the first there is none, from the second on as much as there can be."""

    none: float = Field(ge=0, le=1e6, description="There is none up to here")
    full: float = Field(gt=0, le=1e6, description="From here on there is as much as there can be")

    @model_validator(mode="after")
    def _order(self) -> "Limits":
        if self.full <= self.none:
            raise ValueError(
                f"full froth begins at {self.full:g}, not above where there is none, {self.none:g}: raise it"
            )
        return self


class Births(_Group):
    """Where a liquid takes air in (Ihmsen et al. 2012)."""

    speed: Limits = Field(Limits(none=1.0, full=4.0), description="How fast it must go [m/s]")
    clash: Limits = Field(
        Limits(none=1.0, full=10.0), description="How fast it closes on itself, where it traps air [1/s]"
    )
    crest: Limits = Field(
        Limits(none=3.0, full=20.0), description="How sharply a crest that goes forward is bent [1/m]"
    )
    trapped: Count = Field(200_000.0, description="Points where air is trapped, at most [1/(m3 s)]")
    crests: Count = Field(100_000.0, description="Points at crests, at most [1/(m3 s)]")


class Foam(_Group):
    """What lies on the surface and goes with it."""

    on: bool = Field(True, description="Whether there is any")
    life: float = Field(2.0, gt=0, le=600, description="How long it lasts, on the average [s]")
    size: float = Field(0.012, gt=0, le=1, description="Across one [m]")


class Bubbles(_Group):
    """Air in the liquid: it rises and becomes foam."""

    on: bool = Field(True, description="Whether there is any")
    rise: float = Field(0.25, ge=0, le=10, description="How fast they rise through still liquid [m/s]")
    drag: float = Field(8.0, ge=0, le=1000, description="How soon they go as the liquid does [1/s]")
    life: float = Field(4.0, gt=0, le=600, description="How long one lasts at most [s]")
    size: float = Field(0.008, gt=0, le=1, description="Across one [m]")


class Spray(_Group):
    """Drops in the air."""

    on: bool = Field(True, description="Whether there is any")
    drag: float = Field(0.4, ge=0, le=1000, description="How soon they are slowed by the air [1/s]")
    life: float = Field(6.0, gt=0, le=600, description="How long one lasts at most [s]")
    size: float = Field(0.01, gt=0, le=1, description="Across one [m]")


class Mist(_Group):
    """Fine spray that comes off spray."""

    on: bool = Field(True, description="Whether there is any")
    rate: float = Field(2.0, ge=0, le=1000, description="Points that a drop gives off at full speed [1/s]")
    most: Count = Field(200_000.0, description="Points that all drops give off, at most [1/s]")
    carried: float = Field(0.9, ge=0, le=2, description="How much of its drop's velocity it sets off with")
    scatter: float = Field(0.1, ge=0, le=2, description="How far it strays from that, as a share of the drop's speed")
    speed: Limits = Field(Limits(none=2.0, full=8.0), description="How fast that drop must go [m/s]")
    drag: float = Field(12.0, ge=0, le=1000, description="How soon the air stops it [1/s]")
    life: float = Field(1.0, gt=0, le=600, description="How long it lasts, on the average [s]")
    size: float = Field(0.005, gt=0, le=1, description="Across one [m]")


class FrothSettings(_Group):
    """What is born where, and how each kind goes on."""

    births: Births = Births()
    foam: Foam = Foam()
    bubbles: Bubbles = Bubbles()
    spray: Spray = Spray()
    mist: Mist = Mist()
    most: int = Field(400_000, ge=1, le=20_000_000, description="Points at most")
    wind: Vector = Field((0.0, 0.0, 0.0), description="Of the air that spray and mist fly in [m/s]")
    seed: int = Field(1, ge=0, le=2**31 - 1, description="Another number, other points")
