"""Layers that act on each other, apart from what they read."""

from pydantic import Field, model_validator

from urst.scene.part import Part, Slug


class Coupling(Part):
    """Two layers that act on each other."""

    first: Slug
    second: Slug
    forth: float = Field(
        1.0, ge=0, le=100, description="How strongly the first acts on the second; 1 is physical, 0 not at all"
    )
    back: float = Field(
        1.0, ge=0, le=100, description="How strongly the second acts on the first; 1 is physical, 0 not at all"
    )

    @model_validator(mode="after")
    def _acts(self) -> "Coupling":
        if self.first == self.second:
            raise ValueError(f"'{self.first}' is coupled with itself: name two layers")
        if self.forth == 0.0 and self.back == 0.0:
            raise ValueError(
                f"'{self.first}' and '{self.second}' are coupled but neither acts on the other: remove the coupling"
            )
        return self
