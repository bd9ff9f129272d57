"""The liquid solver: particles that carry the flow, and a surface that stays still."""

from collections.abc import Callable, Sequence

import numpy as np
from scipy.ndimage import map_coordinates

from urst.core.bodies.boundary import Boundary
from urst.core.curves.clock import Clock
from urst.core.fields.pressure import Solution
from urst.core.liquid import body_kernels, flow_kernels, level_kernels, particle_kernels, thin_kernels
from urst.core.liquid.afloat import Afloat
from urst.core.liquid.inflows import Inflow, Region
from urst.core.liquid.pressing import CLOSED, LEAST, Pressing, spread
from urst.core.liquid.sea import Sea
from urst.core.liquid.settings import DENSITY, EDGE, PARTICLES, LiquidSettings
from urst.core.liquid.viscous import steady_dt, thicken, tighten
from urst.core.liquid.walls import STAND, Walls
from urst.core.liquid.waves import Waves
from urst.core.liquid.window import Window, fitted, moved
from urst.errors import BadValue, SolverFailed

#: cells that the fastest liquid may cross in one step
COURANT = 2.0
#: what is so far above the surface flies by itself [cells]
SPRAY = 0.4
#: what is filled has no surface where there is a wall so far behind it [cells]
BEHIND = 0.5
#: cells that are open by more may join others in a pool
OPEN = 0.5
#: gaps are closed among cells that are open by so much
WIDE = 0.75
#: share of a loss of volume that is given back in a second, while that is little
MEND = 5.0
#: and in a step at most
MOST_MEND = 0.2
#: what hardly moves is calmed: by this share in the time that a cell's height is fallen in, if slower than this share of the
#: speed that it gives
CALM, SLOW = 0.1, 0.02


