"""What an artist says about how something sets off."""

from typing import Literal

from pydantic import BaseModel, ConfigDict, Field

from urst.core.ranges import Vector


class Launch(BaseModel):
    """How what is let go or born sets off."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)

    way: Literal["direction", "centre", "outward"] = Field(
        "direction", description="Along a direction, away from a centre, or outward along its faces"
    )
    speed: float = Field(5.0, ge=-1e3, le=1e3, description="How fast it sets off; below 0 the other way [m/s]")
    direction: Vector = Field((0.0, 0.0, 1.0), description="Where to, if along a direction; its length does not count")
    centre: Vector = Field((0.0, 0.0, 0.0), description="Where it is driven from, or where its speed is meant [m]")
    reach: float = Field(1.0, gt=0, le=1e5, description="Up to so far from the centre the whole speed is given [m]")
    fall_off: float = Field(
        0.0, ge=0, le=6, description="Beyond its reach the speed falls as the distance to this power; 0: nowhere"
    )
    cone: float = Field(0.0, ge=0, le=180, description="How far its way may lie off; 180: all round [deg]")
    noise: float = Field(0.0, ge=0, le=1, description="How much the speed differs from place to place, as a fraction")
    noise_size: float = Field(0.5, gt=0, le=1e4, description="Size of the lumps in which it differs [m]")
    carried: float = Field(1.0, ge=0, le=100, description="Fraction of its own motion, or its carrier's, that it keeps")
    least: float = Field(0.0, ge=0, le=1e3, description="Slowest it sets off [m/s]")
    most: float = Field(1e3, gt=0, le=1e3, description="Fastest it sets off [m/s]")
    seed: int = Field(1, ge=0, le=2**31 - 1, description="Another number, other scatter")


class SpinningLaunch(Launch):
    """How bodies set off, which spin as well."""

    spin: float = Field(0.0, ge=0, le=1e3, description="Fastest it is set spinning, about any axis [rad/s]")
