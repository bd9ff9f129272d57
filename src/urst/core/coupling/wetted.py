"""Chips that fall into a liquid: they are carried, slowed, lifted or let sink, and do not act back."""

from collections.abc import Callable

import numpy as np

from urst.core.coupling.ports import Points
from urst.core.fields.wet import Wet

#: what goes along with a ball, as a fraction of what it displaces (Lamb 1932, sec. 92)
ALONG = 0.5
#: what bobs gives its motion to waves: the damping of a floating hemisphere, as a fraction of what it displaces and its
#: frequency (Hulme 1982, about its greatest; quoted from memory)
RADIATED = 0.3
#: the drag of a ball beyond a Reynolds number of 1,000 (Newton's regime)
FAST = 0.44


class PointsInLiquids:
    """Lets liquids act on points before each of their steps; what is dust in them is gone.

    Parameters
    ----------
    points : Points
    liquids : list of callable
        Each gives the `Wet` of a time [s].
    """

    def __init__(self, points: Points, liquids: list[Callable[[float], Wet]]) -> None:
        self.of, self.liquids = points, liquids

    def __call__(self, dt: float) -> None:
        """Let the liquids act over a step.

        Parameters
        ----------
        dt : float [s]
        """
        for liquid in self.liquids:
            self._act(liquid(self.of.time), dt)

    def _act(self, wet: Wet, dt: float) -> None:
        points, gravity, density = self.of.points, self.of.gravity, self.of.density()
        weight = float(np.linalg.norm(gravity))
        if not len(points.size):
            return
        depth = wet.depth(points.position)
        chip = self.of.is_chip()
        points.age[~chip & (depth > 0.0)] = np.inf
        mine = np.flatnonzero(chip & (depth > -0.5 * points.size))
        size, velocity = points.size[mine], points.velocity[mine]
        fraction = np.clip(0.5 + depth[mine] / size, 0.0, 1.0)
        heavy = density + ALONG * wet.density * fraction
        sinks = (density - fraction * wet.density) / heavy
        flow = wet.velocity(points.position[mine])
        relative = velocity + dt * sinks[:, None] * gravity - flow
        rate = drag(np.linalg.norm(relative, axis=1), size, wet.viscosity)
        rate += np.where(fraction < 1.0, RADIATED * np.sqrt(2.0 * weight / size), 0.0)
        rate *= wet.density * fraction / heavy
        # the solver adds all of gravity, and no air drags what is under water
        points.velocity[mine] = flow + relative / (1.0 + dt * rate)[:, None] - dt * gravity
        points.airborne[:] = 0
        points.airborne[mine] = 1


def drag(speed: np.ndarray, size: np.ndarray, viscosity: float) -> np.ndarray:
    """Return how soon a ball of the liquid's own weight would come to rest in it, (n,) [1/s] (Schiller & Naumann 1933).

    Parameters
    ----------
    speed : (n,) float
        Against the liquid [m/s].
    size : (n,) float
        Its diameter [m].
    viscosity : float
        Kinematic [m2/s].
    """
    reynolds = np.maximum(speed * size / viscosity, 1e-9)
    coefficient = np.where(reynolds < 1000.0, 24.0 / reynolds * (1.0 + 0.15 * reynolds**0.687), FAST)
    return 0.75 * coefficient * speed / size
