"""The solids of a grid: which cells and faces bodies close, and how fast their walls move."""

from collections.abc import Callable
from typing import NamedTuple

import numpy as np

from urst.core.bodies.boundary import Boundary
from urst.core.fields.body_terms import Held
from urst.core.fields.wet import Wet
from urst.core.solids import cell_kernels as kernels


class Walls(NamedTuple):
    """Motion of all bodies, by number."""

    position: np.ndarray
    """(n, 3) float64 [m]"""
    velocity: np.ndarray
    """(n, 3) float64 [m/s]"""
    spin: np.ndarray
    """(n, 3) float64 [rad/s]"""


class Solids:
    """Bodies of several boundaries on one grid, numbered one boundary after another.

    Parameters
    ----------
    shape : (nx, ny, nz)
        Cells.
    origin : (3,) float [m]
        Least corner.
    cell : float [m]
    boundaries : list of Boundary

    Attributes
    ----------
    solid : (nx, ny, nz) int32
        The body each cell's centre is in, or NONE.
    weights, walls : three arrays of faces, float32
        1 where a face is open and 0 where it is closed, and the velocity of the wall behind a closed one [m/s].
    bodies : Walls
    """

    def __init__(
        self,
        shape: tuple[int, int, int],
        origin: np.ndarray | tuple[int, int, int],
        cell: float,
        boundaries: list[Boundary],
    ) -> None:
        nx, ny, nz = shape
        faces = ((nx + 1, ny, nz), (nx, ny + 1, nz), (nx, ny, nz + 1))
        self.origin, self.cell, self.boundaries = np.asarray(origin, float), float(cell), boundaries
        self.solid = np.full(shape, kernels.NONE, np.int32)
        self.weights = [np.ones(f, np.float32) for f in faces]
        self.walls = [np.zeros(f, np.float32) for f in faces]
        self.bodies = Walls(*(np.zeros((0, 3)) for _ in range(3)))
        self.first = np.concatenate([[0], np.cumsum([len(b) for b in boundaries])]).astype(int)
        self.liquids: list[Callable[[float], Wet]] = []
        """what is closed as well, and moves as it flows: each gives the `Wet` of a time [s]"""
        self._wet: list[tuple[np.ndarray, ...]] = []

    def place(self, time: float) -> None:
        """Put the bodies onto the grid where they are at a time [s]."""
        if not self.boundaries and not self.liquids:
            return
        self.solid.fill(kernels.NONE)
        found = [boundary.at(time) for boundary in self.boundaries]
        for first, bodies in zip(self.first, found):
            kernels.rasterise(bodies.hulls, bodies.low, bodies.high, first, self.origin, self.cell, self.solid)
        still = np.zeros((1 if self.liquids else 0, 3))
        chain = lambda name: np.concatenate([*(getattr(f, name) for f in found), still])  # noqa: E731
        self.bodies = Walls(chain("position"), chain("velocity"), chain("spin"))
        self._soak(time)
        self.close()

    def _soak(self, time: float) -> None:
        """Close the cells that are in a liquid, under a number after the bodies', and keep how these flow."""
        self._wet = []
        for liquid in self.liquids:
            wet = liquid(time)
            low = np.clip(np.floor((wet.origin - self.origin) / self.cell).astype(int), 0, self.solid.shape)
            end = wet.origin + wet.cell * np.array(wet.phi.shape)
            high = np.clip(np.ceil((end - self.origin) / self.cell).astype(int), low, self.solid.shape)
            cells = np.stack(np.meshgrid(*map(np.arange, low, high), indexing="ij"), axis=-1).reshape(-1, 3)
            places = self.origin + self.cell * (cells + 0.5)
            mine = (wet.depth(places) > 0.0) & (self.solid[tuple(cells.T)] == kernels.NONE)
            self.solid[tuple(cells[mine].T)] = len(self.bodies.position) - 1
            self._wet.append((cells[mine], wet.velocity(places[mine])))

    def close(self) -> None:
        """Find the closed faces and the speed of their walls anew, from the cells and the bodies' motion."""
        for axis in range(3):
            kernels.open_faces(
                self.solid, axis, self.bodies, self.origin, self.cell, self.weights[axis], self.walls[axis]
            )
            for cells, flow in self._wet:
                # a face between liquid and air goes as the liquid
                for ahead in (0, 1):
                    face, beyond = cells.copy(), cells.copy()
                    face[:, axis] += ahead
                    beyond[:, axis] += 2 * ahead - 1
                    beyond = np.clip(beyond, 0, np.array(self.solid.shape) - 1)
                    free = self.solid[tuple(beyond.T)] == kernels.NONE
                    self.walls[axis][tuple(face[free].T)] = flow[free, axis]

    def held(self) -> Held:
        """Return what bodies hold of the faces between their cells and open ones."""
        most = kernels.count_closed(self.solid)
        held = Held(np.empty(most, np.int64), np.empty((most, 3), np.int64), np.empty((most, 6)))
        kernels.list_closed(self.solid, self.bodies, self.origin, self.cell, *held)
        return held

    def push(self, inverse_mass: np.ndarray, inverse_inertia: np.ndarray, impulse: np.ndarray) -> None:
        """Give the walls of bodies the velocity that impulses leave them with.

        Parameters
        ----------
        inverse_mass : (n,) float [1/kg]
        inverse_inertia : (n, 3, 3) float
            In world axes [1/(kg m2)].
        impulse : (n, 6) float [N s], [N m s]
        """
        turned = np.einsum("nij,nj->ni", inverse_inertia, impulse[:, 3:])
        walls = self.bodies
        self.bodies = walls._replace(
            velocity=walls.velocity + inverse_mass[:, None] * impulse[:, :3], spin=walls.spin + turned
        )
        self.close()

    @property
    def is_open(self) -> np.ndarray:
        """(nx, ny, nz) bool: the cells no body is in."""
        return self.solid == kernels.NONE


def clear_of_solids(was_open: np.ndarray, is_open: np.ndarray) -> np.ndarray:
    """Return which cells, with the 26 round each, were open before and are open now; beyond the grid counts as open.

    Parameters
    ----------
    was_open, is_open : (nx, ny, nz) bool
    """
    clear = was_open & is_open
    for axis in range(3):
        ends = [(slice(None),) * axis + (s,) for s in (slice(1, None), slice(None, -1))]
        before = clear.copy()
        clear[ends[0]] &= before[ends[1]]
        clear[ends[1]] &= before[ends[0]]
    return clear
