"""What is said about a toy."""

from pydantic import BaseModel, ConfigDict, Field


class ToySettings(BaseModel):
    """Points on a circle."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    count: int = Field(12, ge=1, le=1000, description="Points")
    radius: float = Field(2.0, gt=0, le=100, description="Of the circle [m]")
    turn: float = Field(1.5, ge=0, le=100, description="How fast it turns [rad/s]")
