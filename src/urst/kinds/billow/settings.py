"""What an artist says about a Billow."""

from typing import Annotated

from pydantic import Field, model_validator

from urst.core.curves.varies import Number, Varies
from urst.core.gas.settings import GasSettings
from urst.scene.sources import PieceSource


class DustPiece(PieceSource):
    """A set piece that gives off dust."""

    rate: Annotated[Number, Varies(("frame",), 0, 1e6)] = Field(0.05, description="Given off in a second [kg/s]")
    gives: str = Field("", max_length=40, description="Which concentration of the air; empty: the first one")


class BillowSettings(GasSettings):
    """Where the air is solved, and what gives off dust in it beside the points it reads."""

    sources: tuple[DustPiece, ...] = Field((), max_length=1000, description="Set pieces that give off dust or smoke")
    debris_gives: str = Field(
        "", max_length=40, description="Which concentration the debris it reads gives off; empty: the first one"
    )

    @model_validator(mode="after")
    def _known(self) -> "BillowSettings":
        able = self.concentrations()
        for name in (self.debris_gives, *(s.gives for s in self.sources)):
            if name and name not in able:
                raise ValueError(f"'{name}' is no concentration of this air: choose {' or '.join(able)}")
        return self

    def number(self, name: str) -> int:
        """Return which of the scalars a concentration is, the first one for an empty name."""
        return [s.name for s in self.scalars].index(name or self.concentrations()[0])
