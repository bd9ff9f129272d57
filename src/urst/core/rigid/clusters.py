"""Clusters: what bonds join, and whether it moves as one or bond by bond.

A cluster that nothing strains is *rigid*: it moves as one compound, and its bonds give as `flex` says. A blow, or a
load that a bond does not carry, makes it *loose*: from that check on, which is taken back, every bond is a spring among
the contacts, so that the blow acts where it falls and bonds snap where they are overloaded. Once no bond has snapped
and nothing has struck for a while it is rigid again, in the shape that it has then.
"""

from collections.abc import Callable
from typing import Any

import numpy as np

from urst.core.bodies.mobility import DRIVEN, LOOSE
from urst.core.checkpoint import Checkpointed
from urst.core.rigid import bond_kernels
from urst.core.rigid import compounds as compound
from urst.core.rigid.bonds import Bonds
from urst.core.rigid.compounds import Compounds
from urst.core.rigid.contacts import Touching
from urst.core.rigid.flex import Cluster, Supports
from urst.core.rigid.joints import Joints
from urst.core.rigid.manifolds import Manifolds
from urst.core.rigid.pushers import Pushers
from urst.core.rigid.state import Bodies, Inertia

#: checks between flexes
FLEX = 8
#: flexes of which what is free takes part in one
_SELDOM = 4
#: a blow is a change of force on a body beyond this fraction of what its bonds carry in tension
BLOW = 0.5
#: how fast the force that a body is used to follows, as a fraction a check
_USED = 0.1
#: how long nothing must have happened to a loose cluster before it is rigid again [s]
CALM = 0.02
#: fraction of the way to equilibrium that a cluster goes from one flex to the next, at most and as its slowest swing
#: allows: contacts learn how it gives only while it does, and would shake what gives faster
_MOST, _STEADY = 0.1, 0.7
#: a cluster that nothing presses by more than this fraction of a member's weight has no contacts to mind
_UNTOUCHED = 1e-3
#: a cluster that has been still for so long lies on what it touches [s]
_STILL = 0.2
#: what pushes a cluster this much upwards is what it stands on; the rest lies on it
_UPRIGHT = 0.3
#: nothing that stands gives so much where it stands [m]
_FAR = 0.05
#: relative difference of velocities up to which a cluster starts as one
_AS_ONE = 1e-6
#: most steps towards equilibrium, the turn that one may take at most, and the turn or shift that is none [rad], [m]
_STEPS, _BEND, _NOTHING = 40, 0.05, 1e-9


