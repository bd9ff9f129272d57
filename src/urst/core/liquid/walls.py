"""What holds a liquid: bodies and the domain's sides on a grid."""

import numpy as np

from urst.core.bodies.boundary import Boundary
from urst.core.liquid import body_kernels
from urst.core.liquid import wall_kernels as kernels

#: how far from walls the distance is known, and how far into them fields are continued [cells]
REACH, INTO = 4.0, 3.5
#: bodies of fewer cells hold what they are, and not what their samples say
SMALL = 200.0
#: how far particles keep from walls [cells]
STAND = 0.02


class Walls:
    """Convex bodies of several boundaries, and the sides of the domain, as a liquid meets them.

    A wall is cut into cells by open shares of the cubes about faces (variational: Batty, Bertails & Bridson 2007), so that
    liquid stands against it wherever it lies between cells.

    Parameters
    ----------
    shape : (nx, ny, nz)
        Cells.
    origin : (3,) float [m]
        Least corner.
    cell : float [m]
    boundaries : list of Boundary
    box : ((3,), (3,)) float [m], optional
        Corners of a box whose floor and sides are walls; it has no lid. None: all sides are open.
    beyond : callable, optional
        Velocity of the water beyond floor and sides at places (n, 3) [m], (n, 3) [m/s]: it comes in and goes out by that.

    Attributes
    ----------
    distance : (2nx, 2ny, 2nz) float32
        From the nearest wall at eight samples a cell, negative within it [cells].
    weights, walls : three arrays of faces, float32
        Open share of each face, and the velocity of the wall beside it [m/s].
    share, middle : (nx, ny, nz) float32
        Open share of each cell, and the distance at its middle [cells].
    room : (nx, ny, nz) float32
        Open share of the tent about each cell's middle in which particles count for it.
    keep : (2, 3) float32
        Corners of the box that particles stay in, endless where sides are open [cells].
    within : (m, 3) int32
        Cells whose middles lie within walls, the shallowest first.
    owner : (2nx, 2ny, 2nz) int32
        The nearest body of each sample, by number over all boundaries.
    ease : (n,) float32
        What bodies are short of what their samples say.
    boxed : bool
        Whether floor and sides are walls.
    position, velocity, spin : (n, 3) float
        Of all bodies [m], [m/s], [rad/s].
    """

    def __init__(self, shape, origin, cell: float, boundaries: list[Boundary], box=None, beyond=None):
        nx, ny, nz = shape
        faces = ((nx + 1, ny, nz), (nx, ny + 1, nz), (nx, ny, nz + 1))
        self.origin, self.cell, self.boundaries = np.asarray(origin, float), float(cell), boundaries
        self.weights, self.walls = ([np.zeros(f, np.float32) for f in faces] for _ in range(2))
        self.share, self.middle, self.room = (np.empty(shape, np.float32) for _ in range(3))
        self.distance = np.empty((2 * nx, 2 * ny, 2 * nz), np.float32)
        self.owner, self._full = np.empty(self.distance.shape, np.int32), np.empty(self.distance.shape, np.uint16)
        self._bare = np.full(self.distance.shape, REACH, np.float32)
        self.keep = np.array([[-np.inf] * 3, [np.inf] * 3], np.float32)
        if box is not None:
            low, high = (np.asarray((corner - self.origin) / cell, np.float32) for corner in np.asarray(box, float))
            kernels.sides(low, high, self._bare)
            self.keep[0], self.keep[1, :2] = low + STAND, high[:2] - STAND
        self.boxed, self._beyond = box is not None, beyond
        self.within = np.zeros((0, 3), np.int32)
        self._where: list[np.ndarray] = []

    def place(self, time: float) -> None:
        """Put the walls where they are at a time [s]; nothing is done where nothing has moved."""
        found = [boundary.at(time) for boundary in self.boundaries]
        chain = lambda name: np.concatenate([np.zeros((0, 3)), *(getattr(f, name) for f in found)])  # noqa: E731
        self.position, self.velocity, self.spin, low, self._high = (
            chain(n) for n in ("position", "velocity", "spin", "low", "high")
        )
        planes = np.concatenate([np.zeros((0, 4)), *(f.hulls.planes for f in found)])
        now = [planes, low]
        if len(now) == len(self._where) and all(np.array_equal(a, b) for a, b in zip(now, self._where)):
            return
        self._where = now
        self.distance[:] = self._bare
        self.owner.fill(kernels.NONE)
        self._full.fill(0)
        if found:
            ends = np.cumsum([0, *(len(f.hulls.planes) for f in found)])
            kernels.carve(
                planes, np.concatenate([*(f.hulls.face_start[:-1] + e for f, e in zip(found, ends)), ends[-1:]]), low, self._high,
                self.origin, self.cell, REACH, self.distance, self.owner, self._full,
            )  # fmt: skip
        self._measure(found)
        for axis in range(3):
            kernels.open_faces(self.distance, self.owner, self.ease, axis, self.weights[axis])
            # there is nothing beyond the grid on the walls' side
            for end, closed in zip((0, -1), self.ends(axis)):
                if closed:
                    self.weights[axis][(slice(None),) * axis + (end,)] = 0.0
        kernels.open_cells(self.distance, self.owner, self.ease, self.share, self.middle)
        kernels.open_about(self.distance, self.owner, self.ease, self.share, self.room)
        self.within = kernels.behind(self.middle, np.float32(INTO))

    def _measure(self, found):
        """See how much more bodies hold by their samples than they are: small ones would be lifted by water that they do not
        displace."""
        volume = np.concatenate([np.zeros(0), *(b.fragments.volume for b in self.boundaries)])
        held = np.zeros((len(self.distance), len(volume)), np.float32)
        kernels.measure(self.distance, self.owner, held)
        samples = held.sum(axis=0, dtype=np.float64) * (0.5 * self.cell) ** 3
        small = volume < SMALL * self.cell**3
        self.ease = np.where(small & (samples > volume), volume / np.maximum(samples, 1e-30), 1.0).astype(np.float32)

    def ends(self, axis: int) -> np.ndarray:
        """Return whether the first and the last faces across an axis lie in sides that pressure does not move, (2,) bool."""
        closed = self.boxed or self._beyond is not None
        return np.array([closed, closed and axis < 2])

    def drive(self, velocity: np.ndarray, spin: np.ndarray, loose: np.ndarray | None = None) -> None:
        """Find how fast the walls at faces move.

        Parameters
        ----------
        velocity, spin : (n, 3) float
            Of the bodies [m/s], [rad/s].
        loose : (n,) bool, optional
            Those that may part from the sides of the grid.
        """
        loose = np.zeros(len(velocity), bool) if loose is None else loose
        for axis in range(3):
            body_kernels.move_walls(
                self.distance, self.owner, self.ease, self.weights[axis], axis, self.ends(axis), loose, self.position, velocity, spin, self.origin, self.cell,
                self.walls[axis],
            )  # fmt: skip

        if self._beyond is not None:
            for axis in range(3):
                for end, closed in zip((0, -1), self.ends(axis)):
                    if closed:
                        self._flow(axis, end)

    def _flow(self, axis, end):
        """Let the faces in a side move as the water beyond."""
        side = (slice(None),) * axis + (end,)
        shape = [n for a, n in enumerate(self.share.shape) if a != axis]
        places = np.empty((*shape, 3))
        grid = np.meshgrid(*(np.arange(n) + 0.5 for n in shape), indexing="ij")
        others = [a for a in range(3) if a != axis]
        for a, g in zip(others, grid):
            places[..., a] = self.origin[a] + self.cell * g
        places[..., axis] = self.origin[axis] + (0.0 if end == 0 else self.cell * self.share.shape[axis])
        found = self._beyond(places.reshape(-1, 3))[:, axis].reshape(shape)
        self.walls[axis][side] = found.astype(np.float32)

    def speed(self) -> float:
        """Return how fast the fastest body within the grid goes [m/s]."""
        if not len(self.position):
            return 0.0
        low, high = self._where[1], self.origin + self.cell * np.array(self.share.shape)
        inside = (low < high).all(axis=1) & (self._high > self.origin).all(axis=1)
        return float(np.linalg.norm(self.velocity[inside], axis=1).max(initial=0.0))
