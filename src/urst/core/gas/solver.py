"""The gas solver: air on a staggered grid that carries a list of scalars among moving solids."""

from collections.abc import Callable, Sequence

import numpy as np

from urst.core.air import AIR_DENSITY
from urst.core.bodies.boundary import Boundary
from urst.core.bodies.pushed import PushedByGas
from urst.core.checkpoint import Checkpointed
from urst.core.curves.clock import Clock
from urst.core.curves.varies import along, at_time, constant
from urst.core.fields import advect
from urst.core.fields.body_terms import BodyTerms, inverse_masses
from urst.core.fields.face_fields import FaceFields
from urst.core.fields.pressure import PressureSolver, Solution
from urst.core.fields.sampled import SampledField
from urst.core.fields.wet import Wet
from urst.core.gas import kernels
from urst.core.gas.pockets import balance, pockets
from urst.core.gas.scalars import Scalars
from urst.core.gas.settings import GasSettings, Scalar
from urst.core.gas.sources import Births, Source
from urst.core.solids import cell_kernels
from urst.core.solids.cells import Solids
from urst.errors import BadValue, SolverFailed

#: cells the fastest air may cross in one step
COURANT = 2.5


class GasSolver(Checkpointed):
    """Incompressible air with dust (Stam 1999; Fedkiw, Stam & Jensen 2001; Bridson 2015).

    Fields, float32: `velocity` three face arrays [m/s], and in cell centres the `scalars`. All sides of the domain are
    open.

    Parameters
    ----------
    settings : GasSettings
    gravity : (3,) float [m/s2]
    boundaries : list of Boundary
        The bodies the air goes round.
    sources : list of Source
        What gives off dust.
    clock : Clock
        When each frame is: curves over frames go by it, and by its frames a second `most_substeps` is meant.
    start_time : float [s]
    keeps : tuple of str
        What frames hold beside concentrations: `velocity`, and temperatures by their names.
    liquids : list of callable
        What it lies on: each gives the `Wet` of a time [s].
    check_cancelled : callable
        Called between stages of the work; what it raises ends it.
    """

    STATE = ("time", "scalars", "velocity", "solids.solid", "lost", "owed")

    def __init__(
        self,
        settings: GasSettings,
        gravity: tuple[float, float, float] = (0.0, 0.0, -9.81),
        *,
        boundaries: Sequence[Boundary] = (),
        sources: Sequence[Source] = (),
        clock: Clock | None = None,
        start_time: float = 0.0,
        keeps: tuple[str, ...] = (),
        liquids: Sequence[Callable[[float], Wet]] = (),
        check_cancelled: Callable[[], None] = lambda: None,
    ) -> None:
        self.settings, self.sources, self.keeps, self.check_cancelled = settings, list(sources), keeps, check_cancelled
        self.gravity = np.array(gravity, np.float32)
        self.shape = settings.shape()
        self.origin = np.array(settings.low, float)
        self.cell = float(settings.cell_size)
        self.clock = clock or Clock()
        self.time, self.least_dt = start_time, 1.0 / (self.clock.rate * settings.most_substeps)
        self.solids = Solids(self.shape, self.origin, self.cell, list(boundaries))
        self.solids.liquids = list(liquids)
        self.solids.place(start_time)
        self.velocity = [np.full(w.shape, s, np.float32) for w, s in zip(self.solids.weights, settings.wind)]
        self._field = SampledField(self.velocity, self.solids.weights, self.origin, self.cell, AIR_DENSITY)
        self.scalars = Scalars(settings.scalars, self.solids, self.cell)
        self.solution = Solution(0, 0.0, True)
        self.movable: PushedByGas | None = None
        """the bodies as what pressure may push, where gas and bodies act on each other"""
        self.lost = np.zeros(3)
        """momentum that pressure has taken from the air, where bodies give way [N s]"""

    def stable_dt(self) -> float:
        """Return the longest step the present flow and the sources allow [s]."""
        fastest = max(float(np.abs(u).max()) for u in self.velocity)
        fastest = max([fastest, *(source.speed() for source in self.sources)])
        return max(COURANT * self.cell / fastest, self.least_dt) if fastest > 0.0 else np.inf

    def step(self, dt: float) -> None:
        """Advance by `dt` seconds.

        Raises
        ------
        SolverFailed
            If a field is no longer finite or the pressure solve does not converge.
        """
        self.check_cancelled()
        now = self.time + 0.5 * dt
        s = at_time(self.settings, self.clock, now)
        rules = [at_time(rule, self.clock, now) for rule in self.settings.scalars]
        was_open = self.solids.is_open
        self.solids.place(self.time + dt)
        self._advect(dt, was_open)
        self.check_cancelled()
        for source in self.sources:
            births = source.between(self.time, dt)
            if births is not None and len(births.position):
                self._source(births, s, rules)
        self._force(dt, s, rules)
        self._project()
        self.scalars.diffuse_and_decay(dt, rules)
        self.time += dt
        if not self.scalars.is_finite() or not all(np.isfinite(u.sum()) for u in self.velocity):
            raise SolverFailed("The gas has no finite velocity any more: raise the most substeps or lower the push.")

    def _advect(self, h: float, was_open: np.ndarray) -> None:
        """Carry all fields along the flow.

        What a body has moved over since is still where it was: the air before the body comes from there.
        """
        flow, step = self.velocity, np.float32(h / self.cell)
        if self.scalars.used():
            places = self._traced(flow, step, advect.CENTRE, self.scalars.values[0])
            self.scalars.advect(was_open, places, flow, step)
        self.velocity = [self._carried(u, flow, step, axis) for axis, u in enumerate(flow)]

    def _traced(
        self, flow: list[np.ndarray], step: np.float32, axis: int, like: np.ndarray
    ) -> tuple[advect.Places, advect.Places | None]:
        """Where the samples of one place on the grid were `step` ago and, if there is a correction, will be."""
        origin = advect.Places(*(np.empty_like(like) for _ in range(3)))
        if not self.settings.sharp:
            advect.trace(FaceFields(*flow), step, axis, origin)
            return origin, None
        goal = advect.Places(*(np.empty_like(like) for _ in range(3)))
        advect.trace_both(FaceFields(*flow), step, axis, origin, goal)
        return origin, goal

    def _carried(self, u: np.ndarray, flow: list[np.ndarray], step: np.float32, axis: int) -> np.ndarray:
        """One component of the velocity carried along the flow; inside a solid it is the solid's own."""
        origin, goal = self._traced(flow, step, axis, u)
        ahead = np.empty_like(u)
        advect.gather(u, origin, ahead)
        if goal is None:
            return ahead
        out = np.empty_like(u)
        advect.correct(u, ahead, origin, goal, out)
        return out

    def _source(self, births: Births, s: GasSettings, rules: list[Scalar]) -> None:
        added = np.zeros(self.shape, np.float32)
        momentum = np.zeros((3, *self.shape), np.float32)
        kernels.splat(births, self.origin, self.cell, self.solids.solid, added, momentum)
        self.scalars.give(births.scalar, added, rules)
        for axis in range(3):
            kernels.push(
                self.velocity[axis],
                self.solids.weights[axis],
                axis,
                added,
                momentum[axis],
                np.float32(AIR_DENSITY),
                np.float32(constant(s.push)),
            )

    def _force(self, h: float, s: GasSettings, rules: tuple[Scalar, ...] | list[Scalar]) -> None:
        weights = self.solids.weights
        fraction = self.scalars.buoyancy(rules)
        if fraction is not None:
            for axis in range(3):
                if self.gravity[axis]:
                    kernels.lift(self.velocity[axis], weights[axis], axis, fraction, self.gravity[axis] * np.float32(h))
        if s.swirl:
            curl = kernels.Curl(*(np.zeros(self.shape, np.float32) for _ in range(4)))
            kernels.vorticity(*self.velocity, np.float32(1.0 / self.cell), *curl)
            heights = self.origin[2] + (np.arange(self.shape[2]) + 0.5) * self.cell
            amount = (along(s.swirl, heights) * self.cell * h).astype(np.float32)
            for axis in range(3):
                kernels.confine(self.velocity[axis], weights[axis], axis, curl, amount)

    def _project(self) -> None:
        """Make the flow free of divergence, with walls moving as their bodies do, and bodies giving way if they may."""
        solids = self.solids
        for u, weight, wall in zip(self.velocity, solids.weights, solids.walls):
            cell_kernels.hold(u, weight, wall)
        rhs = np.empty(self.shape, np.float32)
        cell_kernels.divergence(*self.velocity, solids.solid, rhs)
        pocket = pockets(solids.is_open)
        balance(pocket, rhs)
        terms, full = None, AIR_DENSITY * self.cell**3
        if self.movable:
            held, give = solids.held(), self._giving()
            terms = BodyTerms(self.shape, held, inverse_masses(*give), full, pocket == 0)
        solver = PressureSolver(solids.is_open)
        pressure, self.solution = solver.solve(rhs, tolerance=self.settings.tolerance, terms=terms)
        if not self.solution.converged:
            raise SolverFailed(
                f"The pressure solve left {self.solution.residual:.2g} of the divergence after "
                f"{self.solution.iterations} "
                f"rounds, more than the {self.settings.tolerance:.2g} asked for: raise the divergence left, or use "
                "larger cells."
            )
        before = self.momentum() if terms is not None else None
        for axis in range(3):
            cell_kernels.subtract_gradient(self.velocity[axis], solids.weights[axis], pressure, axis)
        if self.movable:
            self.lost += before - self.momentum()
            impulse = held.impulses(pressure, full, len(give[0]))
            bodies = impulse[: len(impulse) - bool(solids.liquids)]
            self.movable.take(bodies[:, :3], bodies[:, 3:])
            mass, inertia = self._giving()
            solids.push(mass, inertia, impulse)
            for u, weight, wall in zip(self.velocity, solids.weights, solids.walls):
                cell_kernels.hold(u, weight, wall)

    def _giving(self) -> tuple[np.ndarray, np.ndarray]:
        """Inverse masses and inertias of what may be pushed, and of liquids, which are not."""
        assert self.movable is not None
        mass, inertia, more = (
            self.movable.inverse_mass(),
            self.movable.inverse_inertia(),
            int(bool(self.solids.liquids)),
        )
        return np.append(mass, np.zeros(more)), np.concatenate([inertia, np.zeros((more, 3, 3))])

    def momentum(self) -> np.ndarray:
        """Return the momentum of the air on open faces, (3,) [N s]."""
        faces = zip(self.velocity, self.solids.weights)
        return AIR_DENSITY * self.cell**3 * np.array([float((u * w).sum(dtype=np.float64)) for u, w in faces])

    def bulk(self) -> float:
        """Return the sum of the sizes of the momenta of all faces [N s]."""
        return AIR_DENSITY * self.cell**3 * sum(float(np.abs(u).sum(dtype=np.float64)) for u in self.velocity)

    def field(self) -> SampledField:
        """Return the velocity as others sample it and push it."""
        self._field.velocity = self.velocity
        return self._field

    def frame(self) -> dict[str, np.ndarray]:
        """Return what a frame keeps, float16: the scalars by name and, by choice, velocity [m/s] on the faces."""
        arrays = self.scalars.frame(self.keeps)
        if "velocity" in self.keeps:
            arrays |= {f"velocity_{a}": u.astype(np.float16) for a, u in zip("xyz", self.velocity)}
        return arrays

    def gauges(self) -> dict[str, float]:
        """Return the numbers judged on every frame."""
        concentration, given = self.scalars.concentration(), float(self.scalars.given.sum())
        peak = float(concentration.max())
        sides = [np.take(concentration, end, axis=axis).max() for axis in range(3) for end in (0, -1)]
        return {
            "dust_mass": self.scalars.mass(),
            "dust_given": given,
            "dust_left": float(self.scalars.left.sum()),
            "dust_drift": float(self.scalars.drifted.sum()) / given if given else 0.0,
            "densest": peak,
            "edge_share": float(max(sides)) / peak if peak > 1e-6 else 0.0,
            "top_speed": max(float(np.abs(u).max()) for u in self.velocity),
            "pressure_iterations": float(self.solution.iterations),
            "divergence_left": self.solution.residual,
        }

    @property
    def owed(self) -> np.ndarray:
        """What deposits have not yet put into the velocity, for want of digits, (3,) [N s]."""
        return self._field.owed

    @owed.setter
    def owed(self, value: np.ndarray) -> None:
        self._field.owed = value

    def _restored(self) -> None:
        self.solids.close()

    def begin_from(self, frame: dict[str, np.ndarray]) -> None:
        """Begin with what a baked frame of the same grid holds; what it does not hold begins at rest.

        Raises
        ------
        BadValue
            If the frame's grid is another, or it holds none of the scalars.
        """
        held = [frame[r.name] for r in self.settings.scalars if r.name in frame]
        if not held:
            names = " or ".join(r.name for r in self.settings.scalars)
            raise BadValue(f"The start holds no {names}: begin from a layer whose air carries one of the same name.")
        shape = held[0].shape
        if shape != self.shape:
            had, have = ("x".join(map(str, x)) for x in (shape, self.shape))
            raise BadValue(
                f"The start has {had} cells and this layer {have}: give both the same cell size and corners."
            )
        self.scalars.begin_from(frame)
        if "velocity_x" in frame:
            self.velocity = [frame[f"velocity_{a}"].astype(np.float32) for a in "xyz"]
