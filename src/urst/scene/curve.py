"""A value over frames."""

import numpy as np
from pydantic import Field, model_validator
from scipy.interpolate import PchipInterpolator

from urst.scene.part import Part


class CurvePoint(Part):
    """The value at a frame."""

    frame: float
    value: float


class Curve(Part):
    """A value over frames: smooth through its points without passing beyond them, constant before the first and after the last
    (Fritsch & Carlson 1980, Monotone piecewise cubic interpolation)."""

    points: tuple[CurvePoint, ...] = Field(min_length=1)

    @model_validator(mode="after")
    def _rising(self):
        frames = [p.frame for p in self.points]
        if any(b <= a for a, b in zip(frames, frames[1:])):
            raise ValueError("the points of a curve are out of order: their frames must rise")
        return self

    def at(self, frame: float) -> float:
        """Return the value at a frame."""
        if len(self.points) == 1:
            return self.points[0].value
        frames = self._frames()
        return float(self._smooth()(np.clip(frame, frames[0], frames[-1])))

    def integral(self, first: float, last: float) -> float:
        """Return the integral of the value from one frame to another."""
        frames, values = self._frames(), [p.value for p in self.points]
        if len(frames) == 1:
            return values[0] * (last - first)
        total = self._smooth().antiderivative()
        inner = float(total(np.clip(last, frames[0], frames[-1])) - total(np.clip(first, frames[0], frames[-1])))
        before = min(last, frames[0]) - min(first, frames[0])
        after = max(last, frames[-1]) - max(first, frames[-1])
        return inner + before * values[0] + after * values[-1]

    def _frames(self):
        return [p.frame for p in self.points]

    def _smooth(self):
        return PchipInterpolator(self._frames(), [p.value for p in self.points])
