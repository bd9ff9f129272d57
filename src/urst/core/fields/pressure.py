"""The pressure solver: conjugate gradients preconditioned by one multigrid cycle."""

from dataclasses import dataclass

import numpy as np

from urst.core.fields import multigrid as mg

#: levels of fewer cells are left to one thread, those of far fewer go in one call
FEW, FAR_FEWER = 40_000, 12_000
#: sweeps before and after each coarser level, and on the coarsest
SWEEPS, LAST_SWEEPS = 2, 8


@dataclass(frozen=True)
class Solution:
    """What a solve came to."""

    iterations: int
    residual: float
    """share of the right-hand side's norm left"""
    converged: bool


class _Level:
    """Packed fields of one grid, and its matrix."""

    def __init__(self, shape):
        nx, ny, nz = self.shape = shape
        nk = (nz + 1) // 2
        self.cells = nx * ny * nz
        self.threads = int(self.cells >= FEW)
        self.weights = None
        self.diagonal, self.inverse = (np.zeros((2, nx, ny, nk), np.float32) for _ in range(2))
        self.p, self.rhs = self.field(), self.field()

    def field(self):
        nx, ny, nz = self.shape
        return np.zeros((2, nx + 2, ny + 2, (nz + 1) // 2 + 2), np.float32)

    def take_weights(self, wx, wy, wz):
        nx, ny, nk = self.inverse.shape[1:]
        self.weights = np.zeros((2, 6, nx, ny, nk), np.float32)
        mg.pack_weights(wx, wy, wz, self.weights, self.diagonal, self.inverse)

    def smooth(self, colour):
        if self.weights is None:
            mg.open_smooth[self.threads](self.p, self.rhs, self.inverse, colour)
        else:
            mg.smooth[self.threads](self.p, self.rhs, self.weights, self.inverse, colour)

    def restrict(self, coarse):
        if self.weights is None:
            mg.open_restrict[self.threads](self.p, self.rhs, self.diagonal, coarse.rhs)
        else:
            mg.restrict[self.threads](self.p, self.rhs, self.weights, self.diagonal, coarse.rhs)

    def prolong(self, coarse):
        mg.prolong[self.threads](coarse.p, self.inverse, self.p)


class PressureSolver:
    """Solve sum over open faces (p - p_neighbour) = b on a grid with closed cells, p = 0 beyond the grid.

    Preconditioner: one V(2,2) cycle of red-black Gauss-Seidel, its post-smoother in the reverse order so that it stays
    symmetric (McAdams, Sifakis & Teran 2010, A parallel multigrid Poisson solver for fluids simulation on large grids);
    coarse faces weigh as the mean of the fine faces they cover.
    A region closed on all sides fixes the pressure only up to a constant; its right-hand side must sum to zero.
    """

    def __init__(self, is_open: np.ndarray):
        """Build the levels from the open cells, (nx, ny, nz) bool."""
        is_open = np.ascontiguousarray(is_open, bool)
        self.levels = [_Level(is_open.shape)]
        mg.open_diagonal(is_open, self.levels[0].diagonal, self.levels[0].inverse)
        weights = None
        while True:
            shape = self.levels[-1].shape
            if min(shape) <= 4 or any(n % 2 for n in shape):
                break
            coarse = _Level(tuple(n // 2 for n in shape))
            finer, weights = weights, _faces(coarse.shape)
            if finer is None:
                for axis in range(3):
                    mg.open_faces(is_open, axis, weights[axis])
            else:
                mg.coarsen(*finer, *weights)
            coarse.take_weights(*weights)
            self.levels.append(coarse)
        first = next((d for d, x in enumerate(self.levels) if x.weights is not None and x.cells < FAR_FEWER), None)
        small = [] if first is None else self.levels[first:]
        self.large = self.levels[: len(self.levels) - len(small)]
        self.small = tuple(mg.Grid(x.p, x.rhs, x.weights, x.diagonal, x.inverse) for x in small)

    def solve(self, rhs: np.ndarray, *, tolerance: float = 1e-4, most: int = 60, guess: np.ndarray | None = None):
        """Solve for one right-hand side.

        Parameters
        ----------
        rhs : (nx, ny, nz) float32, taken as 0 where a cell is closed or has no open face
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
        x, r, direction, image = (fine.field() for _ in range(4))
        partial = np.empty(r.shape[1])
        mg.pack(rhs, fine.inverse, r)
        goal = np.sqrt(mg.dot(r, r, partial))
        if goal == 0.0:
            return np.zeros_like(rhs), Solution(0, 0.0, True)
        left = goal
        if guess is not None:
            mg.pack(guess, fine.inverse, direction)
            mg.open_apply(direction, fine.diagonal, image, partial)
            left = np.sqrt(mg.go(x, r, direction, image, np.float32(1.0), partial))
            direction[:] = 0.0
        old, iterations = 0.0, 0
        while left > tolerance * goal and iterations < most:
            z = self._cycle(r)
            new = mg.dot(r, z, partial)
            mg.turn(direction, np.float32(new / old if old else 0.0), z)
            step = new / mg.open_apply(direction, fine.diagonal, image, partial)
            left = np.sqrt(mg.go(x, r, direction, image, np.float32(step), partial))
            old = new
            iterations += 1
        pressure = np.empty_like(rhs)
        mg.unpack(x, pressure)
        return pressure, Solution(iterations, float(left / goal), bool(left <= tolerance * goal))

    def _cycle(self, r):
        """One V-cycle from nothing; returns the finest level's own array."""
        self.levels[0].rhs, own = r, self.levels[0].rhs
        last = None if self.small else self.large[-1]
        for level, coarse in zip(self.large, self.levels[1:] + [None]):
            level.p[:] = 0.0
            for _ in range(LAST_SWEEPS if level is last else SWEEPS):
                level.smooth(0)
                level.smooth(1)
            if level is not last:
                level.restrict(coarse)
        if self.small:
            mg.small_cycle(self.small, SWEEPS, LAST_SWEEPS)
        for level, coarse in reversed(list(zip(self.large, self.levels[1:] + [None]))):
            if level is not last:
                level.prolong(coarse)
            for _ in range(LAST_SWEEPS if level is last else SWEEPS):
                level.smooth(1)
                level.smooth(0)
        self.levels[0].rhs = own
        return self.levels[0].p


def _faces(shape):
    nx, ny, nz = shape
    return [np.empty(s, np.float32) for s in ((nx + 1, ny, nz), (nx, ny + 1, nz), (nx, ny, nz + 1))]
