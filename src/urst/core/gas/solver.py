"""The gas solver: air on a staggered grid that carries dust and warmth among moving solids."""

from collections.abc import Callable, Sequence

import numpy as np

from urst.core.air import AIR_DENSITY, AIR_TEMPERATURE
from urst.core.bodies.boundary import Boundary
from urst.core.bodies.pushed import PushedByGas
from urst.core.checkpoint import Checkpointed
from urst.core.curves.clock import Clock
from urst.core.curves.varies import along, at_time
from urst.core.fields import advect
from urst.core.fields.body_terms import BodyTerms, inverse_masses
from urst.core.fields.face_fields import FaceFields
from urst.core.fields.pressure import PressureSolver, Solution
from urst.core.fields.sampled import SampledField
from urst.core.fields.wet import Wet
from urst.core.gas import kernels
from urst.core.gas.pockets import balance, pockets
from urst.core.gas.settings import GasSettings
from urst.core.gas.sources import Source
from urst.core.solids import cell_kernels
from urst.core.solids.cells import Solids, clear_of_solids
from urst.errors import BadValue, SolverFailed

#: cells the fastest air may cross in one step
COURANT = 2.5
#: bounds of the factor by which dust beside solids is put right in one step
_MENDED = (0.5, 1.5)


class GasSolver(Checkpointed):
    """Incompressible air with dust (Stam 1999; Fedkiw, Stam & Jensen 2001; Bridson 2015).

    Fields, float32: `velocity` three face arrays [m/s], `density` [kg/m3] of dust and `heat` [K] over the air in
    cell centres, shape (nx, ny, nz). All sides of the domain are open.

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
        What frames hold beside the dust: `velocity`, `heat`.
    liquids : list of callable
        What it lies on: each gives the `Wet` of a time [s].
    pulse : callable
        Called between stages of the work; what it raises ends it.
    """

    STATE = ("time", "given", "drifted", "density", "heat", "velocity", "solids.solid", "lost", "owed")

    def __init__(
        self,
        settings: GasSettings,
        gravity=(0.0, 0.0, -9.81),
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
        self.density, self.heat = np.zeros(self.shape, np.float32), np.zeros(self.shape, np.float32)
        self.given = 0.0
        self.drifted = 0.0
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
        s = at_time(self.settings, self.clock, self.time + 0.5 * dt)
        was_open = self.solids.is_open
        self.solids.place(self.time + dt)
        self._advect(dt, was_open)
        self.check_cancelled()
        for source in self.sources:
            births = source.between(self.time, dt)
            if births is not None and len(births.position):
                self._source(births, s)
        self._force(dt, s)
        self._project()
        keep = np.float32(np.exp(-dt * np.log(20.0) / s.clearing))
        self.density *= keep
        self.heat *= keep
        self.time += dt
        if not np.isfinite(self.density).all() or not all(np.isfinite(u).all() for u in self.velocity):
            raise SolverFailed("The gas has no finite velocity any more: raise the most substeps or lower the push.")

    def _advect(self, h, was_open) -> None:
        """Carry all fields along the flow.

        What a body has moved over since is still where it was: the air before the body comes from there.
        """
        flow, step = self.velocity, np.float32(h / self.cell)
        scalars = [self.density, self.heat] if self.heat.any() else [self.density]
        is_open = self.solids.is_open
        is_clear = clear_of_solids(was_open, is_open)
        before = float(self.density.sum(dtype=np.float64))
        origin, goal = self._traced(flow, step, advect.CENTRE, self.density)
        for number, field in enumerate(scalars):
            ahead, out = np.empty_like(field), np.empty_like(field)
            advect.gather_open(field, was_open, is_open, *origin, ahead)
            if self.settings.sharp:
                advect.correct_open(field, ahead, is_clear, origin, goal, out)
                out = _balanced(ahead, out)
            scalars[number] = out if self.settings.sharp else ahead
        self.density = scalars[0]
        self._keep_mass(before - _outflow(self.density, flow, step), is_open & ~is_clear)
        self.drifted += (float(self.density.sum(dtype=np.float64)) - before) * self.cell**3
        if len(scalars) > 1:
            self.heat = scalars[1]
        # clean air comes in through open sides
        for field in (self.density, self.heat):
            for axis in range(3):
                for end in (0, -1):
                    side: list = [slice(None)] * 3
                    side[axis] = end
                    inward = flow[axis][tuple(side)] * (1 if end == 0 else -1) > 0
                    field[tuple(side)][inward] = 0.0
        self.velocity = [self._carried(u, flow, step, axis) for axis, u in enumerate(flow)]

    def _keep_mass(self, wanted, beside) -> None:
        """Put right beside solids what was made or lost there, where tracing keeps no account: cells that a body
        opens or closes have no one place their dust came from."""
        there = float(self.density[beside].sum(dtype=np.float64))
        if there > 0.0:
            made = float(self.density.sum(dtype=np.float64)) - wanted
            self.density[beside] *= np.float32(np.clip(1.0 - made / there, *_MENDED))

    def _traced(self, flow, step, axis, like):
        """Where the samples of one place on the grid were `step` ago and, for the correction, will be."""
        origin, goal = (advect.Places(*(np.empty_like(like) for _ in range(3))) for _ in range(2))
        if self.settings.sharp:
            advect.trace_both(FaceFields(*flow), step, axis, *origin, *goal)
        else:
            advect.trace(*flow, step, axis, *origin)
        return origin, goal

    def _carried(self, u, flow, step, axis):
        """One component of the velocity carried along the flow; inside a solid it is the solid's own."""
        origin, goal = self._traced(flow, step, axis, u)
        ahead, out = np.empty_like(u), np.empty_like(u)
        advect.gather(u, *origin, ahead)
        if not self.settings.sharp:
            return ahead
        advect.correct(u, ahead, origin, goal, out)
        return out

    def _source(self, births, s) -> None:
        added = np.zeros(self.shape, np.float32)
        momentum = np.zeros((3, *self.shape), np.float32)
        kernels.splat(
            births.position,
            births.velocity,
            births.mass,
            self.origin,
            self.cell,
            births.radius,
            self.solids.solid,
            added,
            momentum,
        )
        self.given += float(added.sum(dtype=np.float64)) * self.cell**3
        if self.settings.heat:
            fresh = added / np.maximum(self.density + added, 1e-12)
            self.heat += fresh * (np.float32(s.heat) - self.heat)
        self.density += added
        for axis in range(3):
            kernels.push(
                self.velocity[axis],
                self.solids.weights[axis],
                axis,
                added,
                momentum[axis],
                np.float32(AIR_DENSITY),
                np.float32(s.push),
            )

    def _force(self, h, s) -> None:
        weights = self.solids.weights
        for axis in range(3):
            if self.gravity[axis]:
                kernels.lift(
                    self.velocity[axis],
                    weights[axis],
                    axis,
                    self.gravity[axis],
                    self.density,
                    self.heat,
                    np.float32(h),
                    np.float32(s.weight),
                    np.float32(AIR_DENSITY),
                    np.float32(AIR_TEMPERATURE),
                )
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

    def _giving(self):
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
        """Return what a frame keeps: the dust [kg/m3], float16; by choice velocity [m/s] on the faces and heat [K]."""
        arrays: dict[str, np.ndarray] = {"density": self.density.astype(np.float16)}
        if "velocity" in self.keeps:
            arrays |= {f"velocity_{a}": u.astype(np.float16) for a, u in zip("xyz", self.velocity)}
        if "heat" in self.keeps:
            arrays["heat"] = self.heat.astype(np.float16)
        return arrays

    def gauges(self) -> dict[str, float]:
        """Return the numbers judged on every frame."""
        mass = float(self.density.sum(dtype=np.float64)) * self.cell**3
        peak = float(self.density.max())
        sides = [np.take(self.density, end, axis=axis).max() for axis in range(3) for end in (0, -1)]
        return {
            "dust_mass": mass,
            "dust_given": self.given,
            "dust_drift": self.drifted / self.given if self.given else 0.0,
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
            If the frame's grid is another.
        """
        if frame["density"].shape != self.shape:
            had, have = ("x".join(map(str, s)) for s in (frame["density"].shape, self.shape))
            raise BadValue(
                f"The start has {had} cells and this layer {have}: give both the same cell size and corners."
            )
        self.density = frame["density"].astype(np.float32)
        if "heat" in frame:
            self.heat = frame["heat"].astype(np.float32)
        if "velocity_x" in frame:
            self.velocity = [frame[f"velocity_{a}"].astype(np.float32) for a in "xyz"]
        self.given = float(self.density.sum(dtype=np.float64)) * self.cell**3


def _outflow(field, flow, step):
    """What leaves through the open sides in a step, as a sum over cells: upwind, `step` in cells a unit of velocity."""
    total = 0.0
    for axis in range(3):
        for end, sign in ((0, -1.0), (-1, 1.0)):
            side = (slice(None),) * axis + (end,)
            total += float((field[side] * np.maximum(sign * flow[axis][side], 0.0)).sum(dtype=np.float64)) * float(step)
    return total


def _balanced(ahead, corrected):
    """The corrected field with what the correction adds and what it takes made equal: it moves dust, it makes none."""
    change = corrected - ahead
    added, taken = np.maximum(change, 0.0), np.minimum(change, 0.0)
    more, less = float(added.sum(dtype=np.float64)), -float(taken.sum(dtype=np.float64))
    if more > less:
        added *= np.float32(less / more)
    elif less > 0.0:
        taken *= np.float32(more / less)
    return ahead + added + taken
