"""The rigid body solver: bodies, their contacts and their bonds over time."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from urst.core.bodies.fragments import Fragments
from urst.core.bodies.mobility import ABSENT, DRIVEN, FIXED, LOOSE
from urst.core.bodies.patches import Patches
from urst.core.bodies.placing import placed
from urst.core.curves.clock import Clock
from urst.core.curves.varies import at_time, in_space
from urst.core.geometry import rotation
from urst.core.rigid import collide, kernels
from urst.core.rigid.kernels import Bodies, BondState, Contacts, OldContacts, Pace, Section, Surface
from urst.core.rigid.settings import RigidSettings
from urst.errors import BadValue, SolverFailed

#: seconds of rest after which an island sleeps
DOZE = 0.5
#: speed below which a body counts as resting [m/s], its rim included
REST_SPEED = 0.01
#: damping of the bonds: the time constant that multiplies their stiffness, in substeps
BOND_LAG = 2.5
#: stiffest bond the substeps can carry, as its angular frequency times the substep
BOND_PACE = 0.785
#: least area of a bond, as a share of the smaller fragment's volume to the power 2/3
HAIR = 0.02


@dataclass(frozen=True)
class Matter:
    """What the bodies are made of and what may move them; one entry a body."""

    density: np.ndarray
    """(n,) [kg/m3]"""
    friction: np.ndarray
    """(n,)"""
    restitution: np.ndarray
    """(n,)"""
    kind: np.ndarray
    """(n,) int64: FIXED, DRIVEN or LOOSE"""
    velocity: np.ndarray
    """(n, 3) at the start [m/s]"""
    spin: np.ndarray
    """(n, 3) at the start [rad/s]"""
    bonded: np.ndarray
    """(n,) bool: whether bonds may join it to its neighbours"""


#: gives the poses of the driven bodies at a time [s]: positions (d, 3), quaternions (d, 4)
Drive = Callable[[float], tuple[np.ndarray, np.ndarray]]
#: tells which bodies are there at a time [s], (n,) bool
Presence = Callable[[float], np.ndarray]


class RigidSolver:
    """Convex bodies under gravity with friction, bounce and bonds that snap.

    Each step finds contacts once and solves them in several substeps; see `kernels` for the method. The same
    input gives the same bytes: the solver runs in one thread, and contact detection writes each pair apart.

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
    start_time : float [s]
    clock : Clock
        When each frame is: curves over frames go by it, and by its frames a second `steps` is meant.
    """

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
        start_time: float = 0.0,
        clock: Clock | None = None,
    ):
        n = len(fragments)
        self.settings, self.matter, self.drive, self.presence = settings, matter, drive, presence
        self.gravity = np.array(gravity, float)
        self.time = start_time
        self.clock = clock or Clock()
        self.step_dt = 1.0 / (self.clock.rate * settings.steps)
        self.hulls = fragments.hulls
        self.radius = self.hulls.radius()
        self.volume = fragments.volume
        mass = fragments.volume * matter.density
        inertia = fragments.inertia * matter.density[:, None, None]
        self.bodies = Bodies(
            position=fragments.centre.copy(),
            orientation=np.tile(rotation.IDENTITY, (n, 1)),
            rotation=np.tile(np.eye(3), (n, 1, 1)),
            velocity=matter.velocity.copy(),
            spin=matter.spin.copy(),
            inertia=inertia,
            inverse_inertia=np.linalg.inv(inertia),
            mass=mass,
            kind=matter.kind.copy(),
            awake=np.ones(n, np.uint8),
            inverse_mass=np.zeros(n),
            mobility=np.zeros((n, 3, 3)),
        )
        self.surface = Surface(
            np.asarray(matter.friction, float),
            np.asarray(matter.restitution, float),
            np.minimum(0.05, 0.3 * self.radius),
        )
        self.taken = np.zeros(3)
        """impulse from outside that bodies have taken [N s]"""
        self.held = np.zeros(3)
        """the same of bodies at rest that held against it [N s]"""
        self.rest = np.zeros(n)
        self.driven = np.flatnonzero(matter.kind == DRIVEN)
        self.contacts = _no_contacts(0)
        self._set_bonds(fragments, patches)
        if drive:
            self._place_driven(*drive(start_time))
        self._appear()

    def _set_bonds(self, fragments, patches):
        held = self.settings.bonds
        i, j = patches.pair.T if len(patches) else (np.zeros(0, int),) * 2
        kind, bonded = self.matter.kind, self.matter.bonded
        use = ((kind[i] == LOOSE) | (kind[j] == LOOSE)) & (kind[i] != DRIVEN) & (kind[j] != DRIVEN)
        use &= bonded[i] & bonded[j] & (in_space(held.tension, patches.centre) > 0)
        # a weld turns a sliver of area into a hinge pin of endless stress: such hairs do not hold
        least = np.minimum(fragments.volume[i], fragments.volume[j])
        use &= patches.area > HAIR * np.cbrt(least) ** 2
        self.patch_of_bond = np.flatnonzero(use)
        pair, centre = patches.pair[use], patches.centre[use]
        b, n = len(pair), len(fragments)
        self.bonds = BondState(
            body=pair.copy(),
            anchor=np.stack([centre - fragments.centre[pair[:, 0]], centre - fragments.centre[pair[:, 1]]], axis=1),
            alive=np.ones(b, np.uint8),
            impulse=np.zeros((b, 6)),
            load=np.zeros((b, 6)),
            stiffness=self._stiffness(fragments, patches, use),
            arm=np.zeros((b, 2, 3)),
            inverse=np.zeros((b, 2, 3, 3)),
        )
        self.section = Section(*(getattr(patches, name)[use] for name in Section._fields))
        rng = np.random.default_rng(held.seed)
        share = np.clip(1.0 + held.scatter * rng.standard_normal(b), 0.05, None)
        self.strength = np.column_stack([in_space(s, centre) * share for s in (held.tension, held.shear)])
        self.load_share = np.zeros(b)
        both = np.concatenate([pair, pair[:, ::-1]])
        order = np.argsort(both[:, 0], kind="stable")
        self.ties = collide.Ties(
            start=np.searchsorted(both[order, 0], np.arange(n + 1)),
            neighbours=both[order, 1].copy(),
            bond=np.concatenate([np.arange(b), np.arange(b)])[order],
        )

    def _stiffness(self, fragments, patches, use):
        """A patch is a bar of the bonds' modulus from centre to centre: E A / L and E I / L."""
        i, j = patches.pair[use].T
        length = np.abs(np.einsum("bi,bi->b", fragments.centre[j] - fragments.centre[i], patches.normal[use]))
        # a fixed neighbour may be a huge slab whose centre is far away: what bends is near the joint
        size = np.cbrt(np.minimum(fragments.volume[i], fragments.volume[j]))
        length = np.clip(length, 0.2 * size, 2.0 * size)
        per_area = self.settings.bonds.modulus / length
        stiffness = np.column_stack([per_area * patches.area[use], per_area * patches.moment[use].mean(axis=1)])
        loose = self.matter.kind == LOOSE
        inverse_mass = np.where(loose, 1.0 / self.bodies.mass, 0.0)
        turning = np.where(loose, np.trace(self.bodies.inverse_inertia, axis1=1, axis2=2) / 3.0, 0.0)
        pace = (BOND_PACE / (self.step_dt / self.settings.substeps)) ** 2
        cap = np.column_stack([pace / (inverse_mass[i] + inverse_mass[j]), pace / (turning[i] + turning[j])])
        return np.minimum(stiffness, cap)

    def settle(self, seconds: float, pulse: Callable[[], None] = lambda: None) -> None:
        """Let bodies and bonds take up gravity before the shot starts: nothing driven moves, nothing snaps.

        Velocities given at the start are held back until it is over. `pulse` is called between steps; what it raises
        ends the work.

        Parameters
        ----------
        seconds : float [s]
        pulse : callable
            Called between steps; what it raises ends the work.
        """
        if seconds <= 0:
            return
        drive, self.drive = self.drive, None
        velocity, spin = self.bodies.velocity.copy(), self.bodies.spin.copy()
        thrown = (np.abs(velocity) + np.abs(spin)).max(axis=1) > 0
        start = self.bodies.position[thrown].copy(), self.bodies.orientation[thrown].copy()
        kind = self.bodies.kind.copy()
        self.bodies.kind[(thrown & (kind == LOOSE)) | (kind == DRIVEN)] = FIXED
        self.bodies.velocity[:], self.bodies.spin[:] = 0.0, 0.0
        time = self.time
        for _ in range(int(np.ceil(seconds / self.step_dt))):
            pulse()
            self._advance(self.step_dt, linear_damping=6.0, angular_damping=6.0, snapping=False)
        self.bodies.kind[:] = kind
        self.bodies.position[thrown], self.bodies.orientation[thrown] = start
        self.bodies.velocity[thrown], self.bodies.spin[thrown] = velocity[thrown], spin[thrown]
        self.bodies.awake[thrown], self.rest[thrown] = 1, 0.0
        self.time, self.drive = time, drive

    def stable_dt(self) -> float:
        """Return the longest time that one check for contact serves [s]."""
        return self.step_dt

    def step(self, dt: float) -> None:
        """Advance by `dt` seconds, with one check for contact.

        Raises
        ------
        SolverFailed
            If a body has no finite place any more.
        """
        s = at_time(self.settings, self.clock, self.time + 0.5 * dt)
        self._appear()
        self._advance(dt, s.linear_damping, s.angular_damping, snapping=True)

    def _advance(self, dt, linear_damping, angular_damping, snapping):
        s, bodies = self.settings, self.bodies
        pose = self._steer(dt)
        self._find_contacts(dt)
        self._wake()
        h = dt / s.substeps
        pace = Pace(
            h=h, substeps=s.substeps, linear_keep=float(np.exp(-linear_damping * h)),
            angular_keep=float(np.exp(-angular_damping * h)), top_speed=float(s.top_speed), top_spin=float(s.top_spin),
            frequency=0.125 / h, push_speed=float(s.push_speed),
            bounce_speed=float(max(2.0 * dt * np.linalg.norm(self.gravity), 0.05)), lag=BOND_LAG * h,
        )  # fmt: skip
        kernels.step(bodies, self.contacts, self.bonds, self.gravity, pace)
        self.time += dt
        if pose:
            # whatever rounding the substeps have left
            self._place_driven(*pose)
        self._load_bonds(dt, snapping)
        self._doze(dt)
        if not np.isfinite(bodies.position).all() or not np.isfinite(bodies.velocity).all():
            worst = int(np.flatnonzero(~np.isfinite(bodies.velocity + bodies.position).all(axis=1))[0])
            raise SolverFailed(
                f"Body {worst} has no finite position after {self.time:.3f} s; most likely a stiff overlap or an "
                "extreme mass ratio: raise the substeps or clear overlaps at the start."
            )

    def _appear(self):
        """Let bodies come and go."""
        if self.presence is None:
            return
        here, kind = self.presence(self.time), self.bodies.kind
        was_here = kind != ABSENT
        if (here == was_here).all():
            return
        kind[:] = np.where(here, self.matter.kind, ABSENT)
        gone = (~here)[self.bonds.body].any(axis=1) & (self.bonds.alive == 1)
        self.bonds.alive[gone], self.bonds.impulse[gone], self.load_share[gone] = 0, 0.0, 0.0
        # what lay against one that went, or will against one that came, must notice
        self.bodies.awake[:], self.rest[:] = 1, 0.0
        if self.drive:
            self._place_driven(*self.drive(self.time))

    def _place_driven(self, position, orientation):
        self.bodies.position[self.driven], self.bodies.orientation[self.driven] = position, orientation
        self.bodies.rotation[self.driven] = rotation.matrix(orientation)

    def _steer(self, dt):
        """Give driven bodies the velocity that takes them to their next pose, and return that pose."""
        if not self.drive:
            self.bodies.velocity[self.driven], self.bodies.spin[self.driven] = 0.0, 0.0
            return None
        position, orientation = self.drive(self.time + dt)
        self.bodies.velocity[self.driven] = (position - self.bodies.position[self.driven]) / dt
        turn = rotation.turns(orientation) * rotation.turns(self.bodies.orientation[self.driven]).inv()
        self.bodies.spin[self.driven] = turn.as_rotvec() / dt
        return position, orientation

    def _find_contacts(self, dt):
        bodies, h = self.bodies, self.hulls
        # whatever can close within the step must be seen now
        speed = np.linalg.norm(bodies.velocity, axis=1) + self.radius * np.linalg.norm(bodies.spin, axis=1)
        moving = (bodies.kind == LOOSE) & (bodies.awake == 1)
        margin = 0.5 * np.minimum(0.02, 0.1 * self.radius)
        margin = margin + dt * (speed + np.where(moving, dt * np.linalg.norm(self.gravity), 0.0))
        here = placed(h, bodies.position, bodies.rotation, bodies.velocity, bodies.spin, margin)
        room = 16 * len(margin) + 64
        while True:
            pairs = np.empty((room, 2), np.int64)
            found = collide.find_pairs(here.low, here.high, bodies.kind, self.ties, self.bonds.alive, pairs)
            if found >= 0:
                break
            room *= 2
        pairs = pairs[:found]
        found = collide.Touches(
            np.zeros(found, np.int64), np.zeros((found, 3)), np.zeros((found, 4, 3)), np.zeros((found, 4))
        )
        collide.touch(pairs, margin, here.hulls, bodies.position, *found)
        old = self.contacts
        push = np.einsum("m,mi->mi", old.impulse[:, 0], old.normal)
        push += np.einsum("mk,mki->mi", old.impulse[:, 1:], old.tangent)
        key = old.body[:, 0] * len(margin) + old.body[:, 1]
        old_key, first = np.unique(key, return_index=True)
        self.contacts = _no_contacts(int(found.counts.sum()))
        before = OldContacts(old_key, np.append(first, len(key)), old.anchor[:, 0].copy(), push)
        kernels.gather(pairs, found, bodies, self.surface, before, self.contacts)

    def _load_bonds(self, dt, snapping):
        bonds, held = self.bonds, self.settings.bonds
        if not len(bonds.alive):
            return
        stress = np.empty((len(bonds.alive), 2))
        kernels.bond_stress(bonds, self.bodies.rotation, self.section, dt, stress)
        bearing = self.strength[:, 1] + np.maximum(-stress[:, 0], 0.0) * np.tan(np.radians(held.friction_angle))
        share = np.maximum(stress[:, 0] / self.strength[:, 0], stress[:, 1] / bearing)
        # a sleeping pair is not solved, so its last load stands
        solved = (self.bodies.inverse_mass[bonds.body] > 0).any(axis=1)
        self.load_share = np.where(solved, np.maximum(share, 0.0), self.load_share)
        snapped = (self.load_share > 1.0) & (bonds.alive == 1)
        if snapping and snapped.any():
            bonds.alive[snapped] = 0
            bonds.impulse[snapped] = 0.0
            self.load_share[snapped] = 0.0

    def _island_labels(self):
        label = np.empty(len(self.rest), np.int64)
        # two bodies nearer than a hair press on each other even before the first impulse
        near = np.maximum(self.contacts.impulse[:, 0], 1e-3 - self.contacts.gap)
        kernels.islands(
            len(label), self.bodies.kind, self.contacts.body, near, self.bonds.body, self.bonds.alive, label
        )
        return label

    def _wake(self):
        """Wake islands that something moving touches."""
        bodies, c = self.bodies, self.contacts
        if bodies.awake.all():
            return
        speed = np.linalg.norm(bodies.velocity, axis=1)
        active = (speed > REST_SPEED) & ((bodies.kind == DRIVEN) | ((bodies.kind == LOOSE) & (bodies.awake == 1)))
        touched = np.zeros(len(speed), bool)
        for side in (0, 1):
            hit = active[c.body[:, 1 - side]]
            touched[c.body[hit, side]] = True
        label = self._island_labels()
        roused = np.zeros(len(label), bool)
        roused[label[touched & (bodies.kind == LOOSE)]] = True
        wake = roused[label] & (bodies.awake == 0)
        bodies.awake[wake], self.rest[wake] = 1, 0.0

    def _doze(self, dt):
        bodies = self.bodies
        speed = np.linalg.norm(bodies.velocity, axis=1) + self.radius * np.linalg.norm(bodies.spin, axis=1)
        loose = bodies.kind == LOOSE
        self.rest = np.where(speed < REST_SPEED, self.rest + dt, 0.0)
        label = self._island_labels()
        least = np.full(len(label), np.inf)
        np.minimum.at(least, label[loose], self.rest[loose])
        asleep = loose & (least[label] > DOZE)
        bodies.awake[:] = ~asleep
        bodies.velocity[asleep], bodies.spin[asleep] = 0.0, 0.0

    def free(self) -> np.ndarray:
        """Return which bodies forces may move, (n,) bool."""
        return self.bodies.kind == LOOSE

    def inverse_mass(self) -> np.ndarray:
        """Return 1 / mass (n,) [1/kg], 0 for what does not move now."""
        return np.where(self.free() & (self.bodies.awake == 1), 1.0 / self.bodies.mass, 0.0)

    def inverse_inertia(self) -> np.ndarray:
        """Return the inverse inertia in world axes (n, 3, 3) [1/(kg m2)], 0 for what does not move now."""
        turned = self.bodies.rotation @ self.bodies.inverse_inertia @ np.transpose(self.bodies.rotation, (0, 2, 1))
        return np.where((self.inverse_mass() > 0.0)[:, None, None], turned, 0.0)

    def take(self, impulse: np.ndarray, twist: np.ndarray) -> None:
        """Take impulses from outside, through the centres (n, 3) [N s] and about them (n, 3) [N m s].

        A body asleep is woken by what would move it faster than rest allows, and holds against the rest.

        Parameters
        ----------
        impulse : (n, 3) float [N s]
        twist : (n, 3) float [N m s]
        """
        bodies = self.bodies
        asleep = self.free() & (bodies.awake == 0)
        if asleep.any():
            roused = asleep & (np.linalg.norm(impulse, axis=1) > REST_SPEED * bodies.mass)
            if roused.any():
                label = self._island_labels()
                wake = asleep & np.isin(label, label[roused])
                bodies.awake[wake], self.rest[wake] = 1, 0.0
        moved = self.inverse_mass()
        bodies.velocity[:] += moved[:, None] * impulse
        bodies.spin[:] += np.einsum("nij,nj->ni", self.inverse_inertia(), twist)
        self.taken += impulse[moved > 0.0].sum(axis=0)
        self.held += impulse[moved == 0.0].sum(axis=0)

    def poses(self) -> dict[str, np.ndarray]:
        """Return position (n, 3) [m] and orientation (n, 4) as they are now."""
        return {"position": self.bodies.position.copy(), "orientation": self.bodies.orientation.copy()}

    def begin_from(self, frame: dict[str, np.ndarray]) -> None:
        """Begin with the bodies of a baked frame; nothing is settled then.

        Raises
        ------
        BadValue
            If the frame has other bodies or bonds.
        """
        bodies, n = self.bodies, len(self.rest)
        if frame["position"].shape != (n, 3) or len(frame["bond_alive"]) != len(self.bonds.alive):
            raise BadValue(
                f"The start holds {len(frame['position'])} bodies and {len(frame['bond_alive'])} bonds, this layer {n} and "
                f"{len(self.bonds.alive)}: let both fall from the same breaks, with the same bonds."
            )
        for name in ("position", "orientation", "velocity", "spin"):
            getattr(bodies, name)[:] = frame[name]
        bodies.orientation[:] /= np.linalg.norm(bodies.orientation, axis=1, keepdims=True)
        bodies.rotation[:] = rotation.matrix(bodies.orientation)
        self.bonds.alive[:] = frame["bond_alive"]
        if self.drive:
            self._place_driven(*self.drive(self.time))

    def frame(self) -> dict[str, np.ndarray]:
        """Return what a frame keeps: poses and velocities (float32) and the bonds' state."""
        b = self.bodies
        return {
            "position": b.position.astype(np.float32),
            "orientation": b.orientation.astype(np.float32),
            "velocity": b.velocity.astype(np.float32),
            "spin": b.spin.astype(np.float32),
            "awake": b.awake.copy(),
            "bond_alive": self.bonds.alive.copy(),
            "bond_load": self.load_share.astype(np.float32),
        }

    def gauges(self) -> dict[str, float]:
        """Return the numbers judged on every frame, SI units."""
        b = self.bodies
        loose = b.kind == LOOSE
        speed = np.linalg.norm(b.velocity, axis=1)
        turning = np.einsum("nij,nj->ni", np.transpose(b.rotation, (0, 2, 1)), b.spin)
        energy = 0.5 * b.mass * speed**2 + 0.5 * np.einsum("ni,nij,nj->n", turning, b.inertia, turning)
        label = np.empty(len(loose), np.int64)
        kernels.islands(
            len(label), b.kind, np.zeros((0, 2), np.int64), np.zeros(0), self.bonds.body, self.bonds.alive, label
        )
        lump = np.bincount(label[loose], b.mass[loose], minlength=len(label)) if loose.any() else np.zeros(1)
        moving = loose & (speed > REST_SPEED)
        gap = self.contacts.gap
        return {
            "moving": float(moving.sum()),
            "moving_mass": float(b.mass[moving].sum()),
            "kinetic_energy": float(energy[loose].sum()),
            "deepest_overlap": float(max(0.0, -gap.min())) if len(gap) else 0.0,
            "bonds_left": float(self.bonds.alive.mean()) if len(self.bonds.alive) else 1.0,
            "bond_load": float(self.load_share.max()) if len(self.load_share) else 0.0,
            "largest_piece": float(lump.max()),
            "top_speed": float(speed[loose].max()) if loose.any() else 0.0,
        }

    _CONTACTS = ("body", "normal", "tangent", "anchor", "gap", "impulse", "friction", "restitution")
    _BODIES = ("position", "orientation", "rotation", "velocity", "spin", "kind", "awake", "inverse_mass")

    def snapshot(self) -> dict[str, np.ndarray]:
        """Return the whole state, so that a solver restored from it goes on to the same bytes."""
        state = {f"body_{k}": getattr(self.bodies, k).copy() for k in self._BODIES}
        state |= {f"contact_{k}": getattr(self.contacts, k).copy() for k in self._CONTACTS}
        state |= {f"bond_{k}": getattr(self.bonds, k).copy() for k in ("alive", "impulse")}
        return state | {
            "rest": self.rest.copy(),
            "load_share": self.load_share.copy(),
            "time": np.array([self.time]),
            "ledger": np.array([self.taken, self.held]),
        }

    def restore(self, state: dict[str, np.ndarray]) -> None:
        """Take up the state that `snapshot` returned."""
        for k in self._BODIES:
            getattr(self.bodies, k)[:] = state[f"body_{k}"]
        self.contacts = _no_contacts(len(state["contact_gap"]))
        for k in self._CONTACTS:
            getattr(self.contacts, k)[:] = state[f"contact_{k}"]
        for k in ("alive", "impulse"):
            getattr(self.bonds, k)[:] = state[f"bond_{k}"]
        self.rest, self.load_share = state["rest"].copy(), state["load_share"].copy()
        self.time = float(state["time"][0])
        self.taken, self.held = state["ledger"].copy()


def _no_contacts(m):
    return Contacts(
        body=np.zeros((m, 2), np.int64), normal=np.zeros((m, 3)), tangent=np.zeros((m, 2, 3)),
        anchor=np.zeros((m, 2, 3)), gap=np.zeros(m), impulse=np.zeros((m, 3)), friction=np.zeros(m),
        restitution=np.zeros(m), approach=np.zeros(m), peak=np.zeros(m), arm=np.zeros((m, 2, 3)), weight=np.zeros((m, 3)),
    )  # fmt: skip
