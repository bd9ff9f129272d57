"""Bodies that give way to pressure within the pressure solve."""

from typing import Protocol

import numpy as np
from scipy.sparse import csr_array

from urst.core.fields import solid_kernels as kernels
from urst.core.fields.multigrid import packed_index, packed_size
from urst.core.fields.solids import Solids


class Movable(Protocol):
    """Bodies that pressure may push, by their number on the grid."""

    def inverse_mass(self) -> np.ndarray:
        """Return 1 / mass of each body (n,) [1/kg], 0 where it does not move."""

    def inverse_inertia(self) -> np.ndarray:
        """Return the inverse inertia of each body in world axes (n, 3, 3) [1/(kg m2)], 0 where it does not move."""

    def take(self, impulse: np.ndarray, twist: np.ndarray) -> None:
        """Take impulses (n, 3) [N s] through the centres and angular impulses (n, 3) [N m s]."""


class BodyTerms:
    """The term J^T M^-1 J that bodies add to the pressure matrix (Batty, Bertails & Bridson 2007, eq. 10).

    A row of J is one of a body's six directions: it sums the outflow that a unit of the body's velocity (or spin) drives
    out of each open cell beside it. The pressure that keeps the flow free of divergence then pushes the body by J p: both
    are solved at once, so a light body is as steady as a heavy one.

    Parameters
    ----------
    solids : Solids
    movable : Movable
    density : float
        Of the liquid or gas [kg/m3].
    """

    def __init__(self, solids: Solids, movable: Movable, density: float):
        self.solids, self.movable, self.density = solids, movable, density
        inverse_mass, inverse_inertia = movable.inverse_mass(), movable.inverse_inertia()
        bodies = len(inverse_mass)
        most = kernels.count_closed(solids.solid)
        body, cell, value = np.empty(most, np.int64), np.empty((most, 3), np.int64), np.empty((most, 6))
        kernels.list_closed(solids.solid, solids.bodies, solids.origin, solids.cell, body, cell, value)
        shape = solids.solid.shape
        columns = np.repeat(packed_index(cell, shape), 6)
        rows = (6 * body[:, None] + np.arange(6)).ravel()
        size = (6 * bodies, packed_size(shape))
        self.rows = csr_array((value.ravel(), (rows, columns)), shape=size)
        # M^-1 = L L^T, so that the term is a square and stays symmetric to rounding
        scale = density * solids.cell**3
        root = np.zeros((bodies, 6, 6))
        root[:, :3, :3] = np.sqrt(scale * inverse_mass)[:, None, None] * np.eye(3)
        gives = inverse_mass > 0.0
        root[gives, 3:, 3:] = np.linalg.cholesky(scale * inverse_inertia[gives])
        blocks = np.repeat(6 * np.arange(bodies), 36)
        inner = np.tile(np.arange(36), bodies)
        left = csr_array((root.ravel(), (blocks + inner % 6, blocks + inner // 6)), shape=(size[0], size[0]))
        self.scaled = (left @ self.rows).astype(np.float32).tocsr()
        self.scaled.eliminate_zeros()
        self.adjoint = self.scaled.T.tocsr()

    def apply(self, p: np.ndarray, out: np.ndarray) -> float:
        """Add the term's product with a packed field to `out`; return its share of p . out."""
        pushed = self.scaled @ p.ravel()
        out.ravel()[:] += self.adjoint @ pushed
        return float(pushed.astype(float) @ pushed.astype(float))

    def giving(self) -> np.ndarray:
        """Return the cells of bodies that give way, (nx, ny, nz) bool."""
        solid = self.solids.solid
        return (solid != kernels.NONE) & np.append(self.movable.inverse_mass() > 0.0, False)[solid]

    def push(self, pressure: np.ndarray) -> None:
        """Push the bodies by a solved pressure (nx, ny, nz), and give their walls the new velocity."""
        packed = np.zeros(packed_size(pressure.shape))
        cells = np.stack(np.meshgrid(*map(np.arange, pressure.shape), indexing="ij"), axis=-1).reshape(-1, 3)
        packed[packed_index(cells, pressure.shape)] = pressure.ravel()
        impulse = (self.density * self.solids.cell**3 * (self.rows @ packed)).reshape(-1, 6)
        self.movable.take(impulse[:, :3], impulse[:, 3:])
        walls = self.solids.bodies
        turned = np.einsum("nij,nj->ni", self.movable.inverse_inertia(), impulse[:, 3:])
        self.solids.bodies = walls._replace(
            velocity=walls.velocity + self.movable.inverse_mass()[:, None] * impulse[:, :3], spin=walls.spin + turned
        )
        self.solids.close()
