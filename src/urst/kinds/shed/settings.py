"""What an artist says about a Shed."""

from typing import Annotated

from pydantic import Field

from urst.core.curves.varies import Number, Varies
from urst.core.debris.settings import DebrisSettings
from urst.scene.sources import PieceSource


class PointPiece(PieceSource):
    """A set piece that gives off chips and dust puffs."""

    rate: Annotated[Number, Varies(("frame",), 0, 1e7)] = Field(100.0, description="Points given off in a second [1/s]")
    dust_share: Annotated[Number, Varies(("frame",), 0, 1)] = Field(
        0.0, description="Fraction of the points that are dust puffs"
    )
    spread: Annotated[Number, Varies(("frame",), 0, 1000)] = Field(0.5, description="Random speed as it sets off [m/s]")


class ShedSettings(DebrisSettings):
    """What is born where fragments part, or given off by set pieces."""

    sources: tuple[PointPiece, ...] = Field((), max_length=1000, description="Set pieces that give off points")
