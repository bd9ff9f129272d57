"""What holds a liquid: bodies and the domain's sides on a grid."""

from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np

from urst.core.bodies.boundary import Boundary
from urst.core.bodies.fragments import Fragments
from urst.core.bodies.placing import Placed
from urst.core.solids import body_kernels, mesh_field_kernels, thin_kernels
from urst.core.solids import wall_kernels as kernels
from urst.core.solids.body_kernels import AxisFaces, BodyMotion, Frame, Samples
from urst.core.solids.mesh_field import MeshField, mesh_fields

#: how far from walls the distance is known, and how far into them fields are continued [cells]
REACH, INTO = 4.0, 3.5
#: bodies of fewer cells hold what they are, and not what their samples say
SMALL = 200.0
#: how far particles keep from walls [cells]
STAND = 0.02
#: what is no thicker and this large across is a thin wall [cells]
THIN, ACROSS = 2.2, 3.0


class Walls:
    """Bodies of several boundaries, and the sides of the domain, as a liquid meets them: as convex parts, and where
    these are too coarse as the surface that they stand for.

    A wall is cut into cells by open fractions of the cubes about faces (variational: Batty, Bertails & Bridson 2007),
    so that liquid stands against it wherever it lies between cells.

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
        Velocity of the water beyond floor and sides at places (n, 3) [m], (n, 3) [m/s]: it comes in and goes out by
        that.
    before : Walls, optional
        Of the same bodies on another grid, from which is taken what the grid's place does not change.

    Attributes
    ----------
    distance : (2nx, 2ny, 2nz) float32
        From the nearest wall at eight samples a cell, negative within it [cells].
    weights, walls : three arrays of faces, float32
        Open fraction of each face, and the velocity of the wall beside it [m/s].
    fraction, middle : (nx, ny, nz) float32
        Open fraction of each cell, and the distance at its middle [cells].
    room : (nx, ny, nz) float32
        Open fraction of the tent about each cell's middle in which particles count for it.
    keep : (2, 3) float32
        Corners of the box that particles stay in, endless where sides are open [cells].
    within : (m, 3) int32
        Cells whose middles lie within walls or nearer to them than half a cell, the shallowest first; another array
        once walls have moved.
    owner : (2nx, 2ny, 2nz) int32
        The nearest body of each sample, by number over all boundaries.
    ease : (n,) float32
        What bodies are short of what their samples say.
    boxed : bool
        Whether floor and sides are walls.
    thin : (n,) bool
        Bodies that are thinner than the grid can show by shares alone.
    touched : (nx, ny, nz) uint8
        Cells that there are thin walls in.
    blocked : (nx, ny, nz) uint8
        Faces of cells that thin walls close, a bit each: before and behind along x, y, z.
    home : (2nx, 2ny, 2nz) uint8
        Whose room each sample is: see `thin_kernels`.
    reach : (nx, ny, nz) uint32
        Which cells about each are reached from it past thin walls: see `thin_kernels`.
    left : (nx, ny, nz) uint32
        The same where walls stood before they were placed last.
    position, velocity, spin : (n, 3) float
        Of all bodies [m], [m/s], [rad/s].
    """

    def __init__(
        self,
        shape: tuple[int, int, int],
        origin: np.ndarray,
        cell: float,
        boundaries: list[Boundary],
        box: tuple[tuple[float, float, float], tuple[float, float, float]] | None = None,
        beyond: Callable[[np.ndarray], np.ndarray] | None = None,
        before: "Walls | None" = None,
    ) -> None:
        nx, ny, nz = shape
        faces = ((nx + 1, ny, nz), (nx, ny + 1, nz), (nx, ny, nz + 1))
        self.origin, self.cell, self.boundaries = np.asarray(origin, float), float(cell), boundaries
        self.weights, self.walls = ([np.zeros(f, np.float32) for f in faces] for _ in range(2))
        self.fraction, self.middle, self.room = (np.empty(shape, np.float32) for _ in range(3))
        self.distance = np.empty((2 * nx, 2 * ny, 2 * nz), np.float32)
        self.owner, self._full = np.empty(self.distance.shape, np.int32), np.empty(self.distance.shape, np.uint16)
        self._bare, self._open = (
            np.full(self.distance.shape, REACH, np.float32),
            np.empty(self.distance.shape, np.float32),
        )
        self.keep = np.array([[-np.inf] * 3, [np.inf] * 3], np.float32)
        if box is not None:
            low, high = (np.asarray((corner - self.origin) / cell, np.float32) for corner in np.asarray(box, float))
            kernels.sides(low, high, self._bare)
            self.keep[0], self.keep[1, :2] = low + STAND, high[:2] - STAND
        self.boxed, self._beyond = box is not None, beyond
        self._fields, self.thin, self._volume = _bodies(boundaries, self.cell) if before is None else before.bodies()
        self._radius = np.concatenate([np.zeros(0), *(b.fragments.hulls.radius() for b in boundaries)])
        self._edges, self.home = (np.zeros(self.distance.shape, np.uint8) for _ in range(2))
        self._main, self.touched, self.blocked = (np.zeros(shape, np.uint8) for _ in range(3))
        self._beside, self._beside_start = np.zeros(0, np.int64), np.zeros(len(self.thin) + 1, np.int64)
        self.reach = self.left = np.full(shape, thin_kernels.ALL, np.uint32)
        self.within = np.zeros((0, 3), np.int32)
        self._where: list[np.ndarray] = []
        self._past: tuple[np.ndarray, np.ndarray] | None = None

    def bodies(self) -> tuple[list[MeshField], np.ndarray, np.ndarray]:
        """Return what does not change with the grid's place: the fields of bodies, which are thin, and volumes [m3]."""
        return self._fields, self.thin, self._volume

    def place(self, time: float) -> None:
        """Put the walls where they are at a time [s]; nothing is done where nothing has moved."""
        found = [boundary.at(time) for boundary in self.boundaries]
        chain = lambda name: np.concatenate([np.zeros((0, 3)), *(getattr(f, name) for f in found)])  # noqa: E731
        self.position, self.velocity, self.spin, low, self._high = (
            chain(n) for n in ("position", "velocity", "spin", "low", "high")
        )
        planes = np.concatenate([np.zeros((0, 4)), *(f.hulls.planes for f in found)])
        rotation = np.concatenate([np.zeros((0, 3, 3)), *(f.rotation for f in found)])
        before, past = self._past or (rotation, self.position)
        self._past = rotation, self.position
        # how each has gone since it was placed last: x to turn x + shift
        self._turn = np.ascontiguousarray(rotation @ np.transpose(before, (0, 2, 1)))
        self._shift = self.position - np.einsum("nij,nj->ni", self._turn, past)
        self.left = self.reach
        now = [planes, low]
        if len(now) == len(self._where) and all(np.array_equal(a, b) for a, b in zip(now, self._where)):
            return
        self._where = now
        self.distance[:] = self._bare
        self.owner.fill(kernels.NONE)
        self._full.fill(0)
        self._planes, self._faces = planes, np.zeros(1, np.int64)
        if found:
            ends = np.cumsum([0, *(len(f.hulls.planes) for f in found)])
            self._faces = np.concatenate([*(f.hulls.face_start[:-1] + e for f, e in zip(found, ends)), ends[-1:]])
            bodies = kernels.Convex(planes, self._faces, *self._as_parts(low))
            kernels.carve(bodies, self.origin, self.cell, REACH, self.distance, self.owner, self._full)
            for field in self._fields:
                first = int(field.parts[0])
                if np.isfinite(low[first, 0]):
                    pose = field.pose(self.position[first], rotation[first])
                    mesh_field_kernels.carve(
                        field.field, pose, self.origin, self.cell, first, self.distance, self.owner
                    )
        self._measure(found)
        kernels.open_samples(self.distance, self.owner, self.ease, self._open)
        for axis in range(3):
            kernels.open_faces(self._open, axis, self.weights[axis])
            # there is nothing beyond the grid on the walls' side
            for end, closed in zip((0, -1), self.ends(axis)):
                if closed:
                    self.weights[axis][(slice(None),) * axis + (end,)] = 0.0
        if found and not self.boxed and self._beyond is None:
            self._see_out(low)
        kernels.open_cells(self._open, self.distance, self.fraction, self.middle)
        kernels.open_about(self._open, self.room)
        self.within = kernels.behind(self.middle, np.float32(INTO))
        if self.thin.any():
            self._divide(low)

    def _as_parts(self, low: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """The bounds of bodies that stand as their convex parts, empty for those that have a field (n, 3) each [m]."""
        low, high = low.copy(), self._high.copy()
        for field in self._fields:
            low[field.parts], high[field.parts] = np.inf, -np.inf
        return low, high

    def _divide(self, low: np.ndarray) -> None:
        """See which sides of thin walls cells are on, and close what these pass through."""
        self._edges.fill(0)
        self._beside, self._beside_start = thin_kernels.beside(low, self._high, self.thin, self.cell)
        self.home.fill(thin_kernels.OWN)
        self.blocked.fill(0)
        thin_kernels.cross(self._planes, self._faces, low, self._high, self.thin, self.origin, self.cell, self._edges)
        thin_kernels.split(self.distance, self.owner, self.thin, self._edges, self._main, self.touched)
        thin_kernels.give_home(self.distance, self._edges, self._main, self.home)
        for axis in range(3):
            thin_kernels.close_faces(
                self.distance, self._edges, self._main, self.touched, axis, self.weights[axis], self.blocked
            )
        thin_kernels.block_behind(self.blocked)
        thin_kernels.share_out(self.distance, self._main, self.touched, self.home, self.fraction)
        reach = np.empty_like(self.reach)
        thin_kernels.find_reach(self.blocked, reach)
        self.reach = np.empty_like(reach)
        thin_kernels.guard(reach, self.reach)
        thin_kernels.room_about(self.distance, self.home, self.reach, self.fraction, self.room)

    def samples(self) -> Samples:
        """Return what is within walls, for kernels."""
        return Samples(self.distance, self.owner, self.ease)

    def faces(self, axis: int, weight: np.ndarray | None = None) -> AxisFaces:
        """Return the faces across an axis, for kernels.

        Parameters
        ----------
        axis : int
        weight : faces, float32, optional
            Open fractions other than the walls' own.
        """
        return AxisFaces(axis, self.weights[axis] if weight is None else weight, self.ends(axis))

    def frame(self) -> Frame:
        """Return where the grid lies, for kernels."""
        return Frame(self.origin, self.cell)

    def met(self) -> tuple[Any, ...]:
        """Return what particles meet of thin walls: planes, faces, owners, those beside each body (itself too) and
        where they begin, how each has turned and moved since it was placed last, velocities, positions, spins, origin
        and cell."""
        return (
            self._planes,
            self._faces,
            self.owner,
            self._beside,
            self._beside_start,
            self._turn,
            self._shift,
            self.velocity,
            self.position,
            self.spin,
            self.origin,
            self.cell,
        )

    def _see_out(self, low: np.ndarray) -> None:
        """Let nothing out through open sides of the grid where there is a wall beyond."""
        for axis in range(3):
            shape = np.array(self.fraction.shape)
            shape[axis] = 1
            for end in (0, -1):
                origin, size = self.origin.copy(), tuple(2 * shape)
                origin[axis] += self.cell * (-1 if end == 0 else self.fraction.shape[axis])
                distance = np.full(size, REACH, np.float32)
                owner, full = np.full(size, kernels.NONE, np.int32), np.zeros(size, np.uint16)
                bodies = kernels.Convex(self._planes, self._faces, *self._as_parts(low))
                kernels.carve(bodies, origin, self.cell, REACH, distance, owner, full)
                fraction = np.clip(0.5 + 2.0 * distance, 0.0, 1.0)
                for a in range(3):
                    fraction = 0.5 * (
                        fraction.take(np.arange(0, fraction.shape[a], 2), a)
                        + fraction.take(np.arange(1, fraction.shape[a], 2), a)
                    )
                side = (slice(None),) * axis + (end,)
                self.weights[axis][side] = np.minimum(self.weights[axis][side], fraction.take(0, axis))

    def _measure(self, found: list[Placed]) -> None:
        """See how much more bodies hold by their samples than they are: small ones would be lifted by water that they
        do not displace."""
        volume = self._volume
        held = np.zeros((len(self.distance), len(volume), 2), np.float32)
        kernels.measure(self.distance, self.owner, self._full, held)
        inside, outside = held.sum(axis=0, dtype=np.float64).T * (0.5 * self.cell) ** 3
        small = (volume < SMALL * self.cell**3) & (inside + outside > volume)
        left = np.maximum(volume - inside, 0.0) / np.maximum(outside, 1e-30)
        self.ease = np.where(small, np.minimum(left, 1.0), 1.0).astype(np.float32)

    def ends(self, axis: int) -> np.ndarray:
        """Return whether the first and the last faces across an axis lie in sides that pressure does not move, (2,)
        bool."""
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
        bodies, frame = BodyMotion(self.position, velocity, spin), self.frame()
        for axis in range(3):
            body_kernels.move_walls(self.samples(), self.faces(axis), bodies, loose, frame, self.walls[axis])

        if self._beyond is not None:
            for axis in range(3):
                for end, closed in zip((0, -1), self.ends(axis)):
                    if closed:
                        self._flow(axis, end, self._beyond)

    def _flow(self, axis: int, end: int, beyond: Callable[[np.ndarray], np.ndarray]) -> None:
        """Let the faces in a side move as the water beyond."""
        side = (slice(None),) * axis + (end,)
        shape = [n for a, n in enumerate(self.fraction.shape) if a != axis]
        places = np.empty((*shape, 3))
        grid = np.meshgrid(*(np.arange(n) + 0.5 for n in shape), indexing="ij")
        others = [a for a in range(3) if a != axis]
        for a, g in zip(others, grid):
            places[..., a] = self.origin[a] + self.cell * g
        places[..., axis] = self.origin[axis] + (0.0 if end == 0 else self.cell * self.fraction.shape[axis])
        found = beyond(places.reshape(-1, 3))[:, axis].reshape(shape)
        self.walls[axis][side] = found.astype(np.float32)

    def owner_cells(self, places: np.ndarray) -> np.ndarray:
        """Return whose room places are in, as numbers of cells (n,) int32: see `thin_kernels`.

        Parameters
        ----------
        places : (n, 3) float32 [cells]
        """
        found = np.empty(len(places), np.int32)
        thin_kernels.find_owner_cells(places, self.distance, self.home, self.reach, self.met(), found)
        return found

    def immersed(self, phi: np.ndarray) -> np.ndarray:
        """Return the fraction of each body that is in the liquid, (n,), by number over all boundaries.

        Parameters
        ----------
        phi : (nx, ny, nz) float32
            Distance from the surface [cells].
        """
        wet, whole = (np.zeros((len(phi), len(self.position))) for _ in range(2))
        body_kernels.immersed(self.distance, self.owner, phi, wet, whole)
        found = wet.sum(axis=0) / np.maximum(whole.sum(axis=0), 1.0)
        for field in self._fields:
            found[field.parts] = found[field.parts[0]]
        return found

    def speed(self) -> float:
        """Return how fast the fastest body within the grid goes [m/s]."""
        if not len(self.position):
            return 0.0
        low, high = self._where[1], self.origin + self.cell * np.array(self.fraction.shape)
        inside = (low < high).all(axis=1) & (self._high > self.origin).all(axis=1)
        # what is thin must not pass over what it holds
        out = self.thin * np.linalg.norm(self.spin, axis=1) * self._radius
        return float((np.linalg.norm(self.velocity, axis=1) + out)[inside].max(initial=0.0))


def _bodies(boundaries: list[Boundary], cell: float) -> tuple[list[MeshField], np.ndarray, np.ndarray]:
    """Fields, thinness and volumes of the bodies of all boundaries; what has a field counts as its first part."""
    fields, thin, volume, before = [], [np.zeros(0, bool)], [np.zeros(0)], 0
    for boundary in boundaries:
        f = boundary.fragments
        thin.append(thin_bodies(f, cell))
        volume.append(f.volume.copy())
        for field in mesh_fields(f, cell):
            thin[-1][field.parts] = False
            volume[-1][field.parts] = 0.0
            volume[-1][field.parts[0]] = field.volume
            fields.append(replace(field, parts=field.parts + before))
        before += len(f)
    return fields, np.concatenate(thin), np.concatenate(volume)


def thin_bodies(fragments: Fragments, cell: float) -> np.ndarray:
    """Return which bodies are walls that are thin beside cells, or parts of what has such walls, (n,) bool.

    Parameters
    ----------
    fragments : Fragments
    cell : float [m]
    """
    h, found = fragments.hulls, np.zeros(len(fragments), bool)
    for b in range(len(fragments)):
        points = h.vertices[h.vertex_start[b] : h.vertex_start[b + 1]]
        planes = h.planes[h.face_start[b] : h.face_start[b + 1]]
        if not len(planes):
            continue
        depth = planes[:, 3] - (points @ planes[:, :3].T).min(axis=0)
        thickness, normal = depth.min(), planes[depth.argmin(), :3]
        flat = points - np.outer(points @ normal, normal)
        span = np.linalg.svd(flat - flat.mean(axis=0), full_matrices=False)[2][:2]
        across = np.ptp(flat @ span.T, axis=0).min()
        found[b] = thickness < THIN * cell and (across > ACROSS * cell or fragments.whole[b] >= 0)
    # a vessel's bottom that is thicker than its wall has to be as tight where they meet
    return found | np.isin(fragments.whole, fragments.whole[found & (fragments.whole >= 0)])
