"""What is measured on every frame, and what a frame keeps."""

from dataclasses import dataclass

import numpy as np

from urst.core.air import DUST_EXTINCTION


@dataclass(frozen=True)
class Gauge:
    """A number of every frame, as it is shown."""

    name: str
    label: str
    unit: str = ""
    factor: float = 1.0
    """shown value = measured value x factor"""
    least: float | None = None
    """least plausible shown value"""
    most: float | None = None
    about: str = ""
    """what it means, where the label does not say it"""
    coupled: bool = False
    """whether it says something only of a layer that others act on"""

    def over(self, value: float) -> bool:
        """Whether a measured value is above the band."""
        return self.most is not None and value * self.factor > self.most


@dataclass(frozen=True)
class Quantity:
    """What a frame may hold."""

    name: str
    label: str
    bytes: float
    """on disk, a unit of the layer's cost and frame, after compression"""
    always: bool = True
    """else by choice"""


@dataclass(frozen=True)
class Shade:
    """How a concentration looks."""

    name: str
    colour: str = ""
    """#rrggbb; empty: that of the dust of what it is of"""
    extinction: float = DUST_EXTINCTION
    """how much light it takes [m2/kg]"""


@dataclass(frozen=True)
class Sliced:
    """What of a frame is shown on a plane across it."""

    name: str
    title: str
    unit: str = ""
    labels: tuple[str, ...] = ()
    """what values 0, 1, 2 and so on are, where these are no amounts"""


@dataclass(frozen=True)
class Reading:
    """What a probe tells of a place."""

    label: str
    value: float
    unit: str


@dataclass(frozen=True)
class Spread:
    """How what drives a curve is spread at a frame: where on the curve, and how much counts there."""

    places: np.ndarray
    """(n,) float, in the unit of what the curve runs over"""
    about: str
    """what was measured, such as `speed of chips`"""
    weights: np.ndarray | None = None
    """(n,), each one if not given"""
