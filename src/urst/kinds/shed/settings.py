"""What an artist says about a Shed."""

from pydantic import Field

from urst.core.debris.settings import DebrisSettings
from urst.scene.sources import PieceSource


class PointPiece(PieceSource):
    """A set piece that gives off chips and dust puffs."""

    rate: float = Field(100.0, gt=0, le=1e7, description="Points given off in a second [1/s]")
    dust_share: float = Field(0.0, ge=0, le=1, description="Share of the points that are dust puffs")
    spread: float = Field(0.5, ge=0, le=1000, description="Random speed as it sets off [m/s]")


class ShedSettings(DebrisSettings):
    """What is born where fragments part, or given off by set pieces."""

    sources: tuple[PointPiece, ...] = Field((), description="Set pieces that give off points")
