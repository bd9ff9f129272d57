"""The liquid solver: particles that carry the flow, and a surface that stays still."""

from collections.abc import Callable, Sequence
from functools import partial
from typing import Any

import numpy as np

from urst.core.bodies.boundary import Boundary
from urst.core.bodies.pushed import PushedByLiquid
from urst.core.checkpoint import Checkpointed
from urst.core.curves.clock import Clock
from urst.core.fields.face_fields import FaceFields
from urst.core.fields.liquid_frame import LiquidFrame
from urst.core.fields.pressure import Solution
from urst.core.liquid import continuation_kernels, deep_kernels, filling, level_kernels, particle_kernels, thick_flow
from urst.core.liquid.air import Kept
from urst.core.liquid.band import Band, moving
from urst.core.liquid.damping import damped
from urst.core.liquid.inflows import Inflow, Region
from urst.core.liquid.particle_kernels import Barriers, CellList, Particles, StepRule
from urst.core.liquid.port import SEEN, Port
from urst.core.liquid.pressure_step import LEAST, PressureStep, spread
from urst.core.liquid.restart import Lattice, Taken, taken_up
from urst.core.liquid.sea import Sea
from urst.core.liquid.settings import EDGE, PARTICLES, SIDE, LiquidSettings
from urst.core.liquid.viscous import apply_surface_tension, steady_dt
from urst.core.liquid.waves import Waves
from urst.core.liquid.window import Window, beside, fitted, moved, over
from urst.core.solids.walls import STAND, Walls
from urst.errors import BadValue, SolverFailed

#: cells that the fastest liquid may cross in one step
COURANT = 2.0
#: what is so far above the surface flies by itself [cells]
SPRAY = 0.4
#: frames hold no greater speed [m/s] nor pressure [kPa]
FASTEST, MOST_PRESSED = 6e4, 6e4
#: what lies so deep in the liquid is full, whether particles show it or not [cells]
DEEP = 1.0
#: gaps are closed among cells that are open by so much
WIDE = 0.75
#: particles are counted for the surface so deep [cells]
COUNTED = 3.0
#: fraction of a loss of volume that is given back in a second, while that is little
MEND = 5.0
#: and in a step at most
MOST_MEND = 0.2
#: the surface is raised at once by so much at most to hold what particles fill, where it moves [cells]
MOST_RAISED = 0.3


