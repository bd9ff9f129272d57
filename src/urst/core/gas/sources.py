"""What gives off dust, smoke and the like into the gas."""

from typing import NamedTuple, Protocol

import numpy as np

from urst.core.curves.curve import Curve
from urst.core.curves.varies import along

#: ages at which what a puff has given is reckoned, straight between them
_AGES = 257


class Births(NamedTuple):
    """What is given off within a step."""

    position: np.ndarray  # (n, 3) float64 [m]
    velocity: np.ndarray  # (n, 3) float64 [m/s]
    mass: np.ndarray  # (n,) float64 [kg], in the whole step
    radius: float  # how far about its middle each gives it off [m]
    scalar: int = 0  # to which of the gas's scalars


class Source(Protocol):
    """Something that gives off dust or smoke."""

    def speed(self) -> float:
        """Return how fast the fastest of what it gives off moves now [m/s]."""

    def between(self, time: float, dt: float) -> Births | None:
        """Return what is given off from `time` for `dt` seconds.

        Parameters
        ----------
        time, dt : float [s]
        """


class Puffs:
    """Dust puffs that fly with the debris, each giving off its dust over its life.

    A reader sets `points`, the puffs at the end of a span of time: position (n, 3) [m], velocity (n, 3) [m/s], age (n,)
    [s], and when that is. Within the span a puff stands where it came along, and one that is younger than that is
    not yet there: dust is given off evenly along its path.
    """

    def __init__(self, mass: float, life: float, radius: float, giving: float | Curve = 1.0, scalar: int = 0) -> None:
        self.mass, self.life, self.radius, self.scalar = mass, life, radius, scalar
        self._ages = np.linspace(0.0, life, _AGES)
        sums = np.concatenate([[0.0], np.cumsum(along(giving, 0.5 * (self._ages[1:] + self._ages[:-1])))])
        # a shape that is nothing over this life gives evenly
        self._given = sums / sums[-1] if sums[-1] > 0.0 else self._ages / life
        self.position = self.velocity = np.zeros((0, 3))
        self.age, self.end = np.zeros(0), 0.0

    def update(
        self, before: dict[str, np.ndarray] | None, after: dict[str, np.ndarray], start: float, dt: float
    ) -> None:
        """Take up the puffs as they are at the end of a span of time.

        Parameters
        ----------
        before
            Not needed: puffs fly straight.
        after : dict
            `position` (n, 3) [m], `velocity` (n, 3) [m/s] and `age` (n,) [s].
        start, dt : float [s]
        """
        self.position, self.velocity, self.age = (after[k].astype(float) for k in ("position", "velocity", "age"))
        self.end = start + dt

    def speed(self) -> float:
        """Return how fast the fastest puff moves now [m/s]."""
        return float(np.abs(self.velocity).max()) if len(self.velocity) else 0.0

    def between(self, time: float, dt: float) -> Births | None:
        """Return what is given off within a step; see `Source.between`."""
        early, late = max(0.0, self.end - time), max(0.0, self.end - time - dt)
        # the part of the step in which each puff has been born and is not spent
        begun, ended = np.minimum(early, self.age), np.maximum(late, self.age - self.life)
        here = begun > ended
        if not here.any():
            return None
        age, begun, ended = self.age[here], begun[here], ended[here]
        fraction = np.interp(age - ended, self._ages, self._given) - np.interp(age - begun, self._ages, self._given)
        back = 0.5 * (begun + ended)[:, None]
        return Births(
            self.position[here] - back * self.velocity[here],
            self.velocity[here],
            self.mass * fraction,
            self.radius,
            self.scalar,
        )
