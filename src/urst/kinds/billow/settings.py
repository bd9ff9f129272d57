"""What an artist says about a Billow."""

from typing import Annotated

from pydantic import Field

from urst.core.curves.varies import Number, Varies
from urst.core.gas.settings import GasSettings
from urst.scene.sources import PieceSource


class DustPiece(PieceSource):
    """A set piece that gives off dust."""

    rate: Annotated[Number, Varies(("frame",), 0, 1e6)] = Field(0.05, description="Dust given off in a second [kg/s]")


class BillowSettings(GasSettings):
    """Where the air is solved, and what gives off dust in it beside the points it reads."""

    sources: tuple[DustPiece, ...] = Field((), max_length=1000, description="Set pieces that give off dust")
