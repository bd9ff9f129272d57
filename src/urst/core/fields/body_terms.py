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
        """Take impulses (n, 3) [N s] through the centres and angular impulses (n, 3) [N m s].

        Parameters
        ----------
        impulse, twist : (n, 3) float [N s], [N m s]
        """


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
    joined : (nx, ny, nz) bool, optional
        Cells from which there is a way out of the grid; all, if not given. Shut in, a cell pushes bodies but does not have
        them give way: its pressure is known only up to a constant.
    """

    def __init__(self, solids: Solids, movable: Movable, density: float, joined: np.ndarray | None = None):
        self.solids, self.movable, self.density = solids, movable, density
        inverse_mass, inverse_inertia = movable.inverse_mass(), movable.inverse_inertia()
        self.bodies, shape = len(inverse_mass), solids.solid.shape
        most = kernels.count_closed(solids.solid)
        self.body, self.cell = np.empty(most, np.int64), np.empty((most, 3), np.int64)
        self.value = np.empty((most, 6))
        kernels.list_closed(solids.solid, solids.bodies, solids.origin, solids.cell, self.body, self.cell, self.value)
        # only bodies that give way add to the matrix, under numbers of their own
        gives = np.flatnonzero(inverse_mass > 0.0)
        number = np.full(self.bodies, -1)
        number[gives] = np.arange(len(gives))
        mine = number[self.body] >= 0
        if joined is not None:
            mine &= joined[self.cell[:, 0], self.cell[:, 1], self.cell[:, 2]]
        columns = np.repeat(packed_index(self.cell[mine], shape), 6)
        rows = (6 * number[self.body[mine]][:, None] + np.arange(6)).ravel()
        plain = csr_array((self.value[mine].ravel(), (rows, columns)), shape=(6 * len(gives), packed_size(shape)))
        # M^-1 = L L^T, so that the term is a square and stays symmetric to rounding
        scale = density * solids.cell**3
        root = np.zeros((len(gives), 6, 6))
        root[:, :3, :3] = np.sqrt(scale * inverse_mass[gives])[:, None, None] * np.eye(3)
        root[:, 3:, 3:] = np.linalg.cholesky(scale * inverse_inertia[gives])
        blocks = np.repeat(6 * np.arange(len(gives)), 36)
        inner = np.tile(np.arange(36), len(gives))
        left = csr_array((root.ravel(), (blocks + inner % 6, blocks + inner // 6)), shape=(6 * len(gives),) * 2)
        self.scaled = (left @ plain).astype(np.float32).tocsr()
        self.adjoint = self.scaled.T.tocsr()

    def apply(self, p: np.ndarray, out: np.ndarray) -> float:
        """Add the term's product with a packed field to `out`; return its share of p . out.

        Parameters
        ----------
        p : packed field, float32
        out : the same, changed in place
        """
        pushed = self.scaled @ p.ravel()
        out.ravel()[:] += self.adjoint @ pushed
        return float(pushed.astype(float) @ pushed.astype(float))

    def push(self, pressure: np.ndarray) -> None:
        """Push the bodies by a solved pressure (nx, ny, nz), and give their walls the new velocity."""
        i, j, k = self.cell.T
        pushed = self.density * self.solids.cell**3 * self.value * pressure[i, j, k][:, None]
        impulse = np.column_stack([np.bincount(self.body, column, minlength=self.bodies) for column in pushed.T])
        self.movable.take(impulse[:, :3], impulse[:, 3:])
        walls = self.solids.bodies
        turned = np.einsum("nij,nj->ni", self.movable.inverse_inertia(), impulse[:, 3:])
        self.solids.bodies = walls._replace(
            velocity=walls.velocity + self.movable.inverse_mass()[:, None] * impulse[:, :3], spin=walls.spin + turned
        )
        self.solids.close()
