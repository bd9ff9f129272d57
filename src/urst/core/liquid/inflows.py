"""Where liquid comes in and goes: what of bodies pours it, takes it away or slows it."""

from dataclasses import dataclass

import numpy as np

from urst.core.checkpoint import Checkpointed
from urst.core.curves.clock import Clock
from urst.core.curves.curve import Curve
from urst.core.curves.stream import Stream
from urst.core.launch import launch
from urst.core.launch.settings import Launch
from urst.core.liquid.filling import grid
from urst.core.liquid.inlets import Inlet
from urst.core.liquid.level_kernels import BAND
from urst.core.liquid.settings import EDGE, PARTICLES

#: moments of a step at which what pours is filled behind what has left it
_MOMENTS = 8


@dataclass
class Place:
    """Where something happens to liquid, over a window of time."""

    mouth: Inlet
    opens: float
    """[s]"""
    closes: float
    """[s]"""

    def acts(self, time: float) -> bool:
        """Whether it is open at a time [s]."""
        return self.opens - 1e-9 <= time < self.closes

    def box(self, time: float, margin: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Return corners of the box about it.

        Parameters
        ----------
        time : float [s]
        margin : (3,) float
            How much wider [m].
        """
        low, high = self.mouth.box(time)
        return low - margin, high + margin


@dataclass
class Inflow(Place, Checkpointed):
    """A place that fills with liquid that sets off from there.

    Nothing is born where there is liquid already. With a rate no more comes in than that, and where it is full it
    presses as much out of it.
    """

    STATE = ("owed", "steps", "due", "came")

    launch: Launch
    """how it sets off, alike within a cell"""
    rate: float | Curve | None = None
    """[m3/s], a curve over frames; None: as much as its velocity takes away, from faces as much as leaves them"""
    seed: int = 1
    clock: Clock | None = None

    def __post_init__(self) -> None:
        self.stream = Stream(self.rate, self.opens, self.closes, self.clock) if self.rate is not None else None
        self.owed = 0.0
        """what should have come in and found no room yet [m3]"""
        self.steps = 0
        self.due = self.came = 0.0
        """what was to come in so far, and what did [m3]"""

    def born(
        self, time: float, dt: float, position: np.ndarray, origin: np.ndarray, cell: float, shut: np.ndarray
    ) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray, np.ndarray | None]:
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
        (places, velocity, held, anew, push)
            New particles (m, 3) [cells], how they set off (m, 3) [m/s], which of the old ones set off again (k,) and
            how (k, 3) [m/s], and how fast each cell of it should grow (nx, ny, nz) [1/s], None if it need not.
        """
        end, shape = time + dt, shut.shape
        none = np.zeros((0, 3), np.float32)
        nothing = none, none, np.zeros(0, np.int64), none, None
        middle, last_open = 0.5 * (max(time, self.opens) + min(end, self.closes)), min(end, self.closes)
        if not (time < self.closes and end > self.opens):
            return nothing
        due = self._due(time, end)
        low, high = self.box(last_open, np.full(3, cell + dt * self._fastest(last_open)))
        first = np.clip(np.floor((low - origin) / cell), 0, shape).astype(int)
        last = np.clip(np.ceil((high - origin) / cell), 0, shape).astype(int)
        if (last <= first).any():
            return nothing
        rng = np.random.default_rng([self.seed, self.steps])
        self.steps += 1
        speed, away = self._flow(origin + cell * (grid(first, last) + 0.5), last_open)
        number = np.arange(len(speed)).reshape(last - first)
        # whole cells, of eight places each
        first, last = EDGE * first, EDGE * last
        side = last - first
        corner = grid(np.zeros(3, int), side)
        own = number[tuple((corner // EDGE).T)]
        taken = np.zeros(side, np.int64)
        at = np.floor(EDGE * position).astype(int) - first
        near = ((at >= 0) & (at < side)).all(axis=1)
        np.add.at(taken, tuple(at[near].T), 1)
        places = (first + corner + rng.random(corner.shape)) / EDGE
        inside = ~shut[tuple(((first + corner) // EDGE).T)]
        inside[inside] = self._swept(origin + cell * places[inside], middle, dt * away[own[inside]], cell)
        each = cell**3 / PARTICLES
        free = self._lacking(
            rng.permutation(np.flatnonzero(inside & (taken[tuple(corner.T)] == 0))), inside, corner, taken
        )
        chosen, push = free, None
        if due is not None:
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
            fraction = 1.0 if self.mouth.backed else full
            source = inside & self.mouth.within(origin + cell * places, middle) if self.mouth.backed else inside
            push = np.zeros(shape, np.float32)
            np.add.at(
                push, tuple((first + corner[source]).T // EDGE), fraction * due / dt / (max(source.sum(), 1) * cell**3)
            )
        self.came += len(chosen) * each
        held = np.flatnonzero(near)
        held = held[~shut[tuple(position[held].astype(int).T)]]
        held = held[self.mouth.within(origin + cell * position[held], last_open)]
        out = np.minimum(places[chosen], np.array(shape) - 1e-3).astype(np.float32)
        return out, speed[own[chosen]], held, speed[number[tuple((at[held] // EDGE).T)]], push

    def _due(self, time: float, end: float) -> float | None:
        """How much is to come in over a span of time [s], [m3]; None: as much as finds room."""
        if self.stream:
            return self.stream.given(end) - self.stream.given(time)
        flux = self.mouth.flux(lambda x: self._flow(x, min(end, self.closes))[1], min(end, self.closes))
        return None if flux is None else flux * (min(end, self.closes) - max(time, self.opens))

    def _fastest(self, time: float) -> float:
        """How fast it leaves its carrier at most [m/s]."""
        x, now = self.launch, self.mouth.carrier.at(time)
        around = np.linalg.norm(now.velocity, axis=1) + np.linalg.norm(now.spin, axis=1) * np.linalg.norm(
            now.high - now.low, axis=1
        )
        return max(x.least, min(abs(x.speed) * (1.0 + x.noise), x.most)) + abs(1.0 - x.carried) * float(around.max())

    def _flow(self, places: np.ndarray, time: float) -> tuple[np.ndarray, np.ndarray]:
        """How it sets off at places (n, 3) [m], and how it leaves its carrier there, (n, 3) float32 [m/s] each."""
        now = self.mouth.carrier.at(time)
        body = np.linalg.norm(places[:, None] - now.position, axis=2).argmin(axis=1)
        own = now.velocity[body] + np.cross(now.spin[body], places - now.position[body])
        outward = self.mouth.outward(places, time) if self.launch.way == "outward" else np.zeros(places.shape)
        speed = launch.velocities(self.launch, places, outward, own)
        return speed.astype(np.float32), speed - own

    def _swept(self, places: np.ndarray, time: float, displacement: np.ndarray, cell: float) -> np.ndarray:
        """Which places (n, 3) [m] lie in it, or would so at some moment of a step with its way (n, 3) [m] taken
        back."""
        far = float(np.linalg.norm(displacement, axis=1).max(initial=0.0))
        moments = min(_MOMENTS, 1 + int(np.ceil(2.0 * far / cell)))
        return np.any(
            [self.mouth.within(places - s * displacement, time) for s in np.linspace(0.0, 1.0, moments)], axis=0
        )

    @staticmethod
    def _lacking(free: np.ndarray, inside: np.ndarray, corner: np.ndarray, taken: np.ndarray) -> np.ndarray:
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
    """A place in which liquid is slowed, or from which it is taken away."""

    damping: float = 0.0
    """how soon what is in it comes to rest with it [1/s]"""
    takes: bool = False
    """whether it is taken away"""

    def act(
        self,
        position: np.ndarray,
        speed: np.ndarray,
        affine: np.ndarray,
        phi: np.ndarray,
        origin: np.ndarray,
        cell: float,
        time: float,
        dt: float,
    ) -> np.ndarray:
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
        mine = near[self.mouth.within(origin + cell * position[near], time)]
        if not self.takes:
            own = self.mouth.carrier.at(time).velocity[0]
            keep = np.float32(np.exp(-self.damping * dt))
            speed[mine] = own + keep * (speed[mine] - own)
            affine[mine] *= keep
            return mine
        # what comes there falls into the empty
        first, last = np.maximum(np.floor(low).astype(int), 0), np.minimum(np.ceil(high).astype(int), phi.shape)
        cells = grid(first, last)
        away = -self.mouth.carrier.distance(origin + cell * (cells + 0.5), time) / cell
        spot = tuple(cells.T)
        phi[spot] = np.maximum(phi[spot], np.clip(away, -BAND, BAND))
        return mine
