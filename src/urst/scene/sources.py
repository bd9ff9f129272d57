"""Set pieces that give something off."""

from typing import Annotated, Literal

from pydantic import Field, model_validator

from urst.core.curves.varies import Number, Varies
from urst.core.ranges import Frame, Vector
from urst.scene.part import Name, Part


class PieceSource(Part):
    """A set piece that gives off points or dust over a window of frames; it takes along what it gives off."""

    piece: Name = Field(description="The set piece")
    where: Literal["surface", "volume"] = Field("surface", description="From its surface, or from all through it")
    rate: Annotated[Number, Varies(("frame",), 0, 1e9)] = Field(description="Given off in a second")
    velocity: Vector = Field((0.0, 0.0, 0.0), description="How it sets off, beside the piece's own motion [m/s]")
    since: Frame | None = Field(None, description="First frame; empty: from the start")
    until: Frame | None = Field(None, description="Last frame; empty: to the end")

    @model_validator(mode="after")
    def _window(self) -> "PieceSource":
        if self.since is not None and self.until is not None and self.until < self.since:
            raise ValueError(f"the source '{self.piece}' ends at frame {self.until}, before it begins at {self.since}")
        return self
