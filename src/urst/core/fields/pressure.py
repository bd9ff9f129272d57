"""The pressure solver: conjugate gradients preconditioned by one multigrid cycle."""

from dataclasses import dataclass
from typing import Protocol

import numpy as np
from numba import get_num_threads

from urst.core.fields import matrix_kernels as matrix
from urst.core.fields import multigrid as mg
from urst.core.fields.face_fields import FaceFields
from urst.errors import BadValue

#: levels of fewer cells are left to one thread, those of far fewer go in one call
FEW, FAR_FEWER = 20_000, 12_000
#: grids of so few cells are halved at most twice
MOST_SMALL = 3
#: sweeps before and after the next coarser level, on the finest; each coarser level has one more, the coarsest these
SWEEPS, LAST_SWEEPS = 2, 8
#: faces open by less count as closed
LEAST_OPEN = 0.02
#: cells nearer than this below a free surface count as above it [cells]
LEAST_DEPTH = 0.03
#: a packed field of no cells, where there is no coarser level
NOTHING = np.zeros((2, 2, 0), np.float32)


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

    def __init__(self, shape: tuple[int, ...]) -> None:
        nx, ny, nz = self.shape = shape
        self.cells, self.stride = nx * ny * nz, (nz + 1) // 2 + 2
        self.threads = int(self.cells >= FEW)
        self.weights = np.empty((2, 0, nx, 0), np.float32)
        self.diagonal, self.inverse = (np.zeros((2, nx, ny * self.stride), np.float32) for _ in range(2))
        rows = np.arange(ny) & 1
        self.odd = np.repeat([rows, 1 - rows], self.stride, axis=1).astype(np.int32)
        self.p, self.rhs = self.field(), self.field()

    def field(self) -> np.ndarray:
        nx, ny, _ = self.shape
        return np.zeros((2, nx + 2, (ny + 2) * self.stride), np.float32)

    def take_weights(self, faces: list[np.ndarray], extra: np.ndarray) -> None:
        self.weights = np.zeros((2, 6, *self.inverse.shape[1:]), np.float32)
        matrix.pack_weights(*faces, extra, self.weights, self.diagonal, self.inverse)

    def grid(self) -> mg.Grid:
        return mg.Grid(self.p, self.rhs, self.weights, self.diagonal, self.inverse, self.odd)

    def slabs(self, sweeps: int) -> int:
        """How many slabs of planes are treated side by side: the wedges between them must not meet."""
        return max(1, min(get_num_threads(), self.shape[0] // (4 * sweeps + 8))) if self.threads else 1

    def down(self, coarse: np.ndarray, sweeps: int) -> None:
        mg.down[self.threads](*self.grid(), coarse, sweeps, self.slabs(sweeps))

    def up(self, coarse: np.ndarray, sweeps: int) -> float:
        """Return p . rhs."""
        partial = np.empty(self.shape[0])
        return mg.up[self.threads](
            self.p, self.rhs, self.weights, self.inverse, self.odd, coarse, sweeps, self.slabs(sweeps), partial
        )


class PressureSolver:
    """Solve sum over faces w (p - p_neighbour) = b on a grid, p = 0 beyond it and on a free surface.

    Cells are open or closed as a whole, or faces are open by a share (`PressureSolver.cut`). The right-hand side is
    minus the outflow of each cell, in which the closed share of a face carries its wall's velocity.

    Preconditioner: one V(2,2) cycle of red-black Gauss-Seidel, one sweep more on each coarser level, where they cost
    little; its post-smoother in the reverse order so that it stays symmetric (McAdams, Sifakis & Teran 2010, A
    parallel multigrid Poisson solver for fluids simulation on large grids); coarse faces weigh as the mean of the
    fine faces they cover. A region closed on all sides fixes the pressure only up to a constant; its right-hand side
    must sum to zero.

    Parameters
    ----------
    is_open : (nx, ny, nz) bool
        The cells that are solved; the others are closed.
    """

    def __init__(self, is_open: np.ndarray) -> None:
        is_open = np.ascontiguousarray(is_open, bool)
        fine = _Level(is_open.shape)
        matrix.open_diagonal(is_open.view(np.uint8), fine.diagonal, fine.inverse)
        self.levels = [fine]
        if _halves(fine.shape):
            coarse = _Level(tuple(n // 2 for n in fine.shape))
            weights = _faces(coarse.shape)
            for axis in range(3):
                matrix.open_faces(is_open, axis, weights[axis])
            self._add(coarse, weights, np.zeros(coarse.shape, np.float32))
        self._part()

    @classmethod
    def cut(cls, wx: np.ndarray, wy: np.ndarray, wz: np.ndarray, surface: np.ndarray | None = None) -> "PressureSolver":
        """Build for faces that are open by a share, and for a free surface.

        Parameters
        ----------
        wx, wy, wz : (nx + 1, ny, nz), (nx, ny + 1, nz), (nx, ny, nz + 1) float32
            Open share of each face, 0 to 1; shares under LEAST_OPEN count as 0.
        surface : (nx, ny, nz) float, optional
            Signed distance from a free surface [cells], negative in the liquid; p = 0 on it to second order, by ghost
            values beyond (Gibou et al. 2002; Enright et al. 2003).

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
            matrix.free_surface(FaceFields(*faces), surface, np.float32(LEAST_DEPTH), jx, jy, jz, near, exact)
            faces = joined
        made = cls.__new__(cls)
        made.levels = [_Level(shape)]
        made.levels[0].take_weights(faces, exact)
        if _halves(shape):
            coarse = _Level(tuple(n // 2 for n in shape))
            made._add(coarse, *_coarser(faces, near, coarse.shape))
        made._part()
        return made

    def _add(self, level: _Level, weights: list[np.ndarray], extra: np.ndarray) -> None:
        """Add a coarser level and all below it."""
        while True:
            level.take_weights(weights, extra)
            self.levels.append(level)
            if not _halves(level.shape):
                return
            level = _Level(tuple(n // 2 for n in level.shape))
            weights, extra = _coarser(weights, extra, level.shape)

    def _part(self) -> None:
        first = next((d for d, x in enumerate(self.levels) if d > 0 and x.cells < FAR_FEWER), None)
        small = [] if first is None else self.levels[first:]
        self.large = self.levels[: len(self.levels) - len(small)]
        self.small = len(small)
        self.small_grids = tuple(x.grid() for x in (small + [self.levels[-1]] * MOST_SMALL)[:MOST_SMALL])

    def solved(self) -> np.ndarray:
        """Return which cells have a pressure, (nx, ny, nz) bool."""
        fine = self.levels[0]
        packed, out = fine.field(), np.empty(fine.shape, np.float32)
        matrix.pack(np.ones(fine.shape, np.float32), fine.inverse, packed)
        matrix.unpack(packed, out)
        return out > 0.0

    def packed(self, field: np.ndarray) -> np.ndarray:
        """Return a field of cells (nx, ny, nz) as the solver has it, laid out flat; 0 where there is no pressure.

        Parameters
        ----------
        field : (nx, ny, nz) float32
        """
        out = self.levels[0].field()
        matrix.pack(np.ascontiguousarray(field, np.float32), self.levels[0].inverse, out)
        return out.ravel()

    def unpacked(self, flat: np.ndarray) -> np.ndarray:
        """Return as cells (nx, ny, nz) what `packed` has laid out flat.

        Parameters
        ----------
        flat : packed field, float32
        """
        out = np.empty(self.levels[0].shape, np.float32)
        matrix.unpack(np.ascontiguousarray(flat, np.float32).reshape(self.levels[0].p.shape), out)
        return out

    def solve(
        self, rhs: np.ndarray, *, tolerance: float = 1e-4, most: int = 60, terms: Term | None = None
    ) -> tuple[np.ndarray, Solution]:
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
        x, direction, image = (fine.field() for _ in range(3))
        # the finest level sweeps for the residual
        r = fine.rhs
        partial = np.empty(fine.shape[0])
        matrix.pack(rhs, fine.inverse, r)
        goal = left = np.sqrt(mg.dot(r, r, fine.stride, partial))
        if goal == 0.0:
            return np.zeros_like(rhs), Solution(0, 0.0, True)
        old, iterations = 0.0, 0
        while left > tolerance * goal and iterations < most:
            new = self._cycle()
            fraction = np.float32(new / old if old else 0.0)
            along = mg.turn(
                direction, fraction, fine.p, fine.weights, fine.diagonal, fine.odd, image, fine.slabs(SWEEPS), partial
            )
            if terms is not None:
                along += terms.apply(direction, image)
            left = np.sqrt(mg.go(x, r, direction, image, np.float32(new / along), fine.stride, partial))
            old = new
            iterations += 1
        pressure = np.empty_like(rhs)
        matrix.unpack(x, pressure)
        return pressure, Solution(iterations, float(left / goal), bool(left <= tolerance * goal))

    def _cycle(self) -> float:
        """One V-cycle from nothing for the finest level's right-hand side; returns its product with what was found."""
        coarser = self.levels[1 : len(self.large) + 1]
        rhs, p = [x.rhs for x in coarser], [x.p for x in coarser]
        sweeps = [SWEEPS + depth for depth in range(len(self.large))]
        if not self.small:
            rhs, p, sweeps[-1] = [*rhs, NOTHING], [*p, NOTHING], LAST_SWEEPS
        for level, coarse, count in zip(self.large, rhs, sweeps):
            level.down(coarse, count)
        if self.small:
            mg.small_cycle(self.small_grids, self.small, SWEEPS + len(self.large), LAST_SWEEPS)
        for level, coarse, count in reversed(list(zip(self.large, p, sweeps))):
            product = level.up(coarse, count)
        return product


def _halves(shape: tuple[int, ...]) -> bool:
    return min(shape) > 4 and not any(n % 2 for n in shape)


def _coarser(faces: list[np.ndarray], extra: np.ndarray, shape: tuple[int, ...]) -> tuple[list[np.ndarray], np.ndarray]:
    """Weights of faces and what faces to a free surface weigh, on a grid half as fine."""
    coarse, coarse_extra = _faces(shape), np.empty(shape, np.float32)
    for axis in range(3):
        matrix.coarsen(faces[axis], axis, coarse[axis])
    matrix.gather_extra(extra, coarse_extra)
    return coarse, coarse_extra


def _faces(shape: tuple[int, ...]) -> list[np.ndarray]:
    nx, ny, nz = shape
    return [np.empty(s, np.float32) for s in ((nx + 1, ny, nz), (nx, ny + 1, nz), (nx, ny, nz + 1))]
