"""The rigid body solver: bodies, their contacts and their bonds over time."""

from collections.abc import Callable, Sequence

import numpy as np

from urst.core.bodies.fragments import Fragments
from urst.core.bodies.mobility import ABSENT, DRIVEN, FIXED, LOOSE
from urst.core.bodies.patches import Patches
from urst.core.checkpoint import Checkpointed
from urst.core.curves.clock import Clock
from urst.core.curves.varies import at_time, constant
from urst.core.geometry import rotation
from urst.core.geometry.convex import with_points
from urst.core.geometry.land import Land
from urst.core.launch.blast import faces
from urst.core.rigid import crushing, manifolds, mass_scaling, measure, outside, rest, rolling, state, substeps, sweeps
from urst.core.rigid.bond_kernels import forces
from urst.core.rigid.bonds import LAG, Bonds
from urst.core.rigid.clusters import FLEX, Clusters
from urst.core.rigid.colliders import Colliders
from urst.core.rigid.compounds import pushes
from urst.core.rigid.contacts import Contacts, Touching
from urst.core.rigid.director import Directed, Director
from urst.core.rigid.joints import Jointed, Joints
from urst.core.rigid.matter import Matter
from urst.core.rigid.port import Port
from urst.core.rigid.pushers import Motors, Pushers
from urst.core.rigid.rest import Rest
from urst.core.rigid.settings import Region, RigidSettings
from urst.core.rigid.state import Bodies
from urst.core.rigid.steady_forces import SteadyForces
from urst.errors import BadValue, SolverFailed

#: fraction of an overlap worked off in a substep
RECOVERY = 0.0378
#: fraction of its impulse that a closed contact forgets a sweep at most, and the overlap this may keep standing [m]
LEAK, LEAK_DEPTH = 0.058, 1e-4
#: changes of speed that call for another visit: this fraction of what gravity adds in a substep, this fraction of the
#: speed, and never less than this [m/s]
HOT_FALL, HOT_FRACTION, HOT_LEAST = 0.2, 0.02, 1e-4
#: approaches slower than what gravity adds in so many substeps, or than this, do not bounce [m/s]
BOUNCE_FALL, BOUNCE_LEAST = 4.0, 0.05
#: times that a check is taken back to wake those that it loads and loosen those that it strikes
WAKES = 16
#: times that this is done for pairs that were left out, and how deep in each other they may get before it is [m]
MISSES, DEEP = 2, 5e-3
#: where two bodies come at each other by more than this in a check, or one turns by more [rad], it is taken in two
#: parts, and in four where by twice as much
FAR, WIDE, FINER = 16e-3, 0.08, (2, 4)
#: and where they come by less than this, twice as long a one serves [m]
SLOW = 1e-3
#: checks between looks at who may sleep
SLEEP_CHECKS = 8


#: gives the poses of the driven bodies at a time [s]: positions (d, 3), quaternions (d, 4)
Drive = Callable[[float], tuple[np.ndarray, np.ndarray]]
#: tells which bodies are there at a time [s], (n,) bool
Presence = Callable[[float], np.ndarray]


