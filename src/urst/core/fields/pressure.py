"""The pressure solver: conjugate gradients preconditioned by one multigrid cycle."""

from dataclasses import dataclass
from typing import Protocol

import numpy as np

from urst.core.fields import multigrid as mg
from urst.errors import BadValue

#: levels of fewer cells are left to one thread, those of far fewer go in one call
FEW, FAR_FEWER = 40_000, 12_000
#: sweeps before and after each coarser level, and on the coarsest
SWEEPS, LAST_SWEEPS = 2, 8
#: faces open by less count as closed
LEAST_OPEN = 0.02
#: cells nearer than this below a free surface count as above it [cells]
LEAST_DEPTH = 0.03


@dataclass(frozen=True)
class Solution:
    """What a solve came to."""

    iterations: int
    residual: float
    """share of the right-hand side's norm left"""
    converged: bool


class Term(Protocol):
    """What something adds to the matrix, such as bodies that give way; symmetric and not negative."""

    def apply(self, p: np.ndarray, out: np.ndarray) -> float:
        """Add the term's product with a packed field to `out`; return its share of p . out.

        Parameters
        ----------
        p : packed field, float32
        out : the same, changed in place
        """


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

    def take_weights(self, faces, extra):
        nx, ny, nk = self.inverse.shape[1:]
        self.weights = np.zeros((2, 6, nx, ny, nk), np.float32)
        mg.pack_weights(*faces, extra, self.weights, self.diagonal, self.inverse)

    def smooth(self, colour):
        if self.weights is None:
            mg.open_smooth[self.threads](self.p, self.rhs, self.inverse, colour)
        else:
            mg.smooth[self.threads](self.p, self.rhs, self.weights, self.inverse, colour)

    def apply(self, p, out, partial):
        if self.weights is None:
            return mg.open_apply(p, self.diagonal, out, partial)
        return mg.apply(p, self.weights, self.diagonal, out, partial)

    def restrict(self, coarse):
        if self.weights is None:
            mg.open_restrict[self.threads](self.p, self.rhs, self.diagonal, coarse.rhs)
        else:
            mg.restrict[self.threads](self.p, self.rhs, self.weights, self.diagonal, coarse.rhs)

    def prolong(self, coarse):
        mg.prolong[self.threads](coarse.p, self.inverse, self.p)