class LiquidSolver(Port, Checkpointed):
    """An incompressible liquid with a free surface among moving walls.

    Particles carry velocities and their slopes (APIC: Jiang et al. 2015); pressure is solved on cut faces (Batty,
    Bertails & Bridson 2007) with a second-order free surface (Gibou et al. 2002). The surface is a level set that
    goes with the flow and is brought nearer to where the particles are in proportion to how far it moves, so that
    liquid at rest stays at rest.

    Parameters
    ----------
    settings : LiquidSettings
    gravity : (3,) float [m/s2]
    boundaries : list of Boundary
        What holds the liquid and what moves in it.
    inflows : list of Inflow
        What pours.
    regions : list of Region
        Where liquid is taken away or slowed.
    clock : Clock
        By its frames a second `most_substeps` is meant.
    start_time : float [s]
    check_cancelled : callable
        Called between stages of the work; what it raises ends it.
    """

    STATE = (
        *("box", "time", "position", "speed", "affine", "phi", "pressed", "velocity", "pockets", "push", "band"),
        *("inflows", "lost", "poured", "flying", "begun", "drained", "given", "taken", "exchanged"),
    )
    RECORDS = {"pockets": Kept}

    def __init__(
        self,
        settings: LiquidSettings,
        gravity: np.ndarray | tuple[float, float, float] = (0.0, 0.0, -9.81),
        *,
        boundaries: Sequence[Boundary] = (),
        inflows: Sequence[Inflow] = (),
        regions: Sequence[Region] = (),
        clock: Clock | None = None,
        start_time: float = 0.0,
        check_cancelled: Callable[[], None] = lambda: None,
    ) -> None:
        self.settings, self.check_cancelled, self.inflows, self.regions = (
            settings,
            check_cancelled,
            list(inflows),
            list(regions),
        )
        self.gravity, self.shape, self.cell = np.array(gravity, float), settings.shape(), float(settings.cell_size)
        self.origin = np.array(settings.low, float)
        self._up = -self.gravity / max(float(np.linalg.norm(self.gravity)), 1e-9)
        self.clock, self.time = clock or Clock(), start_time
        self.least_dt = 1.0 / (self.clock.rate * settings.most_substeps)
        self.waves = Waves.over(settings, float(np.linalg.norm(self.gravity)))
        self.sea: Sea | None = None
        if settings.sides == "waves":
            assert self.waves is not None
            self.sea = Sea(self.waves, settings.waves.band, self.origin, self.cell, self.shape, settings.seed)
        self._boundaries, self.domain = list(boundaries), self.shape
        self.window = Window((0, 0, 0), self.shape)
        """the part of the domain that is solved"""
        self.walls, self._aside = self._hold(), self._sides()
        self.walls.place(start_time)
        self.velocity = [np.zeros(w.shape, np.float32) for w in self.walls.weights]
        self.phi = np.full(self.shape, level_kernels.BAND, np.float32)
        self.position = np.zeros((0, 3), np.float32)
        self.speed = np.zeros((0, 3), np.float32)
        self.affine = np.zeros((0, 3, 3), np.float32)
        self.band = Band(settings.particle_depth, settings.seed)
        self._stores = [[self.position, self.speed, self.affine] for _ in range(2)]
        self._start = np.zeros(self.phi.size + 1, np.int64)
        self._owner_cell = np.zeros(0, np.int32)
        self._source, self._sourced = np.zeros(0, np.int32), np.zeros((0, 3), np.int32)
        """the open cells that the surface goes on from into walls, and the cells within these"""
        self._known = [np.zeros(u.shape, np.uint8) for u in self.velocity]
        self.lost = 0
        """particles that have left the domain"""
        self.drained = 0
        """particles that regions have taken away"""
        self.flying = 0
        """particles that fly by themselves, and so are none of what the surface holds"""
        self.poured = 0
        """particles that there ever were"""
        self.solution = Solution(0, 0.0, True)
        self.pressed = np.zeros(self.shape, np.float32)
        """pressure in the last step [kPa]"""
        self.viscous_rounds = 0
        """rounds that a solve for viscosity took in the last step, at most"""
        self.density = settings.density
        """[kg/m3]"""
        self.afloat: PushedByLiquid | None = None
        """bodies that liquid pushes, where both act on each other"""
        self.pressure_step: PressureStep | None = None
        self._node_velocity = np.zeros((0, 6))
        self.begun = False
        self.push: np.ndarray | None = None
        self._shut = np.zeros(self.shape, bool)
        self.pockets: Kept | None = None
        """pockets of air that keep their volume"""
        self.given, self.taken, self.exchanged = np.zeros(3), np.zeros(3), 0.0
        """momentum that pressure has taken from the liquid, that solids have got, and all that passed [N s]"""

    def _hold(self, before: Walls | None = None) -> Walls:
        """What holds the liquid, on the grid as it is; before on another."""
        s, beyond = self.settings, None
        if self.sea is not None:
            beyond = lambda x: self.sea.waves.velocity(x, self.time)  # noqa: E731
        box = (s.low, s.high) if s.sides == "wall" else None
        return Walls(self.shape, self.origin, self.cell, self._boundaries, box, beyond, before)

    def fit(self) -> None:
        """Solve no more of the domain than is wet or about to be."""
        if self.sea is not None or not len(self.position):
            return
        first = np.array(self.window.first)
        low, high = first + particle_kernels.extent(self.position, len(self.position) // 2**14 + 1)
        deep = self.band.box()
        if deep is not None:
            low, high = np.minimum(low, first + deep[0]), np.maximum(high, first + deep[1])
        for inflow in self.inflows:
            if inflow.acts(self.time):
                a, b = inflow.box(self.time, np.zeros(3))
                base = np.array(self.settings.low)
                low, high = np.minimum(low, (a - base) / self.cell), np.maximum(high, (b - base) / self.cell)
        window = fitted(self.window, low, high, self.domain)
        if window != self.window:
            self._look_at(window)

    def _look_at(self, window: Window) -> None:
        """Solve another part of the domain."""
        before, self.window = self.window, window
        self.shape, self.origin = window.shape, np.array(self.settings.low) + self.cell * np.array(window.first)
        self.phi = moved(self.phi, before, window, None, level_kernels.BAND)
        self.velocity = [moved(u, before, window, axis, 0.0) for axis, u in enumerate(self.velocity)]
        self._known = [moved(u, before, window, axis, 0) for axis, u in enumerate(self._known)]
        self.push = None if self.push is None else moved(self.push, before, window, None, 0.0)
        self.pockets = self.pockets and self.pockets.moved(before, window)
        self.pressed = moved(self.pressed, before, window, None, 0.0)
        self._shut = np.zeros(self.shape, bool)
        self._start = np.zeros(self.phi.size + 1, np.int64)
        self.position = self.position + (np.array(before.first) - np.array(window.first)).astype(np.float32)
        self.walls, self._aside = self._hold(self.walls), self._sides()
        self.walls.place(self.time)
        self._sort()
        self._measure_band(self.time)

    def pool(self, level: float, place: tuple[float, float, float] | None = None) -> None:
        """Fill all that is open below a level, or what of that is joined to a place.

        Parameters
        ----------
        level : float [m]
        place : (3,) float [m], optional

        Raises
        ------
        BadValue
            If that place is not open, or lies above the level or outside the domain.
        """
        waves = self.waves
        inside = (lambda x: x[:, 2] - waves.surface(x, self.time)) if waves else (lambda x: x[:, 2] - level)
        velocity = (lambda x: waves.velocity(x, self.time)) if waves else (0.0, 0.0, 0.0)
        self.fill(inside, velocity, only=None if place is None else filling.joined(place, level, self.walls))

    def fill(
        self,
        inside: Callable[[np.ndarray], np.ndarray],
        velocity: Callable[..., Any] | tuple[float, float, float] = (0.0, 0.0, 0.0),
        only: np.ndarray | None = None,
        box: tuple[np.ndarray, np.ndarray] | None = None,
    ) -> None:
        """Fill all that is open and lies inside something.

        Parameters
        ----------
        inside : callable
            Signed distance from the surface of what is filled at places (n, 3) [m], negative within [m].
        velocity : (3,) float [m/s], or callable
            Of places (n, 3) [m], (n, 3).
        only : (nx, ny, nz) bool, optional
            Cells that are filled at most.
        box : ((3,), (3,)) float [m], optional
            Corners about what is filled, outside which nothing is looked at.
        """
        rng = np.random.default_rng([self.settings.seed, self.poured])
        first, last = np.zeros(3, int), np.array(self.shape)
        if box is not None:
            low, high = ((np.asarray(end, float) - self.origin) / self.cell for end in box)
            first = np.clip(np.floor(low - level_kernels.BAND).astype(int), 0, last)
            last = np.clip(np.ceil(high + level_kernels.BAND).astype(int), first, last)
        # nothing is born where there is some already
        taken = filling.eighths(self.phi < -DEEP)
        taken[tuple((EDGE * self.position).astype(np.int64).T)] = True
        places = filling.seeds(inside, self.walls, (first, last), taken, rng)
        if only is not None:
            places = places[only.ravel()[self.walls.owner_cells(places)]]
        there = self.origin + self.cell * places
        self._add(
            places, velocity(there) if callable(velocity) else np.tile(np.array(velocity, float), (len(places), 1))
        )
        cells = tuple(slice(a, b) for a, b in zip(first, last))
        distance = filling.surface(inside, self.walls, (first, last))
        if only is not None:
            # walls are no part of it, but the surface goes on into them
            distance[~only[cells] & (self.walls.middle[cells] > 0.0) & (distance < 0.0)] = level_kernels.BAND
        self.phi[cells] = np.minimum(self.phi[cells], distance)
        self._show()

    def _show(self) -> None:
        """Take up what is new: it tells of its flow, and what of it is deep goes out of sight."""
        self._sort()
        self._surface()
        self._measure_band(self.time)
        self.band.show_all()
        self._scatter(0.0)
        self._measure_band(self.time)
        self._trim(0.0)

    def stable_dt(self) -> float:
        """Return the longest step the present flow and what moves in it allow [s]."""
        # how walls go from now on may have been told since they were placed
        self.walls.place(self.time)
        fastest = max((float(np.abs(u).max(initial=0.0)) for u in self.velocity), default=0.0)
        weight, reach = float(np.linalg.norm(self.gravity)), COURANT * self.cell
        speed = max(fastest, self.walls.speed())
        # the step in which it crosses COURANT cells, with what gravity adds on the way
        dt = 2.0 * reach / (speed + np.sqrt(speed * speed + 2.0 * weight * reach)) if weight + speed > 0.0 else np.inf
        return min(max(dt, self.least_dt), steady_dt(self.settings.tension / self.density, self.cell))

    def step(self, dt: float) -> None:
        """Advance by `dt` seconds.

        Raises
        ------
        SolverFailed
            If a velocity is no longer finite or the pressure solve does not converge.
        """
        if self.pressure_step is None:
            self.press(dt)
        self.move(dt, self.time + dt)
        self.time += dt

    def press(self, dt: float) -> None:
        """Do the first half of a step of `dt` seconds: find the pressure, which pushes what gives way, and the flow.

        Parameters
        ----------
        dt : float [s]

        Raises
        ------
        SolverFailed
            If a velocity is no longer finite or the pressure solve does not converge.
        """
        self.check_cancelled()
        self.fit()
        self.walls.place(self.time)
        self.solve_pressure(dt, held=False)

    def solve_pressure(self, dt: float, held: bool) -> None:
        """Add gravity, and make the flow free of divergence, with walls moving as they do.

        Parameters
        ----------
        dt : float [s]
        held : bool
            Whether all that moves is held still.

        Raises
        ------
        SolverFailed
            If a velocity is no longer finite or the pressure solve does not converge.
        """
        # speeds are those of half a step before: a stone falls as far as it should
        fall = dt if self.begun or self.afloat is not None else 0.5 * dt
        for axis in range(3):
            self.velocity[axis] += np.float32(fall * self.gravity[axis])
        w = self.walls
        afloat = None if held else self.afloat
        nodes = None if afloat is None else afloat.nodes(dt)
        self.pressure_step = pressure_step = PressureStep(
            w, self.phi, self._up, self.velocity, nodes, self.settings.air != "vents", self.density
        )
        self.pockets, grown = pressure_step.follow(self.pockets, dt)
        if held:
            w.drive(np.zeros_like(w.velocity), np.zeros_like(w.velocity))
        else:
            pressure_step.drive(pressure_step.node_velocity if nodes else None)
        s = self.settings
        if s.tension > 0.0:
            apply_surface_tension(self.velocity, self.phi, self.cell, s.tension / self.density, dt, LEAST)
        wanted = self._held() / PARTICLES
        have = self.volume() / self.cell**3
        # as a speed across a cell, a share a second and not a step: changes of it press on what floats
        short = min(max((wanted - have) / max(have, 1.0), -1.0), 1.0)
        source = min(MEND, MOST_MEND / dt) * short * self.cell
        if self.inflows:
            self._shut = pressure_step.shut()
        # by what of each cell is open: through the one narrow face of a sliver it would shoot
        growth = np.float32(source) * w.fraction
        if self.push is not None and not held:
            growth += np.float32(self.cell) * self.push
        scale, added = np.float32(1e-3 * self.density * self.cell / fall), float(np.linalg.norm(fall * self.gravity))
        self.velocity, self.pressure, self.solution, self.viscous_rounds = thick_flow.solve(
            pressure_step, self.velocity, s.viscosity, dt, self.pressed / scale, growth, grown, added, s.tolerance
        )
        self.pressed = self.pressure * scale
        if not self.solution.converged:
            raise SolverFailed(
                f"The pressure solve left {self.solution.residual:.2g} of the divergence after "
                f"{self.solution.iterations} "
                f"rounds, more than the {s.tolerance:.2g} asked for: raise the divergence left, or use "
                "larger cells."
            )
        if afloat is not None and nodes:
            impulse = pressure_step.impulses(self.pressure)
            self._node_velocity = pressure_step.node_velocity
            if pressure_step.trapped is not None:
                impulse = impulse + pressure_step.trapped.impulses(nodes, self._node_velocity, w.position)
            afloat.take(impulse + pressure_step.viscous_impulse, dt)
            self.note(pressure_step)
        if not all(np.isfinite(u).all() for u in self.velocity):
            raise SolverFailed("The liquid has no finite velocity any more: raise the most substeps.")

    def note(self, pressure_step: PressureStep) -> None:
        given, taken, exchanged = pressure_step.passed()
        self.given, self.taken, self.exchanged = self.given + given, self.taken + taken, self.exchanged + exchanged

    def move(self, dt: float, time: float) -> None:
        """Do the second half of a step: carry particles and surface along the flow.

        Parameters
        ----------
        dt, time : float
            How long, and when walls are where they are put [s].
        """
        pressure_step, self.pressure_step = self.pressure_step, None
        assert pressure_step is not None
        if pressure_step.nodes is not None:
            pressure_step.drive(self._node_velocity)
        self.velocity = pressure_step.finish(self.velocity)
        pressure_step.even_out(self.position, self._start, self._owner_cell, self.band)
        self.check_cancelled()
        self._carry(dt, time)
        self.begun = True
        if time > self.time:
            self._pour(dt)
            self._drain(dt)
        if self.sea:
            self._join_sea(dt, time)
        self._sort()
        self._follow(dt)
        if self.sea:
            self.sea.level(self.phi, dt, time)
            self._surface()
        self.check_cancelled()
        self._measure_band(time)
        self._trim(dt)
        self._scatter(dt)
        if self.sea:
            self.sea.flow(self.velocity, self.band.bare(), dt, time)
        weight = float(np.linalg.norm(self.gravity))
        self.velocity = damped(self.velocity, self._known, weight, self.cell, dt)

    def _pour(self, dt: float) -> None:
        """Let in what comes in."""
        self.push = None
        for inflow in self.inflows:
            places, speed, held, anew, push = inflow.born(
                self.time, dt, self.position, self.origin, self.cell, self._shut
            )
            # what is still in there goes as what comes, when the next step's fall has been added
            fall = (dt * self.gravity).astype(np.float32)
            self.speed[held], self.affine[held] = anew - fall, 0.0
            open_ = self.walls.distance[tuple(np.floor(2.0 * places).astype(int).T)] > 0.0
            self._add(places[open_], speed[open_] - fall)
            if push is not None:
                self.push = push if self.push is None else self.push + push

    def _drain(self, dt: float) -> None:
        """Take away and slow what is where that happens."""
        for region in self.regions:
            if region.acts(self.time + 0.5 * dt) and len(self.position):
                mine = region.act(
                    self.position, self.speed, self.affine, self.phi, self.origin, self.cell, self.time + dt, dt
                )
                if region.takes:
                    self.drained += len(mine)
                    self._keep(np.delete(np.arange(len(self.position)), mine))

    def _join_sea(self, dt: float, time: float) -> None:
        """Let what is near the sides do as the sea beyond."""
        assert self.sea is not None
        keep, fresh, speed = self.sea.join(self.position, self.speed, self.walls.fraction, dt, time, self.poured)
        self._keep(keep)
        if len(fresh):
            self._add(fresh, speed)

    def _measure_band(self, time: float) -> None:
        self.band.measure(self.phi, self.walls, self._aside, [*self.inflows, *self.regions], time)

    def _sides(self) -> np.ndarray:
        """Cells beside what goes on beyond the domain: particles tell what comes and goes there."""
        if self.sea is not None:
            return self.sea.outer()
        return beside(self.window, self.domain, 0 if self.settings.sides == "wall" else SIDE)

    def _trim(self, dt: float) -> None:
        """Let no particles be where it is too deep for any, and some where they are missing."""
        kept, places, speed, slopes = self.band.trim(self.position, self.velocity, self.walls, dt / self.cell)
        if kept is not None:
            self._keep(kept)
            self._add(places, speed, slopes, fresh=0)
            self._sort()

    def _held(self) -> int:
        """How many particles fill what the surface holds."""
        return len(self.position) + self.band.unseen - self.flying

    def _add(self, places: np.ndarray, speed: np.ndarray, slopes: np.ndarray | None = None, fresh: int = 1) -> None:
        """Add particles at places (n, 3) [cells] with velocities (n, 3) and their slopes (n, 3, 3), each of `fresh`
        liquid."""
        slopes = np.zeros((len(places), 3, 3), np.float32) if slopes is None else slopes
        self.position = np.concatenate([self.position, places.astype(np.float32)])
        self.speed = np.concatenate([self.speed, speed.astype(np.float32)])
        self.affine = np.concatenate([self.affine, slopes])
        self.poured += fresh * len(places)

    def _keep(self, some: Any) -> None:
        self.position, self.speed, self.affine = self.position[some], self.speed[some], self.affine[some]

    def _carry(self, dt: float, time: float) -> None:
        step = np.float32(dt / self.cell)
        out = np.empty_like(self.phi)
        level_kernels.advect(self.phi, *self.velocity, step, self.walls.reach, out)
        self.phi = out
        self.walls.place(time)
        w, state = self.walls, np.zeros(len(self.position), np.uint8)
        particles = Particles(self.position, self.speed, self.affine)
        barriers = Barriers(w.distance, w.keep, w.left, w.reach, w.met(), np.float32(STAND))
        rule = StepRule(step, (dt * self.gravity).astype(np.float32), np.float32(SPRAY))
        particle_kernels.carry(particles, FaceFields(*self.velocity), self.phi, barriers, rule, self._owner_cell, state)
        self.flying = int((state == particle_kernels.FLYING).sum())
        kept = state != particle_kernels.GONE
        if not kept.all():
            # the sea takes back what it gave
            self.lost += 0 if self.sea else int((~kept).sum())
            self._keep(kept)

    def _sort(self) -> None:
        order = np.empty(len(self.position), np.int64)
        particle_kernels.sort(self.position, self.shape, self._start, order)
        old = self.position, self.speed, self.affine
        # there and back between two stores: memory that has been in use is quicker to write to than new
        self._stores.reverse()
        if len(self._stores[0][0]) < len(order):
            self._stores[0] = [np.empty((len(order) + len(order) // 8, *x.shape[1:]), x.dtype) for x in old]
        self.position, self.speed, self.affine = (x[: len(order)] for x in self._stores[0])
        particle_kernels.arrange(order, *old, self.position, self.speed, self.affine)
        self._owner_cell = self.walls.owner_cells(self.position)

    def _follow(self, dt: float) -> None:
        """Bring the surface nearer to where the particles are."""
        counted, raised = self._counted(), np.float32(self._raised())
        level_kernels.correct(self.phi, counted, *self.velocity, np.float32(dt / self.cell), raised)
        self._surface()

    def _raised(self) -> float:
        """By how much the whole surface is to rise to hold as much as particles fill [cells]."""
        beside = np.abs(self.phi) < 0.5
        area = float(self.walls.fraction[beside].sum(dtype=np.float64))
        lack = self._held() / PARTICLES - self.volume() / self.cell**3
        return min(max(lack / max(area, 1.0), -MOST_RAISED), MOST_RAISED)

    def _counted(self) -> np.ndarray:
        """Where the particles say that the surface is, near where it is taken to be (cells)."""
        wanted, w = np.empty_like(self.phi), self.walls
        deep = np.float32(min(COUNTED, self.band.counted))
        level_kernels.count(
            self.position,
            particle_kernels.CellList(self._start, self._owner_cell, w.reach),
            level_kernels.Room(w.fraction, w.distance, w.home),
            self.phi,
            np.float32(_FULL),
            deep,
            wanted,
        )
        return wanted

    def _surface(self) -> None:
        """Continue the surface into walls and make it a distance again."""
        w = self.walls
        cells = w.within
        if self._sourced is not cells:
            self._sourced, self._source = cells, np.empty(len(cells), np.int32)
            continuation_kernels.find_sources(w.middle, w.reach, cells, self._source)
        held = np.zeros(self.shape, np.uint8)
        held[tuple(cells.T)] = w.middle[tuple(cells.T)] < continuation_kernels.OPEN
        self._extend()
        level_kernels.redistance(self.phi, held, w.blocked)
        self._extend()
        whole = np.empty_like(self.phi)
        level_kernels.close_gaps(self.phi, w.fraction, w.reach, np.float32(WIDE), whole)
        self.phi = whole

    def _extend(self) -> None:
        w = self.walls
        continuation_kernels.extend(self.phi, w.middle, w.reach, w.within, self._source, level_kernels.BAND)

    def _scatter(self, dt: float) -> None:
        """Bring the particles' motion to the faces, that of a step before to those deeper, and both to faces a few
        cells beyond."""
        w, before = self.walls, self.velocity
        found, masses = [np.zeros_like(u) for u in before], [np.zeros_like(u) for u in before]
        particle_kernels.scatter(
            Particles(self.position, self.speed, self.affine),
            CellList(self._start, self._owner_cell, w.reach),
            FaceFields(*masses),
            FaceFields(*found),
        )
        for axis, (u, mass) in enumerate(zip(found, masses)):
            particle_kernels.normalise(mass, u)
            self.band.carry(before, axis, dt / self.cell, mass, u)
            known = (mass > 0.0).astype(np.uint8)
            found[axis], self._known[axis] = spread(u, w.weights[axis], known, 2)
        self.velocity = found

    def volume(self) -> float:
        """Return how much liquid the surface holds [m3]."""
        full = np.clip(0.5 - self.phi, 0.0, 1.0) * self.walls.fraction
        return float(full.sum(dtype=np.float64)) * self.cell**3

    def frame(self) -> dict[str, np.ndarray]:
        """Return what a frame keeps, see `LiquidFrame`, and particles' sizes [m]."""
        flow, whole = self.flow(SEEN), partial(over, self.window, self.domain)
        return {
            "position": (self.origin + self.cell * self.position).astype(np.float32),
            "velocity": self.speed.astype(np.float16),
            "size": np.full(len(self.position), self.cell / EDGE, np.float16),
            "phi": whole(self.phi, 3.0, 3.0),
            "walls": whole(self.walls.middle, 2.0, 2.0),
            "flow": np.stack([whole(flow[..., a], 0.0, FASTEST) for a in range(3)], axis=-1),
            "pressure": whole(self.pressed, 0.0, MOST_PRESSED),
            "blocked": moved(self.walls.blocked, self.window, Window((0, 0, 0), self.domain), None, 0),
            "filled": np.array([len(self.position) + self.band.unseen]),
        }

    def gauges(self) -> dict[str, float]:
        """Return the numbers judged on every frame."""
        wanted = self._held() / PARTICLES * self.cell**3
        squared, fall, fastest = self._moving()
        each = self.density * (self.cell / EDGE) ** 3
        due = sum(x.due for x in self.inflows)
        return {
            "particles": float(len(self.position)),
            "volume": self.volume(),
            "volume_drift": self.volume() / wanted - 1.0 if wanted else 0.0,
            "deep_mismatch": self.band.mismatch(self.walls) / max(self._held(), 1),
            "lost": self.lost / self.poured if self.poured else 0.0,
            "pockets": float(len(self.pockets.volume)) if self.pockets else 0.0,
            "poured": self.poured / PARTICLES * self.cell**3,
            "drained": self.drained / PARTICLES * self.cell**3,
            "blocked": 1.0 - sum(x.came for x in self.inflows) / due if due else 0.0,
            "top_speed": fastest,
            "kinetic_energy": 0.5 * each * squared,
            "energy": 0.5 * each * squared + each * fall,
            "pressure_iterations": float(self.solution.iterations),
            "divergence_left": self.solution.residual,
        } | ({"viscous_iterations": float(self.viscous_rounds)} if self.settings.viscosity > 0.0 else {})

    def _moving(self) -> tuple[float, float, float]:
        """What `band.moving` tells of all there is."""
        places = self.origin + self.cell * self.position.astype(np.float64)
        seen: tuple[np.ndarray, ...] = places, self.speed, np.ones(len(places))
        unseen = self.band.counted_for(self.walls, self.flow(0.0))
        every = [np.concatenate(pair) for pair in zip(seen, unseen)]
        return moving(every[0], every[1], every[2], self.gravity)

    def flow(self, beyond: float) -> np.ndarray:
        """The flow at cells' middles, none farther beyond the surface than so many cells (cells, 3)."""
        flow = np.empty((*self.shape, 3), np.float32)
        deep_kernels.middles(*self.velocity, self.phi, np.float32(beyond), flow)
        return flow

    def _fill_up(self, taken: Taken) -> None:
        """Let there be particles where a start has liquid and brings none along."""
        count = np.zeros(self.shape, np.int64)
        np.add.at(count, tuple(self.position.astype(np.int64).T), 1)
        full = filling.eighths(count >= PARTICLES // 2)
        full[tuple((EDGE * self.position).astype(np.int64).T)] = True
        rng = np.random.default_rng([self.settings.seed, len(self.position)])
        places = filling.seeds(taken.inside, self.walls, (np.zeros(3, int), np.array(self.shape)), full, rng)
        self._add(places, taken.velocity(self.origin + self.cell * places))

    @property
    def box(self) -> np.ndarray:
        """The window, (2, 3): its least cell in the domain, and its cells along x, y, z."""
        return np.array([self.window.first, self.window.shape])

    @box.setter
    def box(self, value: np.ndarray) -> None:
        first, shape = value.tolist()
        self._look_at(Window(tuple(first), tuple(shape)))

    def _restoring(self) -> None:
        self._keep(slice(0, 0))

    def _restored(self) -> None:
        self.walls.place(self.time)
        self._sort()
        self._measure_band(self.time)

    def begin_from(self, frame: LiquidFrame, of: Lattice, within: filling.Inside | None = None) -> None:
        """Begin with what a baked frame holds.

        Parameters
        ----------
        frame : LiquidFrame
        of : Lattice
            Its grid.
        within : callable, optional
            Signed distance of places (n, 3) [m] from what is taken of it, negative within (n,) [m].

        Raises
        ------
        BadValue
            If nothing of it lies in the domain.
        """
        taken = taken_up(frame, of, Lattice(self.origin, self.cell, self.shape), within)
        self.phi, self.position, self.speed = taken.phi, taken.position, taken.speed
        self.velocity = taken.flow
        self.affine = np.zeros((len(self.position), 3, 3), np.float32)
        missing = int(frame.filled[0]) - len(self.position)
        if not taken.whole or (missing > 0 and self.band.most is None):
            self._fill_up(taken)
        if not len(self.position):
            raise BadValue("The start holds no liquid within this layer's domain: give both the same corners.")
        self._show()
        if taken.whole:
            self.band.unseen = int(frame.filled[0]) - len(self.position)
        self.poured = len(self.position) + self.band.unseen
        # its speeds are those of a step that has been done
        self.begun = True


#: the kernel summed over particles deep in the liquid
_FULL = PARTICLES * 4.0 * np.pi * float(level_kernels.REACH) ** 3 * 16.0 / 315.0
