"""What an artist says about a surface."""

from typing import Annotated

from pydantic import BaseModel, ConfigDict, Field

Length = Annotated[float, Field(gt=0, le=100)]


class SkinSettings(BaseModel):
    """How finely a liquid's surface is drawn."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)

    cell_size: Length | None = Field(None, description="Edge of a cell of the surface; empty: half of the liquid's [m]")
    smoothing: float = Field(0.0, ge=0, le=100, description="Bumps shorter than this are smoothed away [m]")
    drops: float = Field(
        1.0, ge=0, le=4, description="Size of single drops, 1 is what their liquid fills; 0 leaves them out"
    )
    horizon: bool = Field(
        False, description="Where the liquid is a cut-out of the sea, this goes on with the same waves to the horizon"
    )
    overlap: float = Field(
        0.1, ge=0, le=1, description="How far the surface goes into walls, so that no gap is seen [cells of the liquid]"
    )
