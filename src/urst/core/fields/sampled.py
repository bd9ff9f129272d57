"""A staggered velocity field as others sample it and push it, with the same weights both ways."""

import numpy as np

from urst.core.fields import sampled_kernels as kernels


class SampledField:
    """Velocity on the faces of a grid; what is sampled and what is deposited use the same weights.

    A hat of `reach` cells about each point, over the open faces only, normalised. Deposits are the adjoint of
    samples, so an impulse that goes into the field does just the work its sampled velocity tells.

    Parameters
    ----------
    velocity : three arrays of faces, float32 [m/s]
        Changed in place by deposits.
    weights : three arrays of faces, float32
        0 where a face is closed.
    origin : (3,) float [m]
    cell : float [m]
    density : float [kg/m3]
        Of what moves.
    """

    def __init__(
        self,
        velocity: list[np.ndarray],
        weights: list[np.ndarray],
        origin: np.ndarray | tuple[float, float, float],
        cell: float,
        density: float,
    ) -> None:
        self.velocity, self.weights = velocity, weights
        self.origin, self.cell, self.density = np.asarray(origin, float), cell, density
        self.owed = np.zeros(3)
        """what deposits have not yet put in, for want of digits [N s]"""
        self._held: list[np.ndarray] | None = None

    def holds(self, points: np.ndarray) -> np.ndarray:
        """Return which points (n, 3) [m] lie within the grid, (n,) bool."""
        nx, ny, nz = self.velocity[1].shape[0], self.velocity[0].shape[1], self.velocity[0].shape[2]
        at = (points - self.origin) / self.cell
        return ((at >= 0.0) & (at <= (nx, ny, nz))).all(axis=1)

    def sample(self, points: np.ndarray, reach: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Return the velocity about points.

        Parameters
        ----------
        points : (n, 3) float [m]
        reach : (n,) float
            Half-width of the hat [cells], at least 1.

        Returns
        -------
        (velocity, response)
            velocity (n, 3) [m/s]; response (n, 3) [1/kg], by how much the sampled velocity rises for an impulse of 1
            N s deposited at the point; 0 where no open face is near.
        """
        about = self._about(points, reach)
        velocity, response = np.zeros((len(points), 3)), np.zeros((len(points), 3))
        for axis in range(3):
            kernels.sample(self.velocity[axis], self.weights[axis], axis, about, velocity, response)
        return velocity, response / (self.density * self.cell**3)

    def deposit(self, points: np.ndarray, reach: np.ndarray, impulse: np.ndarray) -> np.ndarray:
        """Put impulses (n, 3) [N s] into the field at points; return the momentum it took, (3,) [N s], as measured on
        it.

        What single precision has swallowed is put in with the next deposit, so nothing is lost for long.

        Parameters
        ----------
        points : (n, 3) float [m]
        reach : (n,) float [cells]
        impulse : (n, 3) float [N s]
        """
        about, mass = self._about(points, reach), self.density * self.cell**3
        whole = impulse.sum(axis=0) + self.owed
        if not impulse.any():
            return np.zeros(3)
        # all of it at one point, where it is most likely to count
        impulse = impulse.copy()
        impulse[np.abs(impulse).argmax(axis=0), np.arange(3)] += self.owed
        gained = []
        for axis, held in enumerate(self._scratch()):
            amount = np.ascontiguousarray(impulse[:, axis]) / mass
            kernels.deposit(held, self.weights[axis], axis, about, amount)
            gained.append(kernels.take_over(held, self.velocity[axis], axis, about))
        taken = mass * np.array(gained)
        self.owed = whole - taken
        return taken

    def _about(self, points: np.ndarray, reach: np.ndarray) -> kernels.About:
        return kernels.About(np.ascontiguousarray(points, float), reach, self.origin, self.cell)

    def _scratch(self) -> list[np.ndarray]:
        """A field of zeros in double precision for each component."""
        if self._held is None:
            self._held = [np.zeros(u.shape) for u in self.velocity]
        return self._held

    def load(self, points: np.ndarray, reach: np.ndarray, rate: np.ndarray) -> np.ndarray:
        """Return how strongly all points together hold the field at each of them.

        Each point pulls with `rate` (n,) [kg], the impulse for a velocity difference of 1 m/s. Returns (n, 3), the
        sampled sum of what all deposit over the field's own mass.

        Parameters
        ----------
        points : (n, 3) float [m]
        reach : (n,) float [cells]
        rate : (n,) float [kg]
        """
        about, mass = self._about(points, reach), self.density * self.cell**3
        total, unused = np.zeros((len(points), 3)), np.zeros((len(points), 3))
        for axis, held in enumerate(self._scratch()):
            weight = self.weights[axis]
            kernels.deposit(held, weight, axis, about, rate / mass)
            kernels.sample(held, weight, axis, about, total, unused)
            kernels.clear(held, axis, about)
        return total
