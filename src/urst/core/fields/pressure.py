"""The pressure solver: conjugate gradients preconditioned by one multigrid cycle."""

from dataclasses import dataclass

import numpy as np

from urst.core.fields import multigrid as mg


@dataclass(frozen=True)
class Solution:
    """What a solve came to."""

    iterations: int
    residual: float
    """greatest share of the right-hand side's norm left"""
    converged: bool


class _Level:
    def __init__(self, wx, wy, wz):
        nx, ny, nz = wy.shape[0], wx.shape[1], wx.shape[2]
        self.weights = (wx, wy, wz)
        self.diagonal = np.empty((nx, ny, nz), np.float32)
        self.inverse = np.empty((nx, ny, nz), np.float32)
        mg.diagonal_of(wx, wy, wz, self.diagonal, self.inverse)
        padded = (nx + 2, ny + 2, nz + 2)
        self.p, self.rhs, self.left = (np.zeros(padded, np.float32) for _ in range(3))


class PressureSolver:
    """Solve sum over faces w (p - p_neighbour) = b on a grid of (nx, ny, nz) cells, p = 0 beyond the grid.

    Face weights are the open share of each face: 0 in a solid, 1 in the open, between for cut cells (Batty,
    Bertails & Bridson 2007). Preconditioner: one V(2,2) cycle of red-black Gauss-Seidel, its post-smoother in the
    reverse order so that it stays symmetric (McAdams, Sifakis & Teran 2010).
    A region closed on all sides fixes the pressure only up to a constant; its right-hand side must sum to zero.
    """

    def __init__(self, wx: np.ndarray, wy: np.ndarray, wz: np.ndarray):
        """Build the levels from face weights, float32: (nx+1, ny, nz), (nx, ny+1, nz), (nx, ny, nz+1)."""
        self.levels = [_Level(wx, wy, wz)]
        while True:
            nx, ny, nz = self.levels[-1].diagonal.shape
            if min(nx, ny, nz) < 4 or nx % 2 or ny % 2 or nz % 2:
                break
            a, b, c = nx // 2, ny // 2, nz // 2
            coarse = [np.empty(s, np.float32) for s in ((a + 1, b, c), (a, b + 1, c), (a, b, c + 1))]
            mg.coarsen(*self.levels[-1].weights, *coarse)
            self.levels.append(_Level(*coarse))

    def solve(self, rhs: np.ndarray, *, tolerance: float = 1e-4, most: int = 60, guess: np.ndarray | None = None):
        """Solve for one right-hand side.

        Parameters
        ----------
        rhs : (nx, ny, nz) float32, zeroed here where a cell has no open face
        tolerance : float
            Stop once the residual's norm is this share of the right-hand side's.
        most : int
            Give up after so many iterations.
        guess : (nx, ny, nz) float32, optional

        Returns
        -------
        (pressure, Solution)
            pressure (nx, ny, nz) float32; 0 in closed cells.
        """
        fine = self.levels[0]
        x, r = np.zeros_like(fine.p), np.zeros_like(fine.p)
        inner = (slice(1, -1),) * 3
        b = np.zeros_like(fine.p)
        b[inner] = np.where(fine.inverse > 0, rhs, 0.0)
        if guess is not None:
            x[inner] = np.where(fine.inverse > 0, guess, 0.0)
        partial = np.empty(b.shape[0])
        goal = np.sqrt(mg.dot(b, b, partial))
        if goal == 0.0:
            return np.zeros_like(rhs), Solution(0, 0.0, True)
        mg.residual(x, b, *fine.weights, fine.diagonal, r)
        direction, image = np.zeros_like(x), np.zeros_like(x)
        zero = np.zeros_like(x)
        old = 0.0
        share = np.sqrt(mg.dot(r, r, partial)) / goal
        iterations = 0
        while share > tolerance and iterations < most:
            z = self._cycle(r)
            new = mg.dot(r, z, partial)
            mg.scale_add(direction, np.float32(new / old if old else 0.0), z)
            mg.residual(direction, zero, *fine.weights, fine.diagonal, image)
            # image = -A direction
            step = new / -mg.dot(direction, image, partial)
            mg.add_scaled(x, np.float32(step), direction)
            mg.add_scaled(r, np.float32(step), image)
            old = new
            share = np.sqrt(mg.dot(r, r, partial)) / goal
            iterations += 1
        return x[inner].copy(), Solution(iterations, float(share), bool(share <= tolerance))

    def _cycle(self, r):
        self.levels[0].rhs[:] = r
        last = len(self.levels) - 1
        for depth, level in enumerate(self.levels):
            level.p[:] = 0.0
            sweeps = 2 if depth < last else 8
            for _ in range(sweeps):
                for colour in (0, 1):
                    mg.smooth(level.p, level.rhs, *level.weights, level.inverse, colour)
            if depth < last:
                mg.residual(level.p, level.rhs, *level.weights, level.diagonal, level.left)
                mg.restrict(level.left, self.levels[depth + 1].rhs)
        for depth in range(last, -1, -1):
            level = self.levels[depth]
            if depth < last:
                mg.prolong(self.levels[depth + 1].p, level.inverse, level.p)
            for _ in range(2 if depth < last else 8):
                for colour in (1, 0):
                    mg.smooth(level.p, level.rhs, *level.weights, level.inverse, colour)
        return self.levels[0].p
