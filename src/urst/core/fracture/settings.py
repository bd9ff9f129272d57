"""What an artist says about a break."""

from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field

from urst.core.ranges import Vector

Point = Annotated[Vector, Field(description="x, y, z in metres")]

#: parts a body may have, and fragments a break may aim for
MOST_PARTS = 20_000


class FractureSettings(BaseModel):
    """Where the cracks run."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)

    pattern: Literal["even", "clustered"] = Field(
        "even", description="Sites spread evenly through the volume, or gathered round the focus"
    )
    count: int = Field(60, ge=1, le=MOST_PARTS, description="Fragments to aim for in all")
    focus: Point = Field((0.0, 0.0, 0.0), description="Where clustered cracks gather")
    focus_radius: float = Field(1.0, gt=0, le=10_000, description="How far from the focus they gather [m]")
    seed: int = Field(1, ge=0, le=2**31 - 1, description="Another number, another set of cracks")