class Clusters(Checkpointed):
    """Which bodies move as one, and how these give.

    Parameters
    ----------
    bonds : Bonds
    joints : Joints
    bodies : Bodies
        At the start.
    dt, h : float
        Check and substep [s].
    pushers : Pushers
    """

    STATE = (
        "rigid",
        "since",
        "taken",
        "time",
        "used",
        "pressed",
        "stands",
        "framed",
        "frame_place",
        "frame_turn",
        "creeping",
    )

    def __init__(self, bonds: Bonds, joints: Joints, bodies: Bodies, dt: float, h: float, pushers: Pushers) -> None:
        n = len(bodies.mass)
        self.bonds, self.joints, self.bodies, self.h, self._pushers = bonds, joints, bodies, h, pushers
        self.span = FLEX * dt
        self.rigid = np.zeros(n, np.uint8)
        """whether a body moves with its cluster"""
        self.since = np.zeros(n)
        """how long nothing has happened to the cluster of a body [s]"""
        self.taken = np.zeros((n, 6))
        """what contacts and others did to members of rigid clusters since the last flex [N s], [N m s]"""
        self.time = np.zeros(n)
        """how long each has taken [s]"""
        self.used = np.zeros((n, 3))
        """contact force that a body is used to [N]"""
        self.pressed = np.zeros((n, 6))
        """what contacts do to each on the average of late [N], [N m]"""
        self.creeping = np.zeros((n, 6))
        """how each gives in a check, in its own frame [m], [rad]"""
        self.stands = np.zeros(n, np.uint8)
        """whether its cluster has been brought into equilibrium since it came to lie still"""
        self.framed = np.zeros(n, np.uint8)
        """whether the factors of a body's cluster were made, and how it was turned then"""
        self.frame_place, self.frame_turn = np.zeros((n, 3)), np.zeros((n, 3, 3))
        self._clusters: dict[int, Cluster] = {}
        self.label = np.arange(n)
        self.held = np.zeros(n, bool)
        self.size = np.ones(n, np.int64)
        self.compounds = Compounds(np.zeros(1, np.int64), np.zeros(0, np.int64), np.arange(n))
        self.begin(bodies)

    def begin(self, bodies: Bodies) -> None:
        """Begin with bodies as they are: what moves as one is rigid."""
        self.forget()
        self.relabel(bodies)
        self.time[:], self.since[:], self.used[:], self.creeping[:], self.pressed[:] = 0.0, 0.0, 0.0, 0.0, 0.0
        self.stands[:] = 0
        self.rigid[:] = self._as_one(bodies)
        self._group(bodies)

    def resume(self, bodies: Bodies) -> None:
        """Go on with bodies of which some were held in between: clusters that do not move as one any more are loose."""
        self.relabel(bodies)
        taken = self.taken.copy()
        self.rigid[:] = self._as_one(bodies)
        self.taken[:] = np.where(self.rigid[:, None] == 1, taken, 0.0)
        self._group(bodies)

    def forget(self) -> None:
        """Have all clusters factored anew."""
        self._forget(np.ones(len(self.label), bool))

    def relabel(self, bodies: Bodies) -> None:
        """See anew what bonds join: some have gone, or bodies have come or gone."""
        before = self.label
        self.label = self.bonds.clusters(bodies.kind)
        self.capacity = self.bonds.capacity()
        """what the bonds of a body, or of the solid it is a part of, bore in tension at the start [N]"""
        self.company = self.joints.company(bodies.kind, self.label)
        """(n,) the same for loose bodies that bonds or joints hold together"""
        self.held = self.bonds.anchored(bodies.kind, self.label)
        self.size = np.bincount(self.label, minlength=len(self.label))[self.label]
        alone = (self.size == 1) & ~self.held
        self.rigid[alone] = 0
        same = np.bincount(before, minlength=len(before))[before] == self.size
        self._forget(~same | (before != self.label))
        self._group(bodies)

    def _forget(self, some: np.ndarray) -> None:
        """Have clusters factored anew, as they stand then, of which some bodies (n,) bool are members."""
        self.framed[some] = 0
        for root in np.unique(self.label[some]):
            self._clusters.pop(int(root), None)

    def _as_one(self, bodies: Bodies) -> np.ndarray:
        """Which bodies start in a cluster that moves as a rigid body does, (n,) bool."""
        bonded = (bodies.kind == LOOSE) & ((self.size > 1) | self.held)
        self.rigid[:] = bonded
        self._group(bodies)
        apart = np.zeros(len(self.rigid), bool)
        self.taken[:] = 0.0
        if bonded.any():
            self._gather(bodies, np.ones(len(self.rigid), bool))
            speed = np.linalg.norm(self.taken[:, :3], axis=1) / bodies.mass
            off = bonded & (speed > _AS_ONE * (1.0 + np.linalg.norm(bodies.velocity, axis=1)))
            apart[self.label[off]] = True
        self.taken[:] = 0.0
        return bonded & ~apart[self.label]

    def _group(self, bodies: Bodies) -> None:
        """Number the compounds: the clusters that are rigid."""
        n = len(self.label)
        rigid = np.flatnonzero(self.rigid)
        order = rigid[np.argsort(self.label[rigid], kind="stable")]
        roots, start = np.unique(self.label[order], return_index=True)
        carrier = np.arange(n)
        carrier[order] = n + np.searchsorted(roots, self.label[order])
        self.rigid_count = len(roots)
        """how many compounds are clusters; the others are pieces that are pushed as one"""
        for members in self._pushers.members:
            if len(members) > 1 and (bodies.kind[members] == DRIVEN).all():
                carrier[members] = n + len(start)
                start, order = np.append(start, len(order)), np.append(order, members)
        self.compounds = Compounds(np.append(start, len(order)).astype(np.int64), order, carrier)
        body = self.bonds.state.body
        self.swept = np.flatnonzero((self.bonds.state.alive == 1) & ~self.rigid[body].any(axis=1))
        """bonds of loose clusters, (k,)"""

    def nodes(self, bodies: Bodies) -> np.ndarray:
        """Return which nodes may be moved: bodies, compounds, and a dummy which may not, (n + c + 1,) bool."""
        pushed = (bodies.kind == DRIVEN) & self._pushers.mine
        free = ((bodies.kind == LOOSE) & (bodies.awake == 1)) | pushed
        first = self.compounds.member[self.compounds.start[:-1]]
        whole = free[first] & ~self.held[first]
        return np.concatenate([free & (self.compounds.carrier == np.arange(len(free))), whole, [False]])

    def _gather(self, bodies: Bodies, awake: np.ndarray) -> None:
        n, c = len(self.label), len(self.compounds.start) - 1
        first = self.compounds.member[self.compounds.start[:-1]]
        free = np.concatenate([np.zeros(n, bool), awake[first] & ~self.held[first], [False]])
        compound.gather(
            bodies,
            self.compounds,
            free,
            np.zeros((n + c, 3)),
            Inertia(np.zeros(n + c + 1), np.zeros((n + c + 1, 6))),
            np.zeros((n + c + 1, 6)),
            self.taken,
        )

    def loosen(self, struck: np.ndarray, bodies: Bodies) -> None:
        """Let the clusters of some bodies move bond by bond.

        Parameters
        ----------
        struck : (n,) bool
        bodies : Bodies
        """
        clusters = np.zeros(len(struck), bool)
        clusters[self.label[struck]] = True
        mine = clusters[self.label] & (self.rigid == 1)
        some = self._bonds_of(mine)
        state = self.bonds.state
        self.bonds.slacken(some, state.swept[some], bodies)
        bond_kernels.push(state, some, bodies.rotation, self.h)
        self.rigid[mine], self.since[mine] = 0, 0.0
        self.taken[mine], self.time[mine], self.creeping[mine], self.pressed[mine] = 0.0, 0.0, 0.0, 0.0
        self.stands[mine] = 0
        self._group(bodies)

    def _bonds_of(self, mine: np.ndarray) -> np.ndarray:
        return np.flatnonzero((self.bonds.state.alive == 1) & mine[self.bonds.state.body].any(axis=1))

    def _steady(self, bodies: Bodies) -> None:
        """Let loose clusters be rigid to which nothing has happened for a while."""
        ready = (self.rigid == 0) & (bodies.kind == LOOSE) & (self.since >= CALM) & ((self.size > 1) | self.held)
        if not ready.any():
            return
        some = self._bonds_of(ready)
        self.bonds.slacken(some, self.bonds.state.stiffness[some], bodies)
        # what members move against their cluster is taken from them as it is gathered
        self.rigid[ready], self.taken[ready], self.time[ready] = 1, 0.0, 0.0
        self._forget(ready)
        self._group(bodies)

    def strikes(self, bodies: Bodies, pairs: Manifolds, force: np.ndarray) -> np.ndarray | None:
        """Return which members of rigid clusters are struck, (n,) bool; None if none is.

        Parameters
        ----------
        bodies : Bodies
        pairs : Manifolds
        force : (n, 3) float
            Mean force of contacts on each body [N].
        """
        hit = np.zeros(len(self.rigid), bool)
        some = compound.struck(self.rigid, self.held, bodies, pairs, self._load(force), hit)
        return hit if some else None

    def note_forces(self, bodies: Bodies, force: np.ndarray, dt: float) -> None:
        """Note the forces of a check, and how long nothing has happened to each loose cluster.

        Parameters
        ----------
        bodies : Bodies
        force : (n, 3) float [N]
        dt : float [s]
        """
        compound.note_forces(self.label, bodies.awake, self._load(force), _USED, self.since, self.time, dt)

    def _load(self, force: np.ndarray) -> compound.Load:
        return compound.Load(force, self.used, BLOW * self.capacity)

    def disturb(self, bonds: np.ndarray) -> None:
        """Note that something has happened to some bonds (k,)."""
        clusters = np.zeros(len(self.label), bool)
        clusters[self.label[self.bonds.state.body[bonds].ravel()]] = True
        self.since[clusters[self.label]] = 0.0

    def flex(
        self, bodies: Bodies, gravity: np.ndarray, calm: np.ndarray, touching: Callable[..., Any], number: int
    ) -> np.ndarray:
        """Let rigid clusters give under what was done to them since the last time; returns which bonds are overloaded,
        (b,) bool.

        Parameters
        ----------
        bodies : Bodies
        gravity : (3,) float [m/s2]
        calm : (n,) float
            How long each has been still [s].
        touching : callable
            Returns the Touching points.
        number : int
            How many flexes there were before.
        """
        self._steady(bodies)
        over = np.zeros(len(self.bonds), bool)
        c = self.compounds
        for k in range(self.rigid_count):
            members = c.member[c.start[k] : c.start[k + 1]]
            first = members[0]
            if not bodies.awake[first] or not self.time[first]:
                continue
            # what is free is used to forces slowly, and need not be asked so often
            if not self.held[first] and (number + first) % _SELDOM:
                continue
            self.creeping[members] = 0.0
            still = min(calm[members].min(), _STILL) if not self.held[first] else 0.0
            if still == _STILL:
                if not self.stands[members].all():
                    self._relax(members, bodies, gravity, touching(), True)
                    self.stands[members] = 1
                over |= self._overloaded(members)
                continue
            self.stands[members] = 0
            # in free flight nothing strains it
            if self.held[first] or bodies.spin[first].any() or self.taken[members].any():
                over |= self._give(self._lump(members, bodies), bodies, gravity)
            self.taken[members], self.time[members] = 0.0, 0.0
        return over

    def _overloaded(self, members: np.ndarray) -> np.ndarray:
        mine = np.zeros(len(self.label), bool)
        mine[members] = True
        over = (self.bonds.utilisation > 1.0) | (self.bonds.pressure > 1.0)
        return mine[self.bonds.state.body].any(axis=1) & over & (self.bonds.state.alive == 1)

    def _lump(self, members: np.ndarray, bodies: Bodies) -> Cluster:
        root = int(self.label[members[0]])
        cluster = self._clusters.get(root)
        if cluster is not None and not cluster.bent(bodies):
            return cluster
        if cluster is not None or not self.framed[members].all():
            self.frame_place[members], self.frame_turn[members] = bodies.position[members], bodies.rotation[members]
            self.framed[members] = 1
        self._clusters[root] = cluster = self._new(members, bodies, self.frame_place[members], self.frame_turn[members])
        return cluster

    def _new(
        self, members: np.ndarray, bodies: Bodies, position: np.ndarray, turn: np.ndarray, under: Supports | None = None
    ) -> Cluster:
        mine = np.zeros(len(self.label), bool)
        mine[members] = True
        held = bool(self.held[members[0]])
        return Cluster(members, self._bonds_of(mine), held, self.bonds.state, bodies, position, turn, under)

    def _give(self, cluster: Cluster, bodies: Bodies, gravity: np.ndarray) -> np.ndarray:
        members, some, state = cluster.members, cluster.some, self.bonds.state
        fraction = _USED if cluster.held else 1.0 - (1.0 - _USED) ** _SELDOM
        self.pressed[members] += fraction * (self.taken[members] / self.time[members, None] - self.pressed[members])
        force = self.pressed[members].copy()
        if cluster.held:
            force[:, :3] += cluster.mass[:, None] * gravity
        else:
            spin, arm = bodies.spin[members[0]], bodies.position[members]
            arm = arm - cluster.mass @ arm / cluster.mass.sum()
            force[:, :3] -= cluster.mass[:, None] * np.cross(spin, np.cross(spin, arm))
        strain = self.bonds.strain(some, bodies) - state.rest[some]
        displacement, more = cluster.give(force, strain, bodies)
        state.force[some] = -state.stiffness[some] * (strain + more)
        if cluster.held:
            weight = cluster.mass.max() * np.linalg.norm(gravity)
            touched = np.abs(self.pressed[members]).max() > _UNTOUCHED * weight
            fraction = min(_MOST, (_STEADY * cluster.slowest * self.span) ** 2 if touched else _MOST) / FLEX
            turn = bodies.rotation[members]
            self.creeping[members, :3] = np.einsum("nji,nj->ni", turn, fraction * displacement[:, :3])
            self.creeping[members, 3:] = np.einsum("nji,nj->ni", turn, fraction * displacement[:, 3:])
        return self.bonds.judge(some)

    def relax(self, bodies: Bodies, gravity: np.ndarray, touching: Touching, moving: bool) -> None:
        """Bring into equilibrium under their own weight all rigid clusters that are held or stand on something.

        Parameters
        ----------
        bodies : Bodies
        gravity : (3,) float [m/s2]
        touching : Touching
        moving : bool
            Whether bodies sink to where their bonds carry them; else the bonds carry them where they are.
        """
        c = self.compounds
        for k in range(self.rigid_count):
            self._relax(c.member[c.start[k] : c.start[k + 1]], bodies, gravity, touching, moving)

    def _relax(
        self, members: np.ndarray, bodies: Bodies, gravity: np.ndarray, touching: Touching, moving: bool
    ) -> None:
        state = self.bonds.state
        stood_on, force = self._outside(members, bodies, gravity, touching)
        if not self.held[members[0]] and not len(stood_on.body):
            return
        under = None if self.held[members[0]] else stood_on
        for _ in range(_STEPS):
            cluster = self._new(members, bodies, bodies.position[members], bodies.rotation[members], under)
            some = cluster.some
            strain = self.bonds.strain(some, bodies) - state.rest[some]
            displacement, more = cluster.give(force, strain, bodies)
            if under is not None:
                # nothing holds it down
                lifts = cluster.reaction < 0.0
                if lifts.any() and not lifts.all():
                    under = Supports(*(x[~lifts] for x in under))
                    continue
                if np.abs(displacement).max() > _FAR:
                    # it does not stand on these
                    return
            state.force[some] = -state.stiffness[some] * (strain + more)
            if not moving:
                self.bonds.slacken(some, state.stiffness[some], bodies)
                break
            compound.shift(
                bodies, members, displacement * min(1.0, _BEND / max(np.abs(displacement[:, 3:]).max(), 1e-30))
            )
            # springs start afresh at each step: what they bore is not known to the next
            if np.abs(displacement).max() < _NOTHING or under is not None:
                break
        self.bonds.judge(some)

    def _outside(
        self, members: np.ndarray, bodies: Bodies, gravity: np.ndarray, touching: Touching
    ) -> tuple[Supports, np.ndarray]:
        """What some bodies stand on, and the forces on them of their weight and of what lies on them."""
        force = np.zeros((len(self.label), 6))
        force[members, :3] = bodies.mass[members, None] * gravity
        mine = np.zeros(len(self.label), bool)
        mine[members] = True
        up = -gravity / max(np.linalg.norm(gravity), 1e-30)
        under = []
        for side, sign in ((0, -1.0), (1, 1.0)):
            k = np.flatnonzero(mine[touching.body[:, side]] & ~mine[touching.body[:, 1 - side]])
            body, normal = touching.body[k, side], sign * touching.normal[k]
            stands = normal @ up > _UPRIGHT
            arm = touching.point[k] - bodies.position[body]
            under.append(Supports(body[stands], arm[stands], normal[stands]))
            on = ~stands
            push = sign * touching.force[k[on]]
            np.add.at(force, body[on], np.concatenate([push, np.cross(arm[on], push)], axis=1))
        return Supports(*(np.concatenate(x) for x in zip(*under))), force[members]

    def _restoring(self) -> None:
        self.relabel(self.bodies)

    def _restored(self) -> None:
        self._group(self.bodies)
