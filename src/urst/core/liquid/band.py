"""A narrow band of particles: deep in a liquid its flow is on the grid alone (Ferstl, Ando, Wojtan, Westermann &
Thuerey 2016)."""

import numpy as np
from scipy.ndimage import map_coordinates

from urst.core.checkpoint import Checkpointed
from urst.core.fields.face_fields import FaceFields
from urst.core.liquid import deep_kernels
from urst.core.liquid.inflows import Place
from urst.core.liquid.level_kernels import BAND
from urst.core.liquid.settings import PARTICLES
from urst.core.solids.thin_kernels import ALL
from urst.core.solids.walls import STAND, Walls

#: particles are kept so far about what pours, drains or slows [cells]
ROOM = 2.0
#: particles tell where the surface is in what is less deep than they are by this [cells]
COUNTED = 1.6
#: fraction of what is out of sight that may come in sight beyond what there is room for
SPARE = 1e-3


class Band(Checkpointed):
    """Where a liquid has particles.

    Parameters
    ----------
    depth : float, optional
        Down to which there are any [cells]; None: everywhere.
    seed : int

    Attributes
    ----------
    unseen : int
        Particles that would fill what holds none.
    zone, depth : (nx, ny, nz)
        See `deep_kernels`, and how deep cells lie [cells].
    steps : int
        In which some were born.
    """

    STATE = ("unseen", "steps")

    def __init__(self, depth: float | None, seed: int) -> None:
        self.most, self.seed, self.unseen = depth, seed, 0
        self.zone: np.ndarray | None = None
        self.depth: np.ndarray | None = None
        self.steps = 0

    def measure(self, phi: np.ndarray, walls: Walls, aside: np.ndarray, places: list[Place], time: float) -> None:
        """See where there are to be particles.

        Parameters
        ----------
        phi : (nx, ny, nz) float32
            Distance from the surface [cells].
        walls : Walls
            Particles are kept beside those that are thin.
        aside : (nx, ny, nz) bool
            Cells where they are kept in any case.
        places : list of Place
            And about these.
        time : float [s]
        """
        if self.most is None:
            return
        self.depth, kept = -phi, (walls.reach != ALL) | aside
        if self.most > BAND - 0.5:
            deep_kernels.deepen(self.depth)
        for place in places:
            low, high = ((end - walls.origin) / walls.cell for end in place.box(time, np.full(3, ROOM * walls.cell)))
            first = np.clip(np.floor(low), 0, phi.shape).astype(int)
            last = np.clip(np.ceil(high), 0, phi.shape).astype(int)
            kept[tuple(slice(a, b) for a, b in zip(first, last))] = True
        self.zone = np.empty(phi.shape, np.uint8)
        deep_kernels.zones(self.depth, kept, np.float32(self.most), self.zone)

    def show_all(self) -> None:
        """Take particles for what tells of the flow wherever there are some."""
        if self.zone is not None:
            self.zone.fill(deep_kernels.LEFT)

    def trim(
        self, position: np.ndarray, flow: list[np.ndarray], walls: Walls, step: float
    ) -> tuple[np.ndarray | None, np.ndarray, np.ndarray, np.ndarray]:
        """Return what becomes of particles where it is too deep for any, and where they are to be in number.

        Parameters
        ----------
        position : (n, 3) float32
            Those that there are [cells].
        flow : three arrays of faces, float32
            Before the step [m/s].
        walls : Walls
        step : float
            Cells that 1 m/s goes in it.

        Returns
        -------
        (kept, places, velocities, slopes)
            Which of them stay in sight, (n,) bool, None if all do; and those that come in sight, (m, 3) [cells], (m,
            3) [m/s], (m, 3, 3), all float32.
        """
        if self.zone is None:
            return None, np.zeros((0, 3), np.float32), np.zeros((0, 3), np.float32), np.zeros((0, 3, 3), np.float32)
        bits, out = np.zeros(self.zone.shape, np.uint8), np.empty(self.zone.shape, np.uint16)
        count = np.zeros(self.zone.shape, np.int32)
        deep_kernels.occupied(position, bits, count)
        deep_kernels.lacking(self.zone, self.depth, walls.touched, walls.distance, bits, count, out)
        self._afford(out, count, walls)
        kept = out[tuple(position.astype(np.int32).T)] < deep_kernels.ANEW
        cells = np.argwhere(out & 255)
        fresh = np.unpackbits((out[tuple(cells.T)] & 255).astype(np.uint8)[:, None], axis=1, bitorder="little")
        row, eighth = np.nonzero(fresh)
        corner = cells[row] + 0.5 * np.stack([eighth & 1, (eighth >> 1) & 1, eighth >> 2], axis=1)
        rng = np.random.default_rng([self.seed, self.steps])
        self.steps += 1
        places = (corner + 0.5 * rng.random(corner.shape)).astype(np.float32)
        # what would be born within a wall is born in the middle of its eighth, which is open
        walled = map_coordinates(walls.distance, 2.0 * places.T - 0.5, order=1, mode="nearest") < STAND
        places[walled] = corner[walled] + 0.25
        # what a thin wall parts from its cell is none of that
        places = places[walls.owner_cells(places) == np.ravel_multi_index(tuple(cells[row].T), self.zone.shape)]
        speed, slopes = np.empty((len(places), 3), np.float32), np.empty((len(places), 3, 3), np.float32)
        u, v, w = flow
        deep_kernels.take_up(places, u, v, w, np.float32(step), speed, slopes)
        self.unseen += int((~kept).sum()) - len(places)
        return kept, places, speed, slopes

    def _afford(self, out: np.ndarray, count: np.ndarray, walls: Walls) -> None:
        """Let no more come in sight than what is out of sight can give, to where there are fewest first.

        What froths under a jet is thinner than the surface tells: filled up, it would be water from nothing.
        """
        anew = out >= deep_kernels.ANEW
        births = np.bitwise_count((out & 255).astype(np.uint8)).astype(np.int64)
        net = births - np.where(anew, count, 0)
        gains = np.flatnonzero(net > 0)
        stock = self.mismatch(walls) - float(net[net < 0].sum()) + SPARE * self.unseen
        gains = gains[np.argsort(count.ravel()[gains], kind="stable")]
        out.ravel()[gains[np.cumsum(net.ravel()[gains]) > stock]] = 0

    def carry(self, flow: list[np.ndarray], axis: int, step: float, mass: np.ndarray, out: np.ndarray) -> None:
        """Write what the flow carries to faces across an axis that particles do not tell of.

        Parameters
        ----------
        flow : three arrays of faces, float32 [m/s]
        axis : int
        step : float
            Cells that 1 m/s goes in the step.
        mass, out : faces, float32
            Weight and velocity that particles give them; changed.
        """
        if self.zone is not None:
            deep_kernels.carry(FaceFields(*flow), axis, self.zone, self.depth, np.float32(step), mass, out)

    @property
    def counted(self) -> float:
        """How deep particles tell where the surface is [cells]."""
        return np.inf if self.most is None else self.most - COUNTED

    def evened(self, crowding: np.ndarray) -> None:
        """Let nothing crowd where there are few particles for being deep, in place (cells)."""
        if self.zone is not None:
            crowding[self.zone != deep_kernels.LEFT] = 0.0

    def box(self) -> tuple[np.ndarray, np.ndarray] | None:
        """Return corners of the box about what has no particles, (3,) and (3,) [cells], None if there is nothing."""
        bare = self.bare()
        if bare is None or not bare.any():
            return None
        ends = [np.flatnonzero(bare.any(axis=tuple({0, 1, 2} - {axis})))[[0, -1]] for axis in range(3)]
        return np.array([a for a, _ in ends]), np.array([b + 1 for _, b in ends])

    def bare(self) -> np.ndarray | None:
        """Return the cells without particles, (nx, ny, nz) bool, None if there are particles everywhere."""
        return None if self.zone is None else self.zone == deep_kernels.BARE

    def mismatch(self, walls: Walls) -> float:
        """Return how many particles more are booked as out of sight than would fill what has none."""
        bare = self.bare()
        room = 0.0 if bare is None else PARTICLES * float(walls.fraction[bare].sum(dtype=np.float64))
        return self.unseen - room

    def counted_for(self, walls: Walls, flow: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Return what stands for the particles out of sight: places (n, 3) [m], velocities (n, 3) [m/s], and how many
        each is (n,).

        Parameters
        ----------
        walls : Walls
        flow : (nx, ny, nz, 3) [m/s]
        """
        bare = self.bare()
        if bare is None:
            return np.zeros((0, 3)), np.zeros((0, 3)), np.zeros(0)
        fraction = walls.fraction[bare].astype(np.float64)
        places = walls.origin + walls.cell * (np.argwhere(bare) + 0.5)
        return places, flow[bare], fraction * (self.unseen / max(float(fraction.sum()), 1e-9))


def moving(
    places: np.ndarray, velocity: np.ndarray, number: np.ndarray, gravity: np.ndarray
) -> tuple[float, float, float]:
    """Return sums over all particles: of squared speeds [m2/s2] and of height times gravity [m2/s2]; and the greatest
    speed [m/s].

    Parameters
    ----------
    places : (n, 3) [m]
    velocity : (n, 3) [m/s]
    number : (n,)
        How many particles each is.
    gravity : (3,) [m/s2]
    """
    square = (velocity.astype(np.float64) ** 2).sum(axis=1)
    fastest = float(np.sqrt(square[number > 0.0].max(initial=0.0)))
    return float(number @ square), -float(number @ (places @ gravity)), fastest
