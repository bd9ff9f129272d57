"""Who takes part: what each piece stops, from and until when, and whether it is seen."""

from typing import Literal, get_args

from pydantic import Field, model_validator

from urst.core.ranges import Frame
from urst.scene.part import Name, Part

Matter = Literal["bodies", "chips", "gas", "liquid", "grains"]
MATTERS: tuple[Matter, ...] = get_args(Matter)


class TakesPart(Part):
    """What a piece, or all pieces with a tag, stop. A piece's own row counts before those of its tags."""

    of: Name = Field(description="A piece's name, or a tag")
    bodies: bool = Field(True, description="Stops rigid bodies")
    chips: bool = Field(True, description="Stops debris")
    gas: bool = Field(True, description="Stops dust, smoke and air")
    liquid: bool = Field(True, description="Stops liquid")
    grains: bool = Field(True, description="Stops grains")
    since: Frame | None = Field(None, description="First frame it is there; empty: from the start")
    until: Frame | None = Field(None, description="Last frame it is there; empty: to the end")
    seen: bool = Field(True, description="Whether it is seen on the stage and in pictures")

    @model_validator(mode="after")
    def _window(self) -> "TakesPart":
        if self.since is not None and self.until is not None and self.until < self.since:
            raise ValueError(
                f"'{self.of}' is there until frame {self.until}, before it comes at {self.since}: swap the two"
            )
        return self

    def stops(self, matter: Matter) -> bool:
        """Whether it stops a matter."""
        return getattr(self, matter)

    def there(self, frame: float) -> bool:
        """Whether it is there at a frame."""
        return (self.since is None or frame >= self.since) and (self.until is None or frame < self.until + 1)
