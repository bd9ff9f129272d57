"""A value over something that is measured: frames, age, speed, height, distance."""

from functools import lru_cache
from typing import Annotated, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, model_validator
from scipy.interpolate import PchipInterpolator

from urst.core.ranges import Vector

Over = Literal["frame", "age", "speed", "height", "distance"]
Point = Vector

#: unit of each of them
UNITS: dict[str, str] = {"frame": "", "age": "s", "speed": "m/s", "height": "m", "distance": "m"}
#: a curve has at most so many points
_MOST = 200


class CurvePoint(BaseModel):
    """The value at one place along the curve."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)

    at: float = Field(ge=-1e9, le=1e9, description="Frame, age [s], speed [m/s], height [m] or distance [m]")
    value: float = Field(ge=-1e15, le=1e15)


class Curve(BaseModel):
    """Smooth through its points without passing beyond them, constant before the first and after the last
    (Fritsch & Carlson 1980, Monotone piecewise cubic interpolation)."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)

    over: Over = Field("frame", description="What it runs over")
    origin: Annotated[Point, Field(description="x, y, z in metres")] | None = Field(
        None, description="Where distance is measured from; empty: the origin"
    )
    points: tuple[CurvePoint, ...] = Field(min_length=1, max_length=_MOST)

    @model_validator(mode="after")
    def _rising(self) -> "Curve":
        places = self.places()
        if any(b <= a for a, b in zip(places, places[1:])):
            what = "frames" if self.over == "frame" else f"{self.over}s"
            raise ValueError(f"the points of a curve are out of order: their {what} must rise")
        return self

    def places(self) -> list[float]:
        """Return where its points are along it."""
        return [p.at for p in self.points]

    def at(self, place: float) -> float:
        """Return the value at one place."""
        return float(self.along(np.array([place]))[0])

    def along(self, places: np.ndarray) -> np.ndarray:
        """Return the values at places (n,), float64."""
        if len(self.points) == 1:
            return np.full(np.shape(places), self.points[0].value)
        knots = self.places()
        return _smooth(self.points)(np.clip(places, knots[0], knots[-1]))

    def integral(self, first: float, last: np.ndarray | float) -> np.ndarray:
        """Return the integral of the value from one place to others, of the shape of `last`.

        Parameters
        ----------
        first : float
        last : float or (n,) float
        """
        knots, values = self.places(), [p.value for p in self.points]
        if len(knots) == 1:
            return values[0] * (np.asarray(last) - first)
        total = _sum(self.points)
        inner = total(np.clip(last, knots[0], knots[-1])) - total(np.clip(first, knots[0], knots[-1]))
        before = np.minimum(last, knots[0]) - min(first, knots[0])
        after = np.maximum(last, knots[-1]) - max(first, knots[-1])
        return inner + before * values[0] + after * values[-1]

    def table(self, last: float, size: int) -> np.ndarray:
        """Return its values at even places from 0 on, float64: how kernels look them up.

        Parameters
        ----------
        last : float
            The last place.
        size : int
            How many.
        """
        return self.along(np.linspace(0.0, last, size))


@lru_cache(maxsize=512)
def _smooth(points: tuple[CurvePoint, ...]) -> PchipInterpolator:
    return PchipInterpolator([p.at for p in points], [p.value for p in points])


@lru_cache(maxsize=512)
def _sum(points: tuple[CurvePoint, ...]) -> PchipInterpolator:
    return _smooth(points).antiderivative()
