"""Foam, bubbles, spray and mist over time."""

from collections.abc import Callable

import numpy as np

from urst.core.checkpoint import Checkpointed
from urst.core.fields.liquid_frame import LiquidFrame
from urst.core.froth import kernels
from urst.core.froth.settings import BUBBLE, FOAM, MIST, SPRAY, FrothSettings

#: cells that the fastest point may cross in a step, and steps a frame at most
COURANT, MOST_STEPS = 1.5, 8
#: newborn points differ in speed from the liquid by up to this fraction of it
STRAY = 0.15
_NAMES = {FOAM: "foam", BUBBLE: "bubbles", SPRAY: "spray", MIST: "mist"}


class FrothSolver(Checkpointed):
    """Points that a liquid gives birth to and carries along (Ihmsen, Akinci, Akinci & Teschner 2012, Unified spray,
    foam and air bubbles for particle-based fluids): spray flies, foam goes with the surface, bubbles rise; each
    becomes another where it comes to be another.

    Parameters
    ----------
    settings : FrothSettings
    gravity : (3,) float [m/s2]
    origin : (3,) float [m]
        Least corner of the liquid's grid.
    cell : float
        Edge of its cells [m].
    shape : (nx, ny, nz)
        Its cells.
    start_time : float [s]
    check_cancelled : callable
        Called between stages of the work; what it raises ends it.
    """

    STATE = ("position", "velocity", "age", "life", "kind", "time", "born", "refused", "steps", "rate")

    def __init__(
        self,
        settings: FrothSettings,
        gravity: tuple[float, float, float],
        origin: tuple[float, float, float],
        cell: float,
        shape: tuple[int, int, int],
        *,
        start_time: float = 0.0,
        check_cancelled: Callable[[], None] = lambda: None,
    ) -> None:
        self.settings, self.gravity, self.check_cancelled = settings, np.array(gravity, np.float32), check_cancelled
        self.origin, self.cell, self.shape = np.asarray(origin, float), float(cell), tuple(shape)
        self.time = start_time
        self.position, self.velocity = np.zeros((0, 3), np.float32), np.zeros((0, 3), np.float32)
        self.age, self.life, self.kind = np.zeros(0, np.float32), np.zeros(0, np.float32), np.zeros(0, np.uint8)
        self.phi, self.walls = np.full(self.shape, 3.0, np.float32), np.full(self.shape, 2.0, np.float32)
        self.blocked = np.zeros(self.shape, np.uint8)
        self.flow, self.filled = np.zeros((*self.shape, 3), np.float32), np.zeros(self.shape, np.float32)
        self.born = self.refused = self.steps = 0
        """points there ever were, and that there was no room for; steps so far"""
        self.rate = 0.0
        """points born of late [1/(m3 s)]"""
        s = settings
        groups = (s.foam, s.bubbles, s.spray, s.mist)
        self._on = np.array([g.on for g in groups], np.uint8)
        self._lives = np.array([g.life for g in groups], np.float32)
        self._sizes = np.array([g.size for g in groups], np.float32)
        self._rules = np.array([s.bubbles.drag, s.spray.drag, s.mist.drag, s.bubbles.rise], np.float32)

    def take(self, liquid: LiquidFrame) -> None:
        """Take up the liquid as it is at the end of the next step.

        Parameters
        ----------
        liquid : LiquidFrame
        """
        self.phi = np.ascontiguousarray(liquid.phi, np.float32)
        self.walls = np.ascontiguousarray(liquid.walls, np.float32)
        self.blocked = np.ascontiguousarray(liquid.blocked, np.uint8)
        total, weight = np.zeros((*self.shape, 3), np.float32), np.zeros(self.shape, np.float32)
        places = ((liquid.position - self.origin) / self.cell).astype(np.float32)
        kernels.spread_velocity(places, np.ascontiguousarray(liquid.velocity, np.float32), total, weight)
        # deep in the liquid no particle tells of the flow
        deep = (weight == 0.0) & (self.phi < 0.0)
        total[deep], weight[deep] = liquid.flow[deep], 1.0
        self.filled = weight
        for _ in range(2):
            out, known = np.empty_like(total), np.empty(self.shape, np.uint8)
            kernels.extend(total, weight, out, known)
            total, weight = out, known.astype(np.float32)
        self.flow = total

    def stable_dt(self) -> float:
        """Return the longest step that the fastest point allows [s]."""
        fastest = float(np.sqrt((self.velocity**2).sum(axis=1).max(initial=0.0)))
        return COURANT * self.cell / fastest if fastest > 0.0 else np.inf

    def step(self, dt: float) -> None:
        """Advance by `dt` seconds: what is born, and how all move."""
        self.check_cancelled()
        parts = int(min(MOST_STEPS, max(1, np.ceil(dt / self.stable_dt()))))
        self._spawn(dt)
        points = kernels.FrothPoints(self.position, self.velocity, self.age, self.life, self.kind)
        wind = np.array(self.settings.wind, np.float32)
        rule = kernels.MoveRule(self._rules, self._lives, self._on, self.gravity, wind)
        for _ in range(parts):
            self.check_cancelled()
            kernels.move(points, self._medium(), rule, np.float32(dt / parts))
        here = self.kind != kernels.GONE
        for name in ("position", "velocity", "age", "life", "kind"):
            setattr(self, name, getattr(self, name)[here])
        self.time += dt
        self.steps += 1

    def _medium(self) -> kernels.Medium:
        return kernels.Medium(self.phi, self.walls, self.blocked, self.flow, np.float32(self.cell))

    def _spawn(self, dt: float) -> None:
        """Let the liquid give birth to points near its surface, and fast spray to mist."""
        s, b = self.settings, self.settings.births
        rng = np.random.default_rng([s.seed, self.steps])
        out = np.empty(self.shape, np.float32)
        limits = lambda x: np.array([x.none, x.full], np.float32)  # noqa: E731
        volume = self.cell**3
        rates = np.array([b.trapped * volume, b.crests * volume], np.float32)
        births = kernels.Births(limits(b.speed), limits(b.clash), limits(b.crest), rates)
        kernels.potentials(self._medium(), self.filled, births, out)
        cells = np.flatnonzero(out > 0.0)
        count = rng.poisson(dt * out.ravel()[cells])
        self.rate = float(count.sum()) / (dt * volume * max(len(cells), 1))
        number = np.repeat(cells, count)
        corner = np.stack(np.unravel_index(number, self.shape), axis=1).astype(np.float32)
        places = corner + rng.random((len(number), 3), np.float32)
        speed = self.flow.reshape(-1, 3)[number]
        stray = rng.standard_normal((len(number), 3)).astype(np.float32)
        fresh = [(places, speed + STRAY * np.linalg.norm(speed, axis=1, keepdims=True) * stray, FOAM)]
        if s.mist.on and s.mist.rate > 0.0:
            spray = np.flatnonzero(self.kind == SPRAY)
            fast = np.linalg.norm(self.velocity[spray], axis=1)
            fraction = np.clip((fast - s.mist.speed.none) / (s.mist.speed.full - s.mist.speed.none), 0.0, 1.0)
            rate = s.mist.rate * fraction
            rate *= min(1.0, s.mist.most / max(float(rate.sum()), 1e-9))
            parent = np.repeat(spray, rng.poisson(dt * rate))
            around, stray = rng.standard_normal((2, len(parent), 3)).astype(np.float32)
            way = self.velocity[parent]
            # all along what a drop has flown in the step, or it would hang in beads
            back = (dt / self.cell) * rng.random((len(parent), 1)) * way
            strays = s.mist.scatter * np.linalg.norm(way, axis=1, keepdims=True) * stray
            fresh.append((self.position[parent] - back + 0.3 * around, s.mist.carried * way + strays, MIST))
        for where, how, kind in fresh:
            room = max(0, s.most - len(self.kind))
            self.refused += max(0, len(where) - room)
            where, how = where[:room], how[:room]
            self.born += len(where)
            spread = (0.5 + rng.random(len(where))).astype(np.float32)
            self.position = np.concatenate(
                [self.position, np.clip(where, 0.0, np.array(self.shape) - 1e-3).astype(np.float32)]
            )
            self.velocity = np.concatenate([self.velocity, how.astype(np.float32)])
            self.age = np.concatenate([self.age, np.zeros(len(where), np.float32)])
            self.life = np.concatenate([self.life, spread * self._lives[kind]])
            self.kind = np.concatenate([self.kind, np.full(len(where), kind, np.uint8)])

    def frame(self) -> dict[str, np.ndarray]:
        """Return what a frame keeps: places [m], velocities [m/s], sizes [m], ages [s] and kinds."""
        return {
            "position": (self.origin + self.cell * self.position).astype(np.float32),
            "velocity": self.velocity.astype(np.float16),
            "size": self._sizes[self.kind].astype(np.float16),
            "age": self.age.astype(np.float16),
            "kind": self.kind.copy(),
        }

    def gauges(self) -> dict[str, float]:
        """Return the numbers judged on every frame."""
        count = np.bincount(self.kind, minlength=len(_NAMES))
        total = float(len(self.kind))
        fastest = float(np.sqrt((self.velocity**2).sum(axis=1).max(initial=0.0)))
        return {
            "froth": total,
            **{name: float(count[kind]) for kind, name in _NAMES.items()},
            "birth_rate": self.rate,
            "refused": self.refused / (self.born + self.refused) if self.born + self.refused else 0.0,
            "top_speed": fastest,
        }
