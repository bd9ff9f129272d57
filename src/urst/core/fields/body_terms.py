"""Bodies that give way to pressure within the pressure solve."""

from typing import NamedTuple

import numpy as np
from scipy.sparse import csr_array

from urst.core.fields.multigrid import packed_index, packed_size


class Held(NamedTuple):
    """What bodies hold of the faces of a grid, `m` entries."""

    body: np.ndarray
    """(m,) int64"""
    cell: np.ndarray
    """(m, 3) int64"""
    value: np.ndarray
    """(m, 6) float64: what a unit of the body's velocity, and of its spin about its centre, drives out of that cell
    through one of its faces"""

    def impulses(self, pressure: np.ndarray, scale: float, bodies: int) -> np.ndarray:
        """Return what a pressure does to each body, (bodies, 6) [N s] and [N m s] about its centre.

        Parameters
        ----------
        pressure : (nx, ny, nz) float
            As the pressure solver has it, a change of velocity across a cell [m/s].
        scale : float
            Mass of a full cell [kg].
        bodies : int
        """
        i, j, k = self.cell.T
        pushed = scale * self.value * pressure[i, j, k][:, None]
        return np.column_stack([np.bincount(self.body, column, minlength=bodies) for column in pushed.T]).astype(float)


def inverse_masses(inverse_mass: np.ndarray, inverse_inertia: np.ndarray) -> np.ndarray:
    """Return inverse masses about centres, (n, 6, 6).

    Parameters
    ----------
    inverse_mass : (n,) float
        0 for what does not give way [1/kg].
    inverse_inertia : (n, 3, 3) float
        In world axes [1/(kg m2)].
    """
    found = np.zeros((len(inverse_mass), 6, 6))
    found[:, :3, :3] = inverse_mass[:, None, None] * np.eye(3)
    found[:, 3:, 3:] = inverse_inertia
    return found


class BodyTerms:
    """The term J^T M^-1 J that bodies add to the pressure matrix (Batty, Bertails & Bridson 2007, eq. 10).

    A row of J is one of a body's six directions: it sums the outflow that a unit of the body's velocity (or spin)
    drives out of each open cell beside it. The pressure that keeps the flow free of divergence then pushes the body
    by J p: both are solved at once, so a light body is as steady as a heavy one.

    Parameters
    ----------
    shape : (nx, ny, nz)
        Cells.
    held : Held
    inverse : (n, 6, 6) float
        Inverse masses about the bodies' centres, 0 for what does not give way [1/kg], [1/(kg m2)].
    scale : float
        Mass of a full cell [kg].
    joined : (nx, ny, nz) bool, optional
        Cells from which there is a way out of the grid; all, if not given. Shut in, a cell pushes bodies but does not
        have them give way: its pressure is known only up to a constant.
    """

    def __init__(
        self,
        shape: tuple[int, int, int],
        held: Held,
        inverse: np.ndarray,
        scale: float,
        joined: np.ndarray | None = None,
    ) -> None:
        # only bodies that give way add to the matrix, under numbers of their own
        gives = np.flatnonzero(inverse[:, 0, 0] > 0.0)
        number = np.full(len(inverse), -1)
        number[gives] = np.arange(len(gives))
        self.number = number
        """under which each body stands among those that give way, -1 for others"""
        mine = number[held.body] >= 0
        if joined is not None:
            mine &= joined[held.cell[:, 0], held.cell[:, 1], held.cell[:, 2]]
        columns = np.repeat(packed_index(held.cell[mine], shape), 6)
        rows = (6 * number[held.body[mine]][:, None] + np.arange(6)).ravel()
        plain = csr_array((held.value[mine].ravel(), (rows, columns)), shape=(6 * len(gives), packed_size(shape)))
        # M^-1 = L L^T, so that the term is a square and stays symmetric to rounding
        root = np.linalg.cholesky(scale * inverse[gives])
        blocks = np.repeat(6 * np.arange(len(gives)), 36)
        inner = np.tile(np.arange(36), len(gives))
        left = csr_array((root.ravel(), (blocks + inner % 6, blocks + inner // 6)), shape=(6 * len(gives),) * 2)
        self.left = left
        """L^T, where M^-1 = L L^T"""
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