class LiquidSolver:
    """An incompressible liquid with a free surface among moving walls.

    Particles carry velocities and their slopes (APIC: Jiang et al. 2015); pressure is solved on cut faces (Batty, Bertails &
    Bridson 2007) with a second-order free surface (Gibou et al. 2002). The surface is a level set that goes with the flow and
    is brought nearer to where the particles are in proportion to how far it moves, so that liquid at rest stays at rest.

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
    pulse : callable
        Called between stages of the work; what it raises ends it.
    """

    def __init__(
        self,
        settings: LiquidSettings,
        gravity=(0.0, 0.0, -9.81),
        *,
        boundaries: Sequence[Boundary] = (),
        inflows: Sequence[Inflow] = (),
        regions: Sequence[Region] = (),
        clock: Clock | None = None,
        start_time: float = 0.0,
        pulse: Callable[[], None] = lambda: None,
    ):
        self.settings, self.pulse, self.inflows, self.regions = settings, pulse, list(inflows), list(regions)
        self.gravity, self.shape, self.cell = np.array(gravity, float), settings.shape(), float(settings.cell_size)
        self.origin = np.array(settings.low, float)
        self._up = -self.gravity / max(float(np.linalg.norm(self.gravity)), 1e-9)
        self.clock, self.time = clock or Clock(), start_time
        self.least_dt = 1.0 / (self.clock.rate * settings.most_substeps)
        self.waves = self._waves()
        self.sea: Sea | None = None
        if settings.sides == "waves":
            assert self.waves is not None
            self.sea = Sea(self.waves, settings.waves.band, self.origin, self.cell, self.shape, settings.seed)
        self._boundaries, self.domain = list(boundaries), self.shape
        self.window = Window((0, 0, 0), self.shape)
        """the part of the domain that is solved"""
        self.walls = self._hold()
        self.walls.place(start_time)
        self.velocity = [np.zeros(w.shape, np.float32) for w in self.walls.weights]
        self.phi = np.full(self.shape, level_kernels.BAND, np.float32)
        self.position = np.zeros((0, 3), np.float32)
        self.speed = np.zeros((0, 3), np.float32)
        self.affine = np.zeros((0, 3, 3), np.float32)
        self._start = np.zeros(self.phi.size + 1, np.int64)
        self._lodging = np.zeros(0, np.int32)
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
        self.thickened = 0
        """rounds that viscosity took in the last step"""
        self.afloat: Afloat | None = None
        """bodies that liquid pushes, where both act on each other"""
        self._pressing: Pressing | None = None
        self._ways = np.zeros((0, 6))
        self._begun = False
        self._push: np.ndarray | None = None
        self._shut = np.zeros(self.shape, bool)
        self.given, self.taken, self.exchanged = np.zeros(3), np.zeros(3), 0.0
        """momentum that pressure has taken from the liquid, that solids have got, and all that passed [N s]"""

    def _hold(self):
        """What holds the liquid, on the grid as it is."""
        s, beyond = self.settings, None
        if self.sea is not None:
            beyond = lambda x: self.sea.waves.velocity(x, self.time)  # noqa: E731
        box = (s.low, s.high) if s.sides == "wall" else None
        return Walls(self.shape, self.origin, self.cell, self._boundaries, box, beyond)

    def _fit(self):
        """Solve no more of the domain than is wet or about to be."""
        if self.sea is not None or not len(self.position):
            return
        first = np.array(self.window.first)
        low, high = first + self.position.min(axis=0), first + self.position.max(axis=0)
        for inflow in self.inflows:
            if inflow.acts(self.time):
                a, b = inflow.box(self.time, np.zeros(3))
                base = np.array(self.settings.low)
                low, high = np.minimum(low, (a - base) / self.cell), np.maximum(high, (b - base) / self.cell)
        window = fitted(self.window, low, high, self.domain)
        if window != self.window:
            self._look_at(window)

    def _look_at(self, window):
        """Solve another part of the domain."""
        before, self.window = self.window, window
        self.shape, self.origin = window.shape, np.array(self.settings.low) + self.cell * np.array(window.first)
        self.phi = moved(self.phi, before, window, None, level_kernels.BAND)
        self.velocity = [moved(u, before, window, axis, 0.0) for axis, u in enumerate(self.velocity)]
        self._known = [moved(u, before, window, axis, 0) for axis, u in enumerate(self._known)]
        self._push = None if self._push is None else moved(self._push, before, window, None, 0.0)
        self._shut = np.zeros(self.shape, bool)
        self._start = np.zeros(self.phi.size + 1, np.int64)
        self.position = self.position + (np.array(before.first) - np.array(window.first)).astype(np.float32)
        self.walls = self._hold()
        self.walls.place(self.time)
        self._sort()

    def _waves(self):
        """The waves on the pool, None where it is still and ends at its sides."""
        s = self.settings
        if not s.waves.any() and s.sides != "waves":
            return None
        weight, level = float(np.linalg.norm(self.gravity)), float(s.level or 0.0)
        return Waves(s.waves, level, level - s.low[2], weight, s.seed)

    def pool(self, level: float, place=None) -> None:
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
        if place is None:
            self.fill(inside, velocity)
            return
        heights = self.origin[2] + self.cell * np.arange(self.shape[2])
        open_ = (self.walls.share > OPEN) & (heights < level)
        at = np.floor((np.asarray(place, float) - self.origin) / self.cell).astype(int)
        outside = (at < 0).any() or (at >= np.array(self.shape)).any()
        if outside or not open_[tuple(at)]:
            raise BadValue(
                f"The place of the pool, {', '.join(f'{x:g}' for x in place)}, is within a wall, above its level or outside the "
                "domain: choose one in the open below the level."
            )
        mine = np.zeros(self.shape, bool)
        i, j, k = at
        thin_kernels.joined(open_, self.walls.blocked, i, j, k, mine)
        # cells that walls leave less than half of go with those beside
        only = np.zeros(self.shape, bool)
        thin_kernels.edge_of(mine, self.walls.share, self.walls.blocked, np.float32(OPEN), only)
        self.fill(inside, velocity, only=only)

    def fill(self, inside: Callable[[np.ndarray], np.ndarray], velocity=(0.0, 0.0, 0.0), only=None, box=None) -> None:
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
        side, first, last = EDGE * np.array(self.shape), np.zeros(3, int), np.array(self.shape)
        if box is not None:
            low, high = ((np.asarray(end, float) - self.origin) / self.cell for end in box)
            first = np.clip(np.floor(low - level_kernels.BAND).astype(int), 0, last)
            last = np.clip(np.ceil(high + level_kernels.BAND).astype(int), first, last)
        corner = _grid(EDGE * first, EDGE * last)
        places = (corner + rng.random(corner.shape)) / EDGE
        open_ = map_coordinates(self.walls.distance, 2.0 * places.T - 0.5, order=1, mode="nearest") > 0.0
        if len(self.position):
            # nothing is born where there is some already
            taken = np.zeros(side, bool)
            taken[tuple((EDGE * self.position).astype(np.int64).T)] = True
            open_ &= ~taken[tuple(corner.T)]
        places = places[open_]
        places = places[inside(self.origin + self.cell * places) < 0.0].astype(np.float32)
        # rounding must not take any to the far side of the grid
        places = np.minimum(places, np.nextafter(np.array(self.shape, np.float32), np.float32(0.0)))
        clear = np.empty(len(places), bool)
        thin_kernels.clear(places, self.walls.reach, self.walls.met(), clear)
        places = places[clear]
        if only is not None:
            places = places[only.ravel()[self._lodgings(places)]]
        there = self.origin + self.cell * places
        self._add(
            places, velocity(there) if callable(velocity) else np.tile(np.array(velocity, float), (len(places), 1))
        )
        cells = tuple(slice(a, b) for a, b in zip(first, last))
        distance = self._filled(inside, self.origin + self.cell * (_grid(first, last) + 0.5)).reshape(last - first)
        if only is not None:
            # walls are no part of it, but the surface goes on into them
            distance[~only[cells] & (self.walls.middle[cells] > 0.0) & (distance < 0.0)] = level_kernels.BAND
        self.phi[cells] = np.minimum(self.phi[cells], np.clip(distance, -level_kernels.BAND, level_kernels.BAND))
        self._sort()
        self._surface()
        self._scatter()

    def _filled(self, inside, places):
        """Distance from the surface of what is filled at places (n, 3) [cells]; there is none where it ends at a wall."""
        distance, h = inside(places) / self.cell, 0.01 * self.cell
        near = np.flatnonzero(np.abs(distance) < level_kernels.BAND)
        slope = np.stack([inside(places[near] + h * e) - inside(places[near] - h * e) for e in np.eye(3)], axis=1)
        slope /= np.maximum(np.linalg.norm(slope, axis=1, keepdims=True), 1e-12)
        ends = (places[near] - self.origin) / self.cell - (distance[near, None] - BEHIND) * slope
        sample = np.clip((2.0 * ends).astype(np.int64), 0, np.array(self.walls.distance.shape) - 1)
        flush = (self.walls.distance[tuple(sample.T)] < 0.0) & (distance[near] < 0.0)
        distance[near[flush]] = -level_kernels.BAND
        return distance

    def stable_dt(self) -> float:
        """Return the longest step the present flow and what moves in it allow [s]."""
        # how walls go from now on may have been told since they were placed
        self.walls.place(self.time)
        fastest = max((float(np.abs(u).max(initial=0.0)) for u in self.velocity), default=0.0)
        weight, reach = float(np.linalg.norm(self.gravity)), COURANT * self.cell
        speed = max(fastest, self.walls.speed())
        # the step in which it crosses COURANT cells, with what gravity adds on the way
        dt = 2.0 * reach / (speed + np.sqrt(speed * speed + 2.0 * weight * reach)) if weight + speed > 0.0 else np.inf
        return min(max(dt, self.least_dt), steady_dt(self.settings.tension, self.cell))

    def settle(self, seconds: float) -> None:
        """Come to rest before the first frame, with all that moves held still.

        Parameters
        ----------
        seconds : float [s]
        """
        done = 0.0
        while done < seconds - 1e-9:
            dt = min(self.stable_dt(), seconds - done)
            self._fit()
            self._press(dt, held=True)
            self._move(dt, self.time)
            done += dt

    def step(self, dt: float) -> None:
        """Advance by `dt` seconds.

        Raises
        ------
        SolverFailed
            If a velocity is no longer finite or the pressure solve does not converge.
        """
        if self._pressing is None:
            self.press(dt)
        self._move(dt, self.time + dt)
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
        self.pulse()
        self._fit()
        self.walls.place(self.time)
        self._press(dt, held=False)

    def _press(self, dt, held):
        """Add gravity, and make the flow free of divergence, with walls moving as they do."""
        # speeds are those of half a step before: a stone falls as far as it should
        fall = dt if self._begun or self.afloat is not None else 0.5 * dt
        for axis in range(3):
            self.velocity[axis] += np.float32(fall * self.gravity[axis])
        w = self.walls
        nodes = self.afloat.nodes(dt) if self.afloat is not None and not held else None
        self._pressing = pressing = Pressing(w, self.phi, self._up, self.velocity, nodes)
        if held:
            w.drive(np.zeros_like(w.velocity), np.zeros_like(w.velocity))
        else:
            pressing.drive(pressing.ways if nodes else None)
        self._thicken(dt)
        wanted = (len(self.position) - self.flying) / PARTICLES
        have = self.volume() / self.cell**3
        # as a speed across a cell, a share a second and not a step: changes of it press on what floats
        source = min(MEND, MOST_MEND / dt) * (wanted - have) / max(have, 1.0) * self.cell
        if self.inflows:
            self._shut = pressing.shut()
        growth = np.full(self.shape, np.float32(source))
        if self._push is not None and not held:
            growth += np.float32(self.cell) * self._push
        self.pressure, self.solution = pressing.project(self.velocity, growth, self.settings.tolerance)
        if not self.solution.converged:
            raise SolverFailed(
                f"The pressure solve left {self.solution.residual:.2g} of the divergence after {self.solution.iterations} "
                f"rounds, more than the {self.settings.tolerance:.2g} asked for: raise the divergence left, or use larger cells."
            )
        if nodes:
            impulse = pressing.impulses(self.pressure)
            self._ways = pressing.ways + pressing.moved(impulse)
            if pressing.stuck is not None:
                impulse = impulse + pressing.stuck.impulses(nodes, self._ways, w.position)
            self.afloat.take(impulse, dt)
            self._note(pressing)
        if not all(np.isfinite(u).all() for u in self.velocity):
            raise SolverFailed("The liquid has no finite velocity any more: raise the most substeps.")

    def _thicken(self, dt):
        """Let viscosity and surface tension act."""
        s = self.settings
        if s.viscosity > 0.0:
            self.thickened = thicken(self.velocity, self.phi, self.walls, s.viscosity, dt, CLOSED)
        if s.tension > 0.0:
            tighten(self.velocity, self.phi, self.cell, s.tension, dt, LEAST)

    def _note(self, pressing):
        self.given, self.taken = self.given + pressing.given, self.taken + pressing.taken
        self.exchanged += pressing.exchanged

    def shove(self, change: np.ndarray) -> np.ndarray:
        """Let nodes that others have pushed since the first half of a step push the liquid, which gives way with them.

        Parameters
        ----------
        change : (k, 6) float
            How their velocities have changed by that [m/s], [rad/s].

        Returns
        -------
        (k, 6) float
            How the liquid changes them in turn.
        """
        pressing = self._pressing
        assert pressing is not None and pressing.nodes is not None
        impulse = pressing.shove(self.velocity, change, self.settings.tolerance)
        back = pressing.moved(impulse)
        self._ways = self._ways + change + back
        self._note(pressing)
        return back

    def _move(self, dt, time):
        """Do the second half of a step: carry particles and surface along the flow, among walls where they are at a time [s]."""
        pressing, self._pressing = self._pressing, None
        assert pressing is not None
        if pressing.nodes is not None:
            pressing.drive(self._ways)
        self.velocity = pressing.finish(self.velocity)
        pressing.even_out(self.position, self._planes(), self._lodging)
        self.pulse()
        self._carry(dt, time)
        self._begun = True
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
        self.pulse()
        self._scatter()
        self._calm(dt)

    def _pour(self, dt):
        """Let in what comes in."""
        self._push = None
        for inflow in self.inflows:
            places, speed, held, push = inflow.born(self.time, dt, self.position, self.origin, self.cell, self._shut)
            # what is still in there goes as what comes, when the next step's fall has been added
            speed = speed - (dt * self.gravity).astype(np.float32)
            self.speed[held], self.affine[held] = speed, 0.0
            if len(places):
                places = places[self.walls.distance[tuple(np.floor(2.0 * places).astype(int).T)] > 0.0]
                self._add(places, np.tile(speed, (len(places), 1)))
            if push is not None:
                self._push = push if self._push is None else self._push + push

    def _drain(self, dt):
        """Take away and slow what is where that happens."""
        for region in self.regions:
            if not region.acts(self.time + 0.5 * dt) or not len(self.position):
                continue
            low, high = region.box(self.time + dt, np.zeros(3))
            near = np.flatnonzero(
                (
                    (self.position >= (low - self.origin) / self.cell)
                    & (self.position <= (high - self.origin) / self.cell)
                ).all(axis=1)
            )
            mine = near[region.within(self.origin + self.cell * self.position[near], self.time + dt)]
            if not region.takes:
                own = region.carrier.at(self.time + dt).velocity[0]
                keep = np.float32(np.exp(-region.damping * dt))
                self.speed[mine] = own + keep * (self.speed[mine] - own)
                self.affine[mine] *= keep
                continue
            self.drained += len(mine)
            # what comes there falls into the empty
            corner = np.maximum(np.floor((low - self.origin) / self.cell).astype(int), 0)
            end = np.minimum(np.ceil((high - self.origin) / self.cell).astype(int), self.shape)
            cells = _grid(corner, end)
            away = -region.carrier.distance(self.origin + self.cell * (cells + 0.5), self.time + dt) / self.cell
            spot = tuple(cells.T)
            self.phi[spot] = np.maximum(self.phi[spot], np.clip(away, -level_kernels.BAND, level_kernels.BAND))
            self._keep(np.delete(np.arange(len(self.position)), mine))

    def _join_sea(self, dt, time):
        """Let what is near the sides do as the sea beyond."""
        assert self.sea is not None
        keep, fresh, speed = self.sea.join(self.position, self.speed, self.walls.share, dt, time, self.poured)
        self._keep(keep)
        if len(fresh):
            self._add(fresh, speed)

    def _add(self, places, speed):
        """Add particles at places (n, 3) [cells] with velocities (n, 3)."""
        self.position = np.concatenate([self.position, places.astype(np.float32)])
        self.speed = np.concatenate([self.speed, speed.astype(np.float32)])
        self.affine = np.concatenate([self.affine, np.zeros((len(places), 3, 3), np.float32)])
        self.poured += len(places)

    def _keep(self, some):
        self.position, self.speed, self.affine = self.position[some], self.speed[some], self.affine[some]

    def _carry(self, dt, time):
        step = np.float32(dt / self.cell)
        out = np.empty_like(self.phi)
        level_kernels.advect(self.phi, *self.velocity, step, self.walls.reach, out)
        self.phi = out
        self.walls.place(time)
        state = np.zeros(len(self.position), np.uint8)
        particle_kernels.carry(
            self.position, self.speed, self.affine, *self.velocity, self.phi, np.float32(SPRAY),
            (dt * self.gravity).astype(np.float32), self.walls.distance, self.walls.keep, step, np.float32(STAND), self.walls.left, self.walls.reach,
            self.walls.met(), self._lodging, state,
        )  # fmt: skip
        self.flying = int((state == particle_kernels.FLYING).sum())
        kept = state != particle_kernels.GONE
        if not kept.all():
            # the sea takes back what it gave
            self.lost += 0 if self.sea else int((~kept).sum())
            self._keep(kept)

    def _sort(self):
        order = np.empty(len(self.position), np.int64)
        particle_kernels.sort(self.position, self.shape, self._start, order)
        old = self.position, self.speed, self.affine
        self.position, self.speed, self.affine = (np.empty_like(x) for x in old)
        particle_kernels.arrange(order, *old, self.position, self.speed, self.affine)
        self._lodging = self._lodgings(self.position)

    def _lodgings(self, places):
        """Whose room places (n, 3) [cells] are in, as numbers of cells (n,)."""
        found, w = np.empty(len(places), np.int32), self.walls
        thin_kernels.lodge(places, w.distance, w.home, w.reach, w.met(), found)
        return found

    def _follow(self, dt):
        """Bring the surface nearer to where the particles are."""
        level_kernels.correct(self.phi, self._counted(), *self.velocity, np.float32(dt / self.cell))
        self._surface()

    def _counted(self):
        """Where the particles say that the surface is, near where it is taken to be (cells)."""
        wanted, w = np.empty_like(self.phi), self.walls
        level_kernels.count(
            self.position,
            self._start,
            self._lodging,
            w.share,
            w.distance,
            w.home,
            w.reach,
            self.phi,
            np.float32(_FULL),
            wanted,
        )
        return wanted

    def _surface(self):
        """Continue the surface into walls and make it a distance again."""
        w = self.walls
        cells = w.within
        held = np.zeros(self.shape, np.uint8)
        held[tuple(cells.T)] = 1
        level_kernels.extend(self.phi, w.distance, w.middle, w.reach, cells)
        level_kernels.redistance(self.phi, held, w.blocked)
        level_kernels.extend(self.phi, w.distance, w.middle, w.reach, cells)
        whole = np.empty_like(self.phi)
        level_kernels.close_gaps(self.phi, w.share, w.reach, np.float32(WIDE), whole)
        self.phi = whole

    def _planes(self):
        """Where the particles of each plane of cells begin."""
        return self._start[:: self.shape[1] * self.shape[2]].copy()

    def _scatter(self):
        """Bring the particles' motion to the faces, and on to faces a few cells beyond."""
        plane, w = self._planes(), self.walls
        for axis in range(3):
            u, mass = np.zeros_like(self.velocity[axis]), np.zeros_like(self.velocity[axis])
            particle_kernels.scatter(
                self.position, self.speed, self.affine, plane, axis, self._lodging, w.reach, mass, u
            )
            particle_kernels.normalise(mass, u)
            known = (mass > 0.0).astype(np.uint8)
            self.velocity[axis], self._known[axis] = spread(u, w.weights[axis], known, 2)

    def _calm(self, dt):
        """Take the shortest waves, which nothing else damps, and what is left of hardly any motion."""
        fall = np.sqrt(np.linalg.norm(self.gravity) * self.cell)
        if fall == 0.0:
            return
        rate, slow = np.float32(CALM * dt * fall / self.cell), np.float32(SLOW * fall)
        for axis, (u, known) in enumerate(zip(self.velocity, self._known)):
            out = np.empty_like(u)
            flow_kernels.filter_short(u, known, out)
            level_kernels.slow_down(out, rate, slow)
            self.velocity[axis] = out

    def immersed(self) -> np.ndarray:
        """Return the share of each body that is in the liquid, (n,), by number over all boundaries."""
        w = self.walls
        wet, all_of = (np.zeros((self.shape[0], len(w.position))) for _ in range(2))
        body_kernels.immersed(w.distance, w.owner, self.phi, wet, all_of)
        return wet.sum(axis=0) / np.maximum(all_of.sum(axis=0), 1.0)

    def momentum_lost(self) -> float:
        """Return what got lost between liquid and solids so far, as a share of all that passed."""
        return float(np.abs(self.given - self.taken).sum()) / self.exchanged if self.exchanged else 0.0

    def volume(self) -> float:
        """Return how much liquid the surface holds [m3]."""
        full = np.clip(0.5 - self.phi, 0.0, 1.0) * self.walls.share
        return float(full.sum(dtype=np.float64)) * self.cell**3

    def frame(self) -> dict[str, np.ndarray]:
        """Return what a frame keeps: particles' places [m], velocities [m/s] and sizes [m]; the distances of the surface and of
        walls from the cells' middles, float16 [cells]."""
        return {
            "position": (self.origin + self.cell * self.position).astype(np.float32),
            "velocity": self.speed.astype(np.float16),
            "size": np.full(len(self.position), self.cell / EDGE, np.float16),
            "phi": self._whole(self.phi, 3.0),
            "walls": self._whole(self.walls.middle, 2.0),
        }

    def _whole(self, field, most):
        """A field of cells over all of the domain, `most` at most and where it is not solved."""
        found = moved(field, self.window, Window((0, 0, 0), self.domain), None, most)
        return np.clip(found, -most, most).astype(np.float16)

    def gauges(self) -> dict[str, float]:
        """Return the numbers judged on every frame."""
        wanted = (len(self.position) - self.flying) / PARTICLES * self.cell**3
        squared = float((self.speed.astype(np.float64) ** 2).sum())
        places = self.origin + self.cell * self.position.astype(np.float64)
        fall = -float((places @ self.gravity).sum())
        each = DENSITY * (self.cell / EDGE) ** 3
        due = sum(x.due for x in self.inflows)
        return {
            "particles": float(len(self.position)),
            "volume": self.volume(),
            "volume_drift": self.volume() / wanted - 1.0 if wanted else 0.0,
            "lost": self.lost / self.poured if self.poured else 0.0,
            "poured": self.poured / PARTICLES * self.cell**3,
            "drained": self.drained / PARTICLES * self.cell**3,
            "blocked": 1.0 - sum(x.came for x in self.inflows) / due if due else 0.0,
            "top_speed": float(np.sqrt((self.speed.astype(np.float64) ** 2).sum(axis=1).max(initial=0.0))),
            "kinetic_energy": 0.5 * each * squared,
            "energy": 0.5 * each * squared + each * fall,
            "pressure_iterations": float(self.solution.iterations),
            "divergence_left": self.solution.residual,
        } | ({"viscous_iterations": float(self.thickened)} if self.settings.viscosity > 0.0 else {})

    _STATE = ("position", "speed", "affine", "phi")

    def snapshot(self) -> dict[str, np.ndarray]:
        """Return the whole state as named arrays."""
        state = {n: getattr(self, n).copy() for n in self._STATE}
        state |= {f"velocity_{a}": u.copy() for a, u in zip("xyz", self.velocity)}
        return state | {
            "counts": np.array([self.time, self.lost, self.poured, self.flying, self._begun, self.drained]),
            "window": np.array([self.window.first, self.window.shape]),
            "push": np.zeros(0, np.float32) if self._push is None else self._push.copy(),
            "inflows": np.array([[x.owed, x.steps, x.due, x.came] for x in self.inflows], float).reshape(-1, 4),
            "ledger": np.concatenate([self.given, self.taken, [self.exchanged]]),
        }

    def restore(self, state: dict[str, np.ndarray]) -> None:
        """Take up the state that `snapshot` returned."""
        self._keep(slice(0, 0))
        first, shape = state["window"].astype(int).tolist()
        self._look_at(Window(tuple(first), tuple(shape)))
        for n in self._STATE:
            setattr(self, n, state[n].copy())
        self.velocity = [state[f"velocity_{a}"].copy() for a in "xyz"]
        self.time = float(state["counts"][0])
        self.lost, self.poured, self.flying = (int(x) for x in state["counts"][1:4])
        self._begun, self.drained = bool(state["counts"][4]), int(state["counts"][5])
        self._push = state["push"].copy() if state["push"].size else None
        for inflow, (owed, steps, due, came) in zip(self.inflows, state["inflows"]):
            inflow.owed, inflow.steps, inflow.due, inflow.came = float(owed), int(steps), float(due), float(came)
        ledger = state["ledger"]
        self.given, self.taken, self.exchanged = ledger[:3].copy(), ledger[3:6].copy(), float(ledger[6])
        self.walls.place(self.time)
        self._sort()

    def begin_from(self, frame: dict[str, np.ndarray]) -> None:
        """Begin with the particles of a baked frame.

        Raises
        ------
        BadValue
            If none of them lies in the domain.
        """
        places = ((frame["position"] - self.origin) / self.cell).astype(np.float32)
        inside = ((places >= 0.0) & (places < np.array(self.shape, np.float32))).all(axis=1)
        if not inside.any():
            raise BadValue("The start holds no liquid within this layer's domain: give both the same corners.")
        self.position, self.speed = places[inside], frame["velocity"][inside].astype(np.float32)
        self.affine = np.zeros((len(self.position), 3, 3), np.float32)
        self.poured = len(self.position)
        # its speeds are those of a step that has been done
        self._begun = True
        self._sort()
        if "phi" in frame and frame["phi"].shape == self.shape and inside.all():
            self.phi = frame["phi"].astype(np.float32)
        else:
            # nothing is known of the surface but the particles
            self.phi.fill(0.0)
            self.phi = self._counted()
        self._surface()
        self._scatter()


def _grid(first, last):
    """All cells from one to before another, (n, 3)."""
    return np.stack(np.meshgrid(*map(np.arange, first, last), indexing="ij"), axis=-1).reshape(-1, 3)


#: the kernel summed over particles deep in the liquid
_FULL = PARTICLES * 4.0 * np.pi * float(level_kernels.REACH) ** 3 * 16.0 / 315.0
