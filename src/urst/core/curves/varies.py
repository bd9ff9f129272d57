"""Settings that are a number or a curve."""

from dataclasses import dataclass
from typing import Annotated, Any, TypeVar

import numpy as np
from pydantic import BaseModel, Discriminator, Tag
from pydantic_core import core_schema

from urst.core.curves.clock import Clock
from urst.core.curves.curve import Curve, Over

#: tags of the two forms, which the validator puts into the place of a fault
TAGS = ("number", "curve")

Number = Annotated[
    Annotated[float, Tag("number")] | Annotated[Curve, Tag("curve")],
    Discriminator(lambda value: "curve" if isinstance(value, dict | Curve) else "number"),
]

Settings = TypeVar("Settings", bound=BaseModel)


@dataclass(frozen=True)
class Varies:
    """What a setting may run over, and the range of its values."""

    over: tuple[Over, ...]
    least: float
    most: float
    above: bool = False
    """whether `least` itself is left out"""

    def __get_pydantic_core_schema__(self, source: Any, handler: Any) -> core_schema.CoreSchema:
        """Check a number, or each point of a curve."""
        return core_schema.no_info_after_validator_function(self._checked, handler(source))

    def __get_pydantic_json_schema__(self, schema: Any, handler: Any) -> dict[str, Any]:
        """Publish the range of the number and what a curve may run over."""
        found = handler(schema)
        least = {"exclusiveMinimum" if self.above else "minimum": self.least}
        number, curve = found.pop("oneOf")
        return found | {"anyOf": [number | least | {"maximum": self.most}, curve], "x-over": list(self.over)}

    def _checked(self, value: float | Curve) -> float | Curve:
        if isinstance(value, Curve) and value.over not in self.over:
            raise ValueError(f"it cannot run over {value.over}; it may over {' or '.join(self.over)}")
        points = (
            [(p.value, f" at {value.over} {p.at:g}") for p in value.points]
            if isinstance(value, Curve)
            else [(value, "")]
        )
        for number, where in points:
            if not (self.least < number or (number == self.least and not self.above)) or not number <= self.most:
                least = f"above {self.least:g}" if self.above else f"from {self.least:g}"
                raise ValueError(f"{number:g}{where} must lie {least} {'up ' if self.above else ''}to {self.most:g}")
        return value


def at_time(settings: Settings, clock: Clock, seconds: float) -> Settings:
    """Return settings in which curves over frames stand at their values at a time.

    Parameters
    ----------
    settings : BaseModel
    clock : Clock
    seconds : float [s]
    """
    curves = {n: c for n, c in settings if isinstance(c, Curve) and c.over == "frame"}
    if not curves:
        return settings
    frame = clock.frame(seconds)
    return settings.model_copy(update={n: c.at(frame) for n, c in curves.items()})


def constant(number: float | Curve) -> float:
    """Return a setting that is a number, as all are that `at_time` gives and that run over frames.

    Raises
    ------
    ValueError
        If it is a curve.
    """
    if isinstance(number, Curve):
        raise ValueError(f"a curve over {number.over} has no one value: take it along its places")
    return float(number)


def along(number: float | Curve, places: np.ndarray) -> np.ndarray:
    """Return the values of a setting at places along what it runs over, (n,) float64.

    Parameters
    ----------
    number : float or Curve
    places : (n,) float
        Frames, ages, speeds, heights or distances.
    """
    return number.along(places) if isinstance(number, Curve) else np.full(len(places), float(number))


def in_space(number: float | Curve, points: np.ndarray) -> np.ndarray:
    """Return the values of a setting over height or distance at points.

    Parameters
    ----------
    number : float or Curve
    points : (n, 3) float [m]

    Returns
    -------
    (n,) float64
    """
    if not isinstance(number, Curve):
        return np.full(len(points), float(number))
    return number.along(reach(number, points))


def reach(curve: Curve, points: np.ndarray) -> np.ndarray:
    """Return the heights of points, or their distances from the curve's origin, whichever it runs over, (n,) [m].

    Parameters
    ----------
    curve : Curve
    points : (n, 3) float [m]
    """
    if curve.over == "height":
        return points[:, 2].astype(float)
    return np.linalg.norm(points - np.array(curve.origin or (0.0, 0.0, 0.0)), axis=1)


def mean(number: float | Curve, first: float, last: float) -> float:
    """Return the mean of a setting between two places.

    Parameters
    ----------
    number : float or Curve
    first, last : float
    """
    if not isinstance(number, Curve):
        return float(number)
    return float(number.integral(first, last)) / (last - first) if last > first else number.at(first)


def most(number: float | Curve) -> float:
    """Return the greatest value of a setting."""
    return max(p.value for p in number.points) if isinstance(number, Curve) else float(number)
