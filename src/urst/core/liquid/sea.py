"""The sea beyond a liquid's domain: what is near the sides is brought to what the waves do there."""

import numpy as np

from urst.core.liquid.level_kernels import BAND
from urst.core.liquid.settings import OUTER, PARTICLES
from urst.core.liquid.waves import Waves

#: how soon the outermost liquid is as the sea beyond [1/s]
RATE = 10.0
#: particles that a cell may lack where in the band they are kept in number
LACK = 2
#: where in it, and how far above the sea's surface, there are none [cells]
INNER, OVER = 0.02, 0.25


class Sea:
    """A band along the sides in which waves come in and go out without coming back (relaxation zone: Jacobsen et al.
    2012).

    Parameters
    ----------
    waves : Waves
    band : float
        Its width [m].
    origin : (3,) float [m]
    cell : float [m]
    shape : (nx, ny, nz)
    seed : int
    """

    def __init__(
        self, waves: Waves, band: float, origin: np.ndarray, cell: float, shape: tuple[int, int, int], seed: int
    ) -> None:
        self.waves, self.band, self.seed = waves, band / cell, seed
        self.origin, self.cell, self.shape = np.asarray(origin, float), float(cell), tuple(shape)
        grid = np.stack(np.meshgrid(*(np.arange(n) for n in shape), indexing="ij"), axis=-1).reshape(-1, 3)
        fraction = self.fraction(grid + 0.5)
        self._cells = np.flatnonzero(fraction > 0.0)
        self._fraction, self._middle = fraction[self._cells], self.origin + self.cell * (grid[self._cells] + 0.5)
        self._outer = grid[fraction > OUTER]

    def fraction(self, x: np.ndarray) -> np.ndarray:
        """Return how much places (n, 3) [cells] belong to the sea: 1 at the sides, 0 farther than the band, (n,)."""
        near = np.minimum(x[:, :2], np.array(self.shape[:2], float) - x[:, :2]).min(axis=1)
        return np.clip(1.0 - near / self.band, 0.0, 1.0) ** 2

    def outer(self) -> np.ndarray:
        """Return the cells in which particles are kept in number, (nx, ny, nz) bool."""
        found = np.zeros(self.shape, bool)
        found[tuple(self._outer.T)] = True
        return found

    def level(self, phi: np.ndarray, dt: float, time: float) -> None:
        """Bring the surface in the band to where the waves have it.

        Parameters
        ----------
        phi : (nx, ny, nz) float32
            Changed in place [cells].
        dt, time : float [s]
        """
        away = np.clip((self._middle[:, 2] - self.waves.surface(self._middle, time)) / self.cell, -BAND, BAND)
        flat, pull = phi.reshape(-1), 1.0 - np.exp(-RATE * dt * self._fraction)
        flat[self._cells] += (pull * (away - flat[self._cells])).astype(np.float32)

    def flow(self, velocity: list[np.ndarray], bare: np.ndarray | None, dt: float, time: float) -> None:
        """Bring the flow in the band to how the waves go where no particles carry it.

        Parameters
        ----------
        velocity : three arrays of faces, float32
            Changed in place [m/s].
        bare : (nx, ny, nz) bool, optional
            Cells without particles; None if there are none.
        dt, time : float [s]
        """
        if bare is None:
            return
        mine = bare.reshape(-1)[self._cells]
        spot = np.unravel_index(self._cells[mine], self.shape)
        pull = 1.0 - np.exp(-RATE * dt * self._fraction[mine])
        for axis, u in enumerate(velocity):
            places = self._middle[mine].copy()
            places[:, axis] -= 0.5 * self.cell
            u[spot] += (pull * (self.waves.velocity(places, time)[:, axis] - u[spot])).astype(np.float32)

    def join(
        self, position: np.ndarray, speed: np.ndarray, fraction: np.ndarray, dt: float, time: float, number: int
    ) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Bring particles in the band to how the waves go.

        Parameters
        ----------
        position, speed : (n, 3) float32
            The latter changed in place [cells], [m/s].
        fraction : (nx, ny, nz) float32
            Open fraction of each cell.
        dt, time : float [s]
        number : int
            Particles that there ever were.

        Returns
        -------
        (keep, places, velocities)
            Which particles are still of the liquid, (n,) bool; those that are missing [cells], [m/s].
        """
        own = self.fraction(position)
        mine = np.flatnonzero(own > 0.0)
        places = self.origin + self.cell * position[mine].astype(float)
        pull = (1.0 - np.exp(-RATE * dt * own[mine]))[:, None]
        speed[mine] += (pull * (self.waves.velocity(places, time) - speed[mine])).astype(np.float32)
        keep = np.ones(len(position), bool)
        keep[mine[(places[:, 2] > self.waves.surface(places, time) + OVER * self.cell) & (own[mine] > INNER)]] = False
        middle = self.origin + self.cell * (self._outer + 0.5)
        deep = self.waves.surface(middle, time) - middle[:, 2] > 0.5 * self.cell
        outer = self._outer[deep & (fraction[tuple(self._outer.T)] > 0.99)]
        count = np.bincount(
            np.ravel_multi_index(tuple(position.astype(int).T), self.shape), minlength=int(np.prod(self.shape))
        )
        there = count[np.ravel_multi_index(tuple(outer.T), self.shape)]
        rng = np.random.default_rng([self.seed, number])
        lacking = np.repeat(outer, np.maximum(PARTICLES - LACK - there, 0), axis=0)
        fresh = np.minimum(lacking + rng.random(lacking.shape), np.array(self.shape) - 1e-3)
        return keep, fresh, self.waves.velocity(self.origin + self.cell * fresh, time)