class RigidSolver(Port, Checkpointed):
    """Convex bodies under gravity with friction, bounce and bonds that snap.

    Each step, a check, finds contacts once and solves them in several substeps; see `substeps` for the method and
    `manifolds` for the contacts. The same input gives the same bytes for any number of threads.

    Parameters
    ----------
    fragments : Fragments
    patches : Patches
        Where they touch; bonds may hold there.
    matter : Matter
    settings : RigidSettings
    gravity : (3,) float [m/s2]
    drive : callable, optional
        Where driven bodies are at a time.
    presence : callable, optional
        Which bodies are there at a time; all, if not given. One that goes is gone with its bonds, one that comes
        stands where it would have stood at the start.
    directed : sequence of Directed
        Events and whom they are about.
    jointed : sequence of Jointed
        Joints and what they join.
    surfaces : sequence of Land
        What the last fragments are instead of convex, each in the frame of its fragment; fixed or driven. They are
        not among what frames and poses tell of.
    start_time : float [s]
    clock : Clock
        When each frame is: curves over frames go by it, and by its frames a second `steps` is meant.
    keeps : sequence of str
        What frames hold beside what they always do: `contacts`.
    """

    STATE = (
        *(
            f"bodies.{n}"
            for n in ("position", "orientation", "rotation", "velocity", "spin", "kind", "awake", "travel")
        ),
        *(f"bonds.{n}" for n in ("alive", "impulse", "force", "rest", "yielded", "relief")),
        "rest",
        "contacts",
        *(f"joints.state.{n}" for n in ("alive", "impulse", "force")),
        "director",
        "steady_forces",
        "clusters",
        "utilisation",
        "pressure",
        "time",
        "done",
        "mass_scale",
        "pace",
        "turning",
        "counted",
        "taken",
        "held",
        "pushers",
    )

    def __init__(
        self,
        fragments: Fragments,
        patches: Patches,
        matter: Matter,
        settings: RigidSettings,
        *,
        gravity: tuple[float, float, float] = (0.0, 0.0, -9.81),
        drive: Drive | None = None,
        presence: Presence | None = None,
        directed: Sequence[Directed] = (),
        jointed: Sequence[Jointed] = (),
        surfaces: Sequence[Land] = (),
        start_time: float = 0.0,
        clock: Clock | None = None,
        keeps: Sequence[str] = (),
    ) -> None:
        n = len(fragments)
        self.keeps = keeps
        self.settings, self.matter, self.drive, self.presence = settings, matter, drive, presence
        self.gravity = np.array(gravity, float)
        self.time = self.start_time = start_time
        self.clock = clock or Clock()
        self.step_dt = 1.0 / (self.clock.rate * settings.steps)
        self.hulls = fragments.hulls
        # a ball is a point that is grown
        cores = with_points(self.hulls, fragments.ball > 0.0)
        radius = cores.radius() + fragments.ball
        self.count = n - len(surfaces)
        """how many bodies there are beside the surfaces"""
        self.radius, self.volume = radius[: self.count], fragments.volume[: self.count]
        inertia = fragments.inertia * matter.density[:, None, None]
        self.bodies = Bodies(
            position=fragments.centre.copy(),
            orientation=np.tile(rotation.IDENTITY, (n, 1)),
            rotation=np.tile(np.eye(3), (n, 1, 1)),
            velocity=matter.velocity.copy(),
            spin=matter.spin.copy(),
            inertia=inertia,
            inverse_inertia=np.linalg.inv(inertia),
            mass=fragments.volume * matter.density,
            kind=matter.kind.copy(),
            awake=np.ones(n, np.uint8),
            radius=radius,
            swing=np.zeros(n),
            travel=np.zeros(n),
            ball=fragments.ball > 0.0,
        )
        self.motion = Bodies(*(a[: self.count] for a in self.bodies))
        """the same without the surfaces"""
        self.floor, self.datum = measure.floors(fragments, matter.kind)
        self.taken = np.zeros(3)
        """impulse from outside that bodies have taken [N s]"""
        self.held = np.zeros(3)
        """the same of bodies at rest that held against it [N s]"""
        self.rest = Rest(np.zeros(n), self.bodies.position.copy(), self.bodies.rotation.copy())
        self.done = 0
        """substeps so far"""
        self.counted = (0, 0)
        """a frame, and the checks that were made in it"""
        self.mass_scale = np.ones(n)
        """(n,) how much heavier those that are squeezed are taken as, see `mass_scaling`"""
        self.steady_forces = SteadyForces(n)
        self.cut = 0
        """bodies that were held to the fastest speed or spin in a check since the last frame, at most"""
        self.pace = 0.0
        """how fast bodies that may touch come at each other, at most [m/s]"""
        self.turning = 0.0
        """how fast those turn that may touch soon, at most [rad/s]"""
        colliders = Colliders(cores, fragments.ball, surfaces)
        self.contacts = Contacts(colliders, matter.friction, matter.restitution)
        self.director = Director(directed, self.hulls, patches, fragments.centre, matter.kind, self.clock)
        self.surface = np.bincount(
            np.repeat(np.arange(n), np.diff(self.hulls.face_start)), faces(self.hulls)[1], minlength=n
        )
        """(n,) [m2]"""
        self.driven = np.flatnonzero(matter.kind == DRIVEN)
        force = np.zeros(n) if matter.force is None else matter.force
        self.pushers = Pushers(fragments.piece, self.driven, force, self.bodies, start_time)
        strength = np.full(n, np.inf) if matter.compression is None else matter.compression
        self._crush = np.minimum(strength, crushing.HARDEST) * fragments.volume
        self._rolling = np.zeros(n) if matter.rolling is None else matter.rolling
        self._bonds = Bonds(
            fragments,
            patches,
            self.bodies,
            matter,
            self.director.later,
            settings.bonds,
            self.step_dt / settings.substeps,
        )
        self.bonds, self.patch_of_bond = self._bonds.state, self._bonds.patch
        self.joints = Joints(jointed, self.bodies, self.hulls, matter.whole)
        self.clusters = Clusters(
            self._bonds, self.joints, self.bodies, self.step_dt, self.step_dt / settings.substeps, self.pushers
        )
        self.bodies.kind[:] = self.director.kind
        if drive:
            self._place_driven(*drive(start_time), np.ones(n, bool))
        self._appear()
        self.clusters.begin(self.bodies)

    @property
    def utilisation(self) -> np.ndarray:
        """Stress of each bond over its strength, (b,)."""
        return self._bonds.utilisation

    @utilisation.setter
    def utilisation(self, value: np.ndarray) -> None:
        self._bonds.utilisation = value

    @property
    def pressure(self) -> np.ndarray:
        """Compression of each bond over its strength, (b,)."""
        return self._bonds.pressure

    @pressure.setter
    def pressure(self, value: np.ndarray) -> None:
        self._bonds.pressure = value

    @property
    def strength(self) -> np.ndarray:
        """Strength of each bond in tension and in shear, (b, 2) [Pa]."""
        return self._bonds.state.strength[:, :2]

    def stable_dt(self) -> float:
        """Return the longest time that one check for contact serves [s]: twice as long where bodies hardly come at
        each other."""
        swings = len(self.joints) or len(self.clusters.swept)
        return self.step_dt if swings or self.pace * 2.0 * self.step_dt >= SLOW else 2.0 * self.step_dt

    def step(self, dt: float) -> None:
        """Advance by `dt` seconds, with one check for contact, or more as fast as bodies came at each other in the
        last one.

        Raises
        ------
        SolverFailed
            If a body has no finite place any more.
        """
        s = at_time(self.settings, self.clock, self.time + 0.5 * dt)
        self._appear()
        if len(self.director):
            self._direct(dt)
        if s.air > 0.0:
            outside.blow(self.bodies, s, self.surface, self.lightness(), dt)
        if s.regions:
            self._pull(s.regions, dt)
        whole = max(1, round(dt / self.step_dt))
        parts = 1 if self.pace * dt < SLOW else whole
        for finer in FINER:
            far, wide = self.pace * dt > 0.5 * finer * whole * FAR, self.turning * dt > 0.5 * finer * whole * WIDE
            if (far or wide) and self.settings.substeps % finer == 0:
                parts = finer * whole
        self._count(parts)
        for _ in range(parts):
            self.advance(dt / parts, constant(s.linear_damping), constant(s.angular_damping), snapping=True)

    def _pull(self, regions: tuple[Region, ...], dt: float) -> None:
        """Let regions act."""
        span = outside.Span(
            self.clock.frame(self.time - dt), self.clock.frame(self.time), self.time < self.start_time + 0.5 * dt, dt
        )
        woken = outside.woken(self.bodies, regions, self.free(), span)
        if woken.any():
            self.wake_up(woken)
        outside.pull(self.bodies, regions, self.gravity, self.lightness(), span)

    def _count(self, parts: int) -> None:
        """Count the checks of a frame."""
        frame = int(np.floor(self.clock.frame(self.time) + 1e-6))
        before = self.counted[1] if self.counted[0] == frame else 0
        self.counted = (frame, before + parts)

    def _direct(self, dt: float) -> None:
        """Let the events happen whose moment has come."""
        bodies, director = self.bodies, self.director
        for d in director.due(self.time, dt, bodies, self.contacts):
            what, mine = d.event.what, d.members & (bodies.kind != ABSENT)
            if what in ("launch", "blast"):
                self._kick(*director.kick(d, bodies))
            elif what == "let go":
                held = mine & (bodies.kind != LOOSE) & (self.matter.kind != FIXED)
                director.kind[d.members & (self.matter.kind != FIXED)] = LOOSE
                # what was driven goes on as it went
                still = held & (bodies.kind == FIXED)
                bodies.velocity[still], bodies.spin[still] = self.matter.velocity[still], self.matter.spin[still]
                self._become(held, LOOSE)
            elif what == "anchor":
                director.kind[d.members] = FIXED
                bodies.velocity[mine], bodies.spin[mine] = 0.0, 0.0
                self._become(mine, FIXED)
            elif what == "remove":
                director.kind[d.members] = ABSENT
                self._bonds.part(mine[self.bonds.body].any(axis=1) & (self.bonds.alive == 1))
                self._become(mine, ABSENT)
            elif what == "part":
                self._bonds.loosen(mine[self.bonds.body].any(axis=1) & (self.bonds.alive == 1))
                self._become(mine & False, LOOSE)
        director.slow(self.time, dt, bodies)

    def _become(self, some: np.ndarray, kind: int) -> None:
        """Let something else move some bodies from now on."""
        bodies = self.bodies
        bodies.kind[some] = kind
        bodies.awake[:], self.rest.calm[:] = 1, 0.0
        self.clusters.forget()
        self.clusters.relabel(bodies)
        self.contacts.stale()

    def _kick(self, velocity: np.ndarray, spin: np.ndarray) -> None:
        """Change velocities and spins by (n, 3) each; what that would tear at is loosened."""
        bodies = self.bodies
        kicked = (np.abs(velocity) + np.abs(spin)).any(axis=1)
        self.wake_up(kicked)
        self.clusters.loosen(kicked, bodies)
        bodies.velocity[:] += velocity
        bodies.spin[:] += spin

    @property
    def checks(self) -> int:
        """How many of the settings' checks have passed."""
        return self.done // self.settings.substeps

    def _substeps(self, dt: float) -> int:
        """How many substeps some time takes."""
        return max(1, round(dt * self.settings.substeps / self.step_dt))

    def _ended(self, checks: int, dt: float) -> bool:
        """Whether so many of the settings' checks have ended in the last `dt` seconds."""
        span = checks * self.settings.substeps
        return self.done // span != (self.done - self._substeps(dt)) // span

    def weight(self) -> float:
        """Return how strong gravity is [m/s2]."""
        return float(np.linalg.norm(self.gravity))

    def advance(self, dt: float, linear_damping: float, angular_damping: float, snapping: bool) -> None:
        """Solve one check for contact.

        Parameters
        ----------
        dt : float [s]
        linear_damping, angular_damping : float [1/s]
        snapping : bool
            Whether bonds and joints may break.

        Raises
        ------
        SolverFailed
            If a body has no finite place any more.
        """
        bodies, c, clusters, weight = self.bodies, self.contacts, self.clusters, self.weight()
        if not self.drive and not ((bodies.kind == LOOSE) & (bodies.awake == 1)).any():
            # what sleeps costs nothing
            self.time += dt
            self.done += self._substeps(dt)
            return
        pose = self._steer(dt)
        motors = self.pushers.aim(self.drive, clusters.compounds.carrier, bodies, dt)
        # velocities may have been changed from outside
        state.spin_up(bodies, np.inf, np.inf, 0.0, dt)
        self.look(dt)
        wake = np.zeros(len(bodies.mass), bool)
        for _ in range(WAKES):
            if not rest.wake_before(bodies, c.pairs, c.marks, weight, dt, wake):
                break
            self.wake_up(wake)
            self.look(dt)
        saved, bonded = self._before(), len(self.bonds.alive) > 0
        c.pairs.missed[:] = 0.0
        lost, cut = -1, 0
        for again in range(WAKES + 1):
            free = clusters.nodes(bodies)
            c.load[:] = 0.0
            most, fastest = np.empty(len(c.load)), np.empty(len(bodies.mass))
            crushing.limits(c.pairs, bodies, clusters.compounds.carrier, self._crush, most, fastest)
            velocity, moved, centre, turned, nodes = self._solve(
                dt, free, linear_damping, angular_damping, snapping, motors, most
            )
            if bonded:
                pushed, force = self._pushes(dt)
            rescaled = mass_scaling.scale_masses(
                c.pairs, c.load, bodies, free, clusters.compounds.carrier, weight, self.mass_scale
            )
            wake[:] = False
            woken = rest.wake_after(bodies, c.pairs, c.load, c.marks, weight, wake)
            missed = again < MISSES and manifolds.missed(
                c.pairs, bodies, clusters.compounds.carrier, centre, moved, manifolds.SPARE, DEEP
            )
            struck = clusters.strikes(bodies, c.pairs, force) if snapping and bonded else None
            if again == WAKES or not (woken or missed or rescaled or struck is not None):
                s = self.settings
                lost, cut = substeps.conclude(
                    bodies,
                    nodes,
                    clusters.creeping * (dt / self.step_dt),
                    self.rest,
                    turned,
                    (velocity, moved),
                    substeps.Limits(s.top_speed, s.top_spin, s.ease),
                    dt,
                )
                break
            # what sleeps was a wall so far, what is rigid was one body, what was left out was not met: take the check
            # back
            self._take_back(saved)
            if woken:
                self.wake_up(wake)
            if struck is not None:
                clusters.loosen(struck, bodies)
            self.look(dt)
            saved = self._before()
        closing, self.turning = manifolds.fastest(c.pairs, bodies, dt, 1.0 + 2.0 * self.step_dt / dt, manifolds.SPARE)
        self.pace = closing / dt
        rolling.resist(c.pairs, c.load, bodies, self._rolling, dt)
        self.cut = max(self.cut, cut)
        crushing.note(c.pairs, c.load, most, bodies, saved[0][1], fastest)
        self.time += dt
        self.done += self._substeps(dt)
        if pose:
            # whatever rounding the substeps have left
            self._place_driven(*pose)
            self.pushers.note(bodies, self.time, dt)
        if bonded:
            clusters.taken += pushed
            clusters.note_forces(bodies, force, dt)
            self._judge(free, dt, snapping, self._ended(FLEX, dt))
        if snapping and len(self.joints) and self.joints.tear():
            clusters.relabel(bodies)
            c.stale()
        if self._ended(SLEEP_CHECKS, dt):
            sleepy = np.zeros(len(bodies.mass), np.uint8)
            rest.put_to_sleep(bodies, c.pairs, c.load, self.rest, c.marks, clusters.company, sleepy)
        if lost >= 0:
            raise SolverFailed(
                f"Body {lost} has no finite position after {self.time:.3f} s; most likely a stiff overlap or an "
                "extreme mass ratio: raise the substeps or clear overlaps at the start."
            )

    def _before(self) -> list[tuple[np.ndarray, np.ndarray]]:
        """What a check changes before it is accepted."""
        b = self.bodies
        kept = (
            b.velocity,
            b.spin,
            self.bonds.impulse,
            self.joints.state.impulse,
            self.contacts.pairs.impulse,
            self.clusters.taken,
        )
        return [(x, x.copy()) for x in kept]

    def _take_back(self, saved: list[tuple[np.ndarray, np.ndarray]]) -> None:
        for x, before in saved:
            x[:] = before

    def _pushes(self, dt: float) -> tuple[np.ndarray, np.ndarray]:
        """What contacts did to bonded bodies over the check: impulses (n, 6) [N s], [N m s] and mean forces (n, 3)
        [N]."""
        n = len(self.bodies.mass)
        pushed, force = np.zeros((n, 6)), np.zeros((n, 3))
        h = self.step_dt / self.settings.substeps
        pushes(self.contacts.pairs, self.bodies, self.clusters.capacity > 0.0, self.contacts.load, h, dt, pushed, force)
        self.steady_forces.press(self.clusters.rigid == 1, dt, pushed, force)
        return pushed, force

    def _judge(self, free: np.ndarray, dt: float, snapping: bool, flexes: bool) -> None:
        """Take up what bonds bore, let rigid clusters give, and part what bore too much."""
        bodies, clusters, bonds = self.bodies, self.clusters, self.bonds
        some = clusters.swept[free[bonds.body[clusters.swept]].any(axis=1)]
        if len(some):
            forces(bonds, some, bodies.rotation, dt)
            self._bonds.judge(some)
            snapped, full = self._bonds.tear(bodies)
            if snapping and full.any():
                clusters.disturb(np.flatnonzero(full))
            if snapping and snapped.any():
                self._bonds.part(snapped)
                clusters.relabel(bodies)
                self.contacts.stale()
        if flexes:
            over = clusters.flex(bodies, self.gravity, self.rest.calm, self.touching, self.checks // FLEX)
            if snapping and over.any():
                struck = np.zeros(len(bodies.mass), bool)
                struck[bonds.body[over].ravel()] = True
                clusters.loosen(struck, bodies)

    def look(self, dt: float) -> None:
        """Find where bodies touch, or may within `dt` [s]."""
        weight = self.weight()
        self.contacts.seek(self.bodies, self._tied, dt, weight)
        self.contacts.look(self.bodies, dt, weight)

    def _tied(self, pairs: np.ndarray) -> np.ndarray:
        tied = self._bonds.join(pairs)
        return tied | self.joints.join(pairs) if len(self.joints) else tied

    def touching(self) -> Touching:
        """Return the points at which bodies touch."""
        return self.contacts.points(self.bodies, self.step_dt / self.settings.substeps)

    def _solve(
        self,
        dt: float,
        free: np.ndarray,
        linear_damping: float,
        angular_damping: float,
        snapping: bool,
        motors: Motors,
        most: np.ndarray,
    ) -> tuple[np.ndarray | substeps.NodeState, ...]:
        """Return how nodes go over the check; see `substeps.solve`."""
        c, weight, count = self.contacts, self.weight(), self._substeps(dt)
        h = dt / count
        rules = sweeps.Rules(
            *(
                sweeps.REAL(x)
                for x in (
                    h,
                    RECOVERY / h,
                    self.settings.push_speed,
                    LEAK,
                    LEAK_DEPTH,
                    max(HOT_FALL * weight * h, HOT_LEAST),
                    HOT_FRACTION,
                    max(BOUNCE_FALL * weight * h, BOUNCE_LEAST),
                )
            )
        )
        keep = np.exp([-linear_damping * h, -angular_damping * h])
        pull, ballast = self.steady_forces.on_nodes(self, len(free))
        # a piece that is pushed carries itself
        pull[motors.node] = 0.0
        joined = self.clusters.compounds
        if len(self.joints):
            self.joints.arrange(self.bodies.kind)
        rows_of = substeps.Rows(c.pairs, c.pair_friction, c.pair_restitution, most, self.bonds, self.joints.state)
        nodes = substeps.NodeState(free, joined, self.mass_scale, ballast, pull, self.clusters.taken, motors)
        rule = substeps.StepRule(count, rules, keep, weight, LAG, snapping)
        return *substeps.solve(rows_of, nodes, self.bodies, rule, c.load), nodes

    def wake_up(self, wake: np.ndarray) -> None:
        """Wake some bodies (n,) bool, and what bonds and joints hold to them."""
        bodies, c = self.bodies, self.contacts
        clusters = np.zeros(len(wake), bool)
        clusters[self.clusters.company[wake]] = True
        wake = clusters[self.clusters.company]
        wake = wake & (bodies.kind == LOOSE) & (bodies.awake == 0)
        bodies.awake[wake], self.rest.calm[wake] = 1, 0.0
        self.rest.position[wake], self.rest.rotation[wake] = bodies.position[wake], bodies.rotation[wake]
        c.marks.set[(bodies.awake[c.pairs.body] == 1).all(axis=1)] = 0

    def _appear(self) -> None:
        """Let bodies come and go."""
        if self.presence is None:
            return
        here, kind = self.presence(self.time), self.bodies.kind
        was_here = kind != ABSENT
        if (here == was_here).all():
            return
        kind[:] = np.where(here, self.director.kind, ABSENT)
        self._bonds.part((~here)[self.bonds.body].any(axis=1) & (self.bonds.alive == 1))
        self.clusters.forget()
        self.clusters.relabel(self.bodies)
        # what lay against one that went, or will against one that came, must notice
        self.bodies.awake[:], self.rest.calm[:] = 1, 0.0
        self.contacts.stale()
        if self.drive:
            came = here & ~was_here
            self.pushers.restart(came, self.time)
            self._place_driven(*self.drive(self.time), came)

    def _place_driven(self, position: np.ndarray, orientation: np.ndarray, came: np.ndarray | None = None) -> None:
        """Put driven bodies where they are on their paths, those that are pushed only where they just `came`."""
        still = self._still_driven()
        still &= ~self.pushers.mine[self.driven] | (False if came is None else came[self.driven])
        state.put(
            self.bodies, self.driven[still], np.asarray(position, float)[still], np.asarray(orientation, float)[still]
        )

    def _still_driven(self) -> np.ndarray:
        """Which of the driven nobody has let go, (d,) bool."""
        return self.director.kind[self.driven] == DRIVEN

    def _steer(self, dt: float) -> tuple[np.ndarray, np.ndarray] | None:
        """Give driven bodies the velocity that takes them to their next pose, and return that pose."""
        still = self._still_driven()
        if self.drive:
            still &= ~self.pushers.mine[self.driven]
        driven = self.driven[still]
        if not self.drive:
            self.bodies.velocity[driven], self.bodies.spin[driven] = 0.0, 0.0
            return None
        position, orientation = (np.asarray(x, float) for x in self.drive(self.time + dt))
        b = self.bodies
        state.steer(b.position, b.orientation, driven, (b.velocity, b.spin), position[still], orientation[still], dt)
        return position, orientation

    def _restored(self) -> None:
        self._bonds.remeasure()

    def begin_from(self, frame: dict[str, np.ndarray]) -> None:
        """Begin with the bodies of a baked frame; nothing is settled then.

        Raises
        ------
        BadValue
            If the frame has other bodies or bonds.
        """
        bodies, n = self.bodies, self.count
        if frame["position"].shape != (n, 3) or len(frame["bond_alive"]) != len(self.bonds.alive):
            raise BadValue(
                f"The start holds {len(frame['position'])} bodies and {len(frame['bond_alive'])} bonds, this layer "
                f"{n} and "
                f"{len(self.bonds.alive)}: let both fall from the same breaks, with the same bonds."
            )
        for name in ("position", "orientation", "velocity", "spin"):
            getattr(bodies, name)[:n] = frame[name]
        bodies.orientation[:] /= np.linalg.norm(bodies.orientation, axis=1, keepdims=True)
        bodies.rotation[:] = rotation.matrix(bodies.orientation)
        self.bonds.alive[:] = frame["bond_alive"]
        self._bonds.remeasure()
        self._bonds.slacken(np.arange(len(self._bonds)), self.bonds.stiffness, bodies)
        self.clusters.begin(bodies)
        self.contacts.moved()
        self.look(self.step_dt)
        self.clusters.relax(bodies, self.gravity, self.touching(), moving=False)
        if self.drive:
            self._place_driven(*self.drive(self.time))

    def frame(self) -> dict[str, np.ndarray]:
        """Return what a frame keeps: poses and velocities (float32), who is awake, what presses each, and the bonds'
        state; by choice the points of contact [m] and the forces there [N]."""
        b, some = self.bodies, slice(self.count)
        touching = {}
        if "contacts" in self.keeps:
            found = self.touching()
            touching = {
                "touch_point": found.point.astype(np.float32),
                "touch_force": np.linalg.norm(found.force, axis=1).astype(np.float32),
            }
        return touching | {
            "position": b.position[some].astype(np.float32),
            "orientation": b.orientation[some].astype(np.float32),
            "velocity": b.velocity[some].astype(np.float32),
            "spin": b.spin[some].astype(np.float32),
            "awake": b.awake[some].copy(),
            "pressed": measure.pressed(b, self.contacts, self.weight())[some].astype(np.float32),
            "bond_alive": self.bonds.alive.copy(),
            "bond_load": self.utilisation.astype(np.float32),
        }

    def gauges(self) -> dict[str, float]:
        """Return the numbers judged on every frame, SI units."""
        found = measure.gauges(
            self.bodies, self._bonds, self.clusters.label, self.contacts, self.gravity, self.floor, self.datum
        )
        cut, self.cut = self.cut, 0
        pressed = {
            "crushed": float(crushing.count(self.contacts.pairs, self.bodies)),
            "late": self.pushers.late(self.bodies, self.time),
        }
        found |= {"checks": float(self.counted[1]), "cut": float(cut)}
        return found | (pressed if len(self.driven) else {})
