"""Points given off by something that does not break."""

from dataclasses import dataclass, field

import numpy as np

from urst.core.bodies.boundary import Boundary
from urst.core.bodies.sampling import Where, sample
from urst.core.curves.clock import Clock
from urst.core.curves.curve import Curve
from urst.core.curves.stream import Stream
from urst.core.curves.varies import along
from urst.core.debris.kernels import Points
from urst.core.debris.settings import CHIP, PUFF, DebrisSettings

#: places drawn at a time
_POOL = 4096


@dataclass
class PointSource:
    """A body that gives off points, from wherever it is at the moment of each birth.

    The k-th point is born when k have been given off, so births do not depend on how time is cut into steps.
    """

    carrier: Boundary
    where: Where
    rate: float | Curve
    """[1/s], a curve over frames"""
    dust_share: float | Curve
    """fraction of the points that are puffs, 0 to 1, a curve over frames"""
    velocity: np.ndarray
    """(3,) [m/s], beside the carrier's own"""
    spread: float | Curve
    """random speed [m/s], a curve over frames"""
    opens: float
    """[s]"""
    closes: float
    """[s]"""
    seed: int = 1
    clock: Clock = field(default_factory=Clock)

    def __post_init__(self) -> None:
        self.stream = Stream(self.rate, self.opens, self.closes, self.clock)

    def between(self, time: float, dt: float, settings: DebrisSettings) -> Points:
        """Return the points born from `time` for `dt` seconds, where they are at the end of it.

        Parameters
        ----------
        time, dt : float [s]
        settings : DebrisSettings
            Sizes of chips.
        """
        first, last = (self._count(t) for t in (time, time + dt))
        parts = [
            self._born(k, min(last, (k // _POOL + 1) * _POOL), time, time + dt, settings)
            for k in self._cuts(first, last)
        ]
        return Points(*(np.concatenate(c) for c in zip(*parts)))

    def _cuts(self, first: int, last: int) -> list[int]:
        """Where a run of numbers begins, and each pool within it."""
        return [first, *range((first // _POOL + 1) * _POOL, last, _POOL)]

    def _count(self, time: float) -> int:
        # a hair early, so that a birth due at the very end of a step is not left out by rounding
        return int(np.ceil(max(0.0, self.stream.given(time) - 1e-9)))

    def _born(self, first: int, last: int, start: float, end: float, s: DebrisSettings) -> Points:
        number = np.arange(first, last)
        n = len(number)
        rng = np.random.default_rng([self.seed, first // _POOL])
        body, local, _ = sample(self.carrier.fragments, self.where, _POOL, int(rng.integers(2**31)))
        draws = rng.random((_POOL, 6))[number - first // _POOL * _POOL]
        body, local = (a[number - first // _POOL * _POOL] for a in (body, local))
        born = self.stream.when(number, start, end)
        age = end - born
        frames = np.interp(born, [start, end], [self.clock.frame(start), self.clock.frame(end)])
        now = self.carrier.at(end)
        arm = np.einsum("nij,nj->ni", now.rotation[body], local)
        own = now.velocity[body] + np.cross(now.spin[body], arm)
        launch = self.velocity + along(self.spread, frames)[:, None] * (2.0 * draws[:, :3] - 1.0)
        ratio = s.smallest / s.largest
        return Points(
            # the place it left has moved on since, and the point beyond that by its launch
            position=now.position[body] + arm + age[:, None] * launch,
            velocity=own + launch,
            size=s.smallest / np.sqrt(1.0 - draws[:, 3] * (1.0 - ratio * ratio)),
            age=age,
            kind=np.where(draws[:, 4] < along(self.dust_share, frames), PUFF, CHIP).astype(np.uint8),
            airborne=np.zeros(n, np.uint8),
        )
