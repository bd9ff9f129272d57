"""Where liquid comes in and goes: bodies that pour it, take it away or slow it, wherever they are at the moment."""

from dataclasses import dataclass

import numpy as np

from urst.core.bodies.boundary import Boundary
from urst.core.curves.clock import Clock
from urst.core.curves.curve import Curve
from urst.core.curves.stream import Stream
from urst.core.liquid.filling import grid
from urst.core.liquid.level_kernels import BAND
from urst.core.liquid.settings import EDGE, PARTICLES

#: moments of a step at which what pours is filled behind what has left it
_MOMENTS = 8


@dataclass
class Place:
    """The inside of a body, over a window of time."""

    carrier: Boundary
    opens: float
    """[s]"""
    closes: float
    """[s]"""

    def acts(self, time: float) -> bool:
        """Whether it is open at a time [s]."""
        return self.opens - 1e-9 <= time < self.closes

    def within(self, places: np.ndarray, time: float, back: np.ndarray | None = None) -> np.ndarray:
        """Return which places lie inside at a time, or would `back` away from where they are, (n,) bool.

        Parameters
        ----------
        places : (n, 3) float [m]
        time : float [s]
        back : (m, 3) float, optional [m]
        """
        shifts = np.zeros((1, 3)) if back is None else back
        return np.any([self.carrier.distance(places - shift, time) <= 0.0 for shift in shifts], axis=0)

    def box(self, time: float, margin: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Return corners of the box about it.

        Parameters
        ----------
        time : float [s]
        margin : (3,) float
            How much wider [m].
        """
        now = self.carrier.at(time)
        return now.low.min(axis=0) - margin, now.high.max(axis=0) + margin


@dataclass
class Inflow(Place):
    """A body whose inside fills with liquid that sets off from there.

    Nothing is born where there is liquid already. With a rate no more comes in than that, and where its inside is full it
    presses as much out of it.
    """

    velocity: np.ndarray
    """(3,) [m/s], beside the carrier's own"""
    rate: float | Curve | None = None
    """[m3/s], a curve over frames; None: as much as its velocity takes away"""
    seed: int = 1
    clock: Clock | None = None

    def __post_init__(self):
        self.stream = Stream(self.rate, self.opens, self.closes, self.clock) if self.rate is not None else None
        self.owed = 0.0
        """what should have come in and found no room yet [m3]"""
        self.steps = 0
        self.due = self.came = 0.0
        """what was to come in so far, and what did [m3]"""

    def born(self, time: float, dt: float, position: np.ndarray, origin, cell: float, shut: np.ndarray):
        """Return what comes in from `time` for `dt` seconds.

        Parameters
        ----------
        time, dt : float [s]
        position : (n, 3) float32
            Of the particles there are [cells].
        origin : (3,) float [m]
        cell : float [m]
        shut : (nx, ny, nz) bool
            Cells from which liquid has no way out: nothing comes in there.

        Returns
        -------
        (places, velocity, held, push)
            New particles [cells], how they set off (3,) [m/s], which of the old ones do so as well (k,), and how fast each cell of its inside should grow (nx, ny, nz) [1/s], None if it need not.
        """
        end, shape = time + dt, shut.shape
        nothing = np.zeros((0, 3), np.float32), np.zeros(3, np.float32), np.zeros(0, np.int64), None
        middle = 0.5 * (max(time, self.opens) + min(end, self.closes))
        if not (time < self.closes and end > self.opens):
            return nothing
        due = self.stream.given(end) - self.stream.given(time) if self.stream else np.inf
        now = self.carrier.at(min(end, self.closes))
        own = now.velocity[0] + self.velocity
        way = np.linalg.norm(self.velocity) * dt
        # what has left over the step is filled as well
        moments = min(_MOMENTS, 1 + int(np.ceil(2.0 * way / cell)))
        back = np.linspace(0.0, 1.0, moments)[:, None] * (dt * self.velocity)
        low, high = self.box(min(end, self.closes), np.abs(dt * self.velocity) + cell)
        first = np.clip(np.floor(EDGE * (low - origin) / cell), 0, EDGE * np.array(shape)).astype(int)
        last = np.clip(np.ceil(EDGE * (high - origin) / cell), 0, EDGE * np.array(shape)).astype(int)
        if (last <= first).any():
            return nothing
        rng = np.random.default_rng([self.seed, self.steps])
        self.steps += 1
        # whole cells, of eight places each
        first, last = EDGE * (first // EDGE), EDGE * -(-last // EDGE)
        side = last - first
        corner = np.stack(np.meshgrid(*(np.arange(n) for n in side), indexing="ij"), axis=-1).reshape(-1, 3)
        taken = np.zeros(side, np.int64)
        at = np.floor(EDGE * position).astype(int) - first
        near = ((at >= 0) & (at < side)).all(axis=1)
        np.add.at(taken, tuple(at[near].T), 1)
        places = (first + corner + rng.random(corner.shape)) / EDGE
        inside = self.within(origin + cell * places, middle, back)
        inside &= ~shut[tuple(((first + corner) // EDGE).T)]
        each = cell**3 / PARTICLES
        free = self._lacking(
            rng.permutation(np.flatnonzero(inside & (taken[tuple(corner.T)] == 0))), inside, corner, taken
        )
        chosen, push = free, None
        if self.stream:
            total = int(inside.sum())
            self.due += due
            self.owed = min(self.owed + due, max(due, each * total))
            full = 1.0 - len(free) / max(total, 1)
            # where it is full what comes in makes itself room
            crowd = rng.permutation(np.flatnonzero(inside & (taken[tuple(corner.T)] > 0)))[
                : int(full * due / each + rng.random())
            ]
            chosen = np.concatenate([free, crowd])[: int(self.owed / each)]
            self.owed -= len(chosen) * each
            cells = np.unique(((first + corner[inside]) // EDGE), axis=0)
            if len(cells) and full > 0.0:
                push = np.zeros(shape, np.float32)
                push[tuple(cells.T)] = full * due / dt / (len(cells) * cell**3)
        self.came += len(chosen) * each
        held = np.flatnonzero(near)
        held = held[~shut[tuple(position[held].astype(int).T)]]
        held = held[self.within(origin + cell * position[held], min(end, self.closes))]
        out = np.minimum(places[chosen], np.array(shape) - 1e-3).astype(np.float32)
        return out, own.astype(np.float32), held, push

    @staticmethod
    def _lacking(free, inside, corner, taken):
        """Of the free places (k,), in the order given, those that their cells have too few particles for."""
        side = np.array(taken.shape) // EDGE
        cell = np.ravel_multi_index(tuple((corner // EDGE).T), tuple(side))
        size = int(np.prod(side))
        wanted = np.bincount(cell[inside], minlength=size)
        there = np.bincount(cell[inside], taken[tuple(corner[inside].T)], minlength=size)
        own = cell[free]
        order = np.argsort(own, kind="stable")
        start = np.concatenate([[0], np.cumsum(np.bincount(own, minlength=size))])
        rank = np.empty(len(free), np.int64)
        rank[order] = np.arange(len(free)) - start[own[order]]
        return free[rank < (wanted - there)[own]]


@dataclass
class Region(Place):
    """A body in which liquid is slowed, or from which it is taken away."""

    damping: float = 0.0
    """how soon what is in it comes to rest with it [1/s]"""
    takes: bool = False
    """whether it is taken away"""

    def act(self, position, speed, affine, phi, origin, cell: float, time: float, dt: float) -> np.ndarray:
        """Slow what is in it, or empty it of the surface, and return which particles it holds, (m,) int.

        Parameters
        ----------
        position, speed, affine : (n, 3), (n, 3), (n, 3, 3) float32
            Of the particles [cells], [m/s]; the latter two changed where it slows.
        phi : (nx, ny, nz) float32
            Distance from the surface [cells]; changed where it takes away.
        origin : (3,) float [m]
        cell : float [m]
        time, dt : float [s]
            At the end of the step, and its length.
        """
        low, high = ((end - origin) / cell for end in self.box(time, np.zeros(3)))
        near = np.flatnonzero(((position >= low) & (position <= high)).all(axis=1))
        mine = near[self.within(origin + cell * position[near], time)]
        if not self.takes:
            own = self.carrier.at(time).velocity[0]
            keep = np.float32(np.exp(-self.damping * dt))
            speed[mine] = own + keep * (speed[mine] - own)
            affine[mine] *= keep
            return mine
        # what comes there falls into the empty
        first, last = np.maximum(np.floor(low).astype(int), 0), np.minimum(np.ceil(high).astype(int), phi.shape)
        cells = grid(first, last)
        away = -self.carrier.distance(origin + cell * (cells + 0.5), time) / cell
        spot = tuple(cells.T)
        phi[spot] = np.maximum(phi[spot], np.clip(away, -BAND, BAND))
        return mine
