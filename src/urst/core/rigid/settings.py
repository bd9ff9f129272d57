"""What an artist says about a fall."""

from typing import Annotated

from pydantic import BaseModel, ConfigDict, Field

from urst.core.curves.varies import Number, Varies


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
    settle: float = Field(0.5, ge=0, le=60, description="Seconds under gravity before the first frame, unseen [s]")