class PressureSolver:
    """Solve sum over faces w (p - p_neighbour) = b on a grid, p = 0 beyond it and on a free surface.

    Cells are open or closed as a whole, or faces are open by a share (`PressureSolver.cut`). The right-hand side is minus
    the outflow of each cell, in which the closed share of a face carries its wall's velocity.

    Preconditioner: one V(2,2) cycle of red-black Gauss-Seidel, its post-smoother in the reverse order so that it stays
    symmetric (McAdams, Sifakis & Teran 2010, A parallel multigrid Poisson solver for fluids simulation on large grids);
    coarse faces weigh as the mean of the fine faces they cover.
    A region closed on all sides fixes the pressure only up to a constant; its right-hand side must sum to zero.

    Parameters
    ----------
    is_open : (nx, ny, nz) bool
        The cells that are solved; the others are closed.
    """

    def __init__(self, is_open: np.ndarray):
        is_open = np.ascontiguousarray(is_open, bool)
        fine = _Level(is_open.shape)
        mg.open_diagonal(is_open, fine.diagonal, fine.inverse)
        self.levels = [fine]
        if _halves(fine.shape):
            coarse = _Level(tuple(n // 2 for n in fine.shape))
            weights = _faces(coarse.shape)
            for axis in range(3):
                mg.open_faces(is_open, axis, weights[axis])
            self._add(coarse, weights, np.zeros(coarse.shape, np.float32))
        self._part()

    @classmethod
    def cut(cls, wx, wy, wz, surface=None) -> "PressureSolver":
        """Build for faces that are open by a share, and for a free surface.

        Parameters
        ----------
        wx, wy, wz : (nx + 1, ny, nz), (nx, ny + 1, nz), (nx, ny, nz + 1) float32
            Open share of each face, 0 to 1; shares under LEAST_OPEN count as 0.
        surface : (nx, ny, nz) float, optional
            Signed distance from a free surface [cells], negative in the liquid; p = 0 on it to second order, by ghost values
            beyond (Gibou et al. 2002; Enright et al. 2003).

        Raises
        ------
        BadValue
            If shapes do not fit or a share is out of range.
        """
        faces = [np.where(np.asarray(w) < LEAST_OPEN, 0, w).astype(np.float32) for w in (wx, wy, wz)]
        shape = faces[1].shape[0], faces[0].shape[1], faces[0].shape[2]
        for axis, (w, name) in enumerate(zip(faces, "xyz")):
            wanted = tuple(n + (axis == a) for a, n in enumerate(shape))
            if w.shape != wanted:
                raise BadValue(f"The faces across {name} have the shape {w.shape}; a grid of {shape} has {wanted}.")
            if not ((w >= 0) & (w <= 1)).all():
                raise BadValue(f"Open shares of faces across {name} must lie from 0 to 1.")
        near = np.zeros(shape, np.float32)
        exact = near
        if surface is not None:
            if np.shape(surface) != shape:
                raise BadValue(f"The surface has the shape {np.shape(surface)}; the grid's is {shape}.")
            near, exact, joined = np.empty(shape, np.float32), np.empty(shape, np.float32), _faces(shape)
            surface = np.ascontiguousarray(surface, np.float32)
            jx, jy, jz = joined
            mg.free_surface(mg.Faces(*faces), surface, np.float32(LEAST_DEPTH), jx, jy, jz, near, exact)
            faces = joined
        made = cls.__new__(cls)
        made.levels = [_Level(shape)]
        made.levels[0].take_weights(faces, exact)
        if _halves(shape):
            coarse = _Level(tuple(n // 2 for n in shape))
            made._add(coarse, *_coarser(faces, near, coarse.shape))
        made._part()
        return made

    def _add(self, level, weights, extra):
        """Add a coarser level and all below it."""
        while True:
            level.take_weights(weights, extra)
            self.levels.append(level)
            if not _halves(level.shape):
                return
            level = _Level(tuple(n // 2 for n in level.shape))
            weights, extra = _coarser(weights, extra, level.shape)

    def _part(self):
        # the finest level is never among them, since its right-hand side is lent
        first = next((d for d, x in enumerate(self.levels) if d > 0 and x.cells < FAR_FEWER), None)
        small = [] if first is None else self.levels[first:]
        self.large = self.levels[: len(self.levels) - len(small)]
        self.small = tuple(mg.Grid(x.p, x.rhs, x.weights, x.diagonal, x.inverse) for x in small)

    def solve(self, rhs: np.ndarray, *, tolerance: float = 1e-4, most: int = 60, terms: Term | None = None):
        """Solve for one right-hand side.

        Parameters
        ----------
        rhs : (nx, ny, nz) float32
            Taken as 0 where a cell is closed or has no open face.
        tolerance : float
            Stop once the residual's norm is this share of the right-hand side's.
        most : int
            Give up after so many iterations.
        terms : Term, optional
            What is added to the matrix.

        Returns
        -------
        (pressure, Solution)
            pressure (nx, ny, nz) float32; 0 in closed cells.

        Raises
        ------
        BadValue
            If the right-hand side has another shape than the grid.
        """
        fine = self.levels[0]
        if rhs.shape != fine.shape:
            raise BadValue(f"The right-hand side has the shape {rhs.shape}; the grid's is {fine.shape}.")
        x, r, direction, image = (fine.field() for _ in range(4))
        partial = np.empty(r.shape[1])
        mg.pack(rhs, fine.inverse, r)
        goal = left = np.sqrt(mg.dot(r, r, partial))
        if goal == 0.0:
            return np.zeros_like(rhs), Solution(0, 0.0, True)
        old, iterations = 0.0, 0
        while left > tolerance * goal and iterations < most:
            z = self._cycle(r)
            new = mg.dot(r, z, partial)
            mg.turn(direction, np.float32(new / old if old else 0.0), z)
            along = fine.apply(direction, image, partial)
            if terms is not None:
                along += terms.apply(direction, image)
            left = np.sqrt(mg.go(x, r, direction, image, np.float32(new / along), partial))
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
            mg.first[level.threads](level.p, level.rhs, level.inverse)
            level.smooth(1)
            for _ in range((LAST_SWEEPS if level is last else SWEEPS) - 1):
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


def _halves(shape):
    return min(shape) > 4 and not any(n % 2 for n in shape)


def _coarser(faces, extra, shape):
    """Weights of faces and what faces to a free surface weigh, on a grid half as fine."""
    coarse, coarse_extra = _faces(shape), np.empty(shape, np.float32)
    for axis in range(3):
        mg.coarsen(faces[axis], axis, coarse[axis])
    mg.gather_extra(extra, coarse_extra)
    return coarse, coarse_extra


def _faces(shape):
    nx, ny, nz = shape
    return [np.empty(s, np.float32) for s in ((nx + 1, ny, nz), (nx, ny + 1, nz), (nx, ny, nz + 1))]
