"""Bodies that give off dust by themselves."""

import numpy as np

from urst.core.bodies.boundary import Boundary
from urst.core.bodies.sampling import Where, sample
from urst.core.curves.clock import Clock
from urst.core.curves.curve import Curve
from urst.core.curves.stream import Stream
from urst.core.gas.sources import Births

#: places a body gives off dust from, at least and at most
_FEWEST, _MOST = 64, 20_000


class DustSource:
    """A body that gives off dust at an even rate over its surface or its volume, wherever it is.

    Parameters
    ----------
    carrier : Boundary
    where : 'surface' or 'volume'
    rate : float or Curve [kg/s]
        A curve over frames.
    velocity : (3,) float [m/s]
        How the dust sets off, beside the body's own motion.
    opens, closes : float [s]
    cell : float [m]
        Of the gas: about two places a cell give off dust.
    seed : int
    clock : Clock
        Needed for a curve only.
    scalar : int
        To which of the gas's scalars.
    """

    def __init__(
        self,
        carrier: Boundary,
        where: Where,
        rate: float | Curve,
        velocity: np.ndarray,
        opens: float,
        closes: float,
        *,
        cell: float,
        seed: int,
        clock: Clock | None = None,
        scalar: int = 0,
    ) -> None:
        self.carrier, self.velocity, self.radius, self.scalar = carrier, velocity, 1.5 * cell, scalar
        self.stream = Stream(rate, opens, closes, clock)
        f = carrier.fragments
        if where == "volume":
            cells = float(f.volume.sum()) / cell**3
        else:
            skin = f.skin.astype(float)
            area = np.linalg.norm(np.cross(skin[:, 1] - skin[:, 0], skin[:, 2] - skin[:, 0]), axis=1).sum() / 2
            cells = float(area) / cell**2
        count = int(np.clip(2 * cells, _FEWEST, _MOST))
        self.body, self.local, normal = sample(f, where, count, seed)
        # dust from a surface is given off just outside it
        self.local = self.local + (0.75 * cell * normal if where == "surface" else 0.0)

    def speed(self) -> float:
        """Return how fast the fastest place moves now [m/s], what sets off included."""
        motion = self.carrier.motion
        return float(np.abs(motion.speed + self.velocity).max())

    def between(self, time: float, dt: float) -> Births | None:
        """Return what is given off from `time` for `dt` seconds.

        Parameters
        ----------
        time, dt : float [s]
        """
        given = self.stream.given(time + dt) - self.stream.given(time)
        if given <= 0.0:
            return None
        now = self.carrier.at(time + 0.5 * dt)
        arm = np.einsum("nij,nj->ni", now.rotation[self.body], self.local)
        velocity = now.velocity[self.body] + np.cross(now.spin[self.body], arm) + self.velocity
        mass = np.full(len(self.body), given / len(self.body))
        return Births(now.position[self.body] + arm, velocity, mass, self.radius, self.scalar)
