"""Where a shot is seen from, and the picture that is taken."""

from pydantic import Field, model_validator

from urst.core.ranges import Vector
from urst.scene.part import Name, Part


class Camera(Part):
    """Where the shot is seen from."""

    name: Name = "main"
    eye: Vector = (9.0, -11.0, 4.0)
    target: Vector = (0.0, 0.0, 1.8)
    lens: float = Field(35.0, ge=5, le=1000, description="Focal length on a 36 mm film back [mm]")

    @model_validator(mode="after")
    def _apart(self) -> "Camera":
        if self.eye == self.target:
            raise ValueError(f"the eye is where it looks at, {self.eye}: move one of the two")
        return self


class Picture(Part):
    """Size, shape and brightness of the picture."""

    width: int = Field(1920, ge=16, le=16_384, description="Across [pixels]")
    height: int = Field(1080, ge=16, le=16_384, description="Down [pixels]")
    exposure: float = Field(0.0, ge=-20, le=20, description="Stops: one more is twice as bright")

    def within(self, width: int) -> tuple[int, int]:
        """Return width and height of the same shape, at most so wide and not taller than that, both even."""
        scale = min(width / self.width, width / self.height)
        return max(2, 2 * round(self.width * scale / 2)), max(2, 2 * round(self.height * scale / 2))
