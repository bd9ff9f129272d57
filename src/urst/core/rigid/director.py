"""What happens to bodies, and when: the events of a fall."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from urst.core.bodies.mobility import ABSENT, DRIVEN, FIXED, LOOSE
from urst.core.bodies.patches import Patches
from urst.core.checkpoint import Checkpointed
from urst.core.curves.clock import Clock
from urst.core.geometry.convex import Hulls
from urst.core.launch import blast, launch
from urst.core.rigid.contacts import Contacts
from urst.core.rigid.settings import Event
from urst.core.rigid.state import Bodies

#: after so many of its times what is slowed down is as slow as it shall be, but for a twentieth
_TIMES = 3.0
#: a patch lies on a face whose normal is as near as this to its own, as a cosine, and whose plane is as near to it [m]
_ALIGNED, _CLOSE = 0.999, 3e-3
#: a neighbour that has moved away farther covers nothing any more [m]
_PARTED = 0.01
#: faces that look as little to one side, as a fraction of their area, look nowhere
_ASKEW = 0.02


@dataclass(frozen=True)
class Directed:
    """An event and the bodies that it is about."""

    event: Event
    members: np.ndarray
    """(n,) bool: to whom it happens"""
    by: np.ndarray | None = None
    """(n,) bool: whose touch counts; None: whatever moves"""


class Director(Checkpointed):
    """Watches for the moments of events, and does what they say.

    Parameters
    ----------
    directed : sequence of Directed
    hulls : Hulls
        In the frames of their bodies.
    patches : Patches
        Where they touch at the start.
    position : (n, 3) float
        Where they are at the start.
    kind : (n,) int64
        What may move each then.
    clock : Clock
    """

    STATE = ("moment", "done", "kind")

    def __init__(
        self,
        directed: Sequence[Directed],
        hulls: Hulls,
        patches: Patches,
        position: np.ndarray,
        kind: np.ndarray,
        clock: Clock,
    ) -> None:
        self.directed, self.hulls, self.clock = directed, hulls, clock
        self.moment = np.full(len(directed), np.inf)
        """(e,) when each is to happen; none yet: infinite [s]"""
        self.done = np.zeros(len(directed), np.uint8)
        held = np.zeros(len(kind), bool)
        for d in directed:
            if d.event.what == "let go":
                held |= d.members
        self.later = held & ((kind == LOOSE) | (kind == DRIVEN))
        """(n,) what is let go some time"""
        self.kind = np.where(held & (kind == LOOSE), FIXED, kind)
        """(n,) what may move each by now; presence counts on top"""
        self._area = blast.faces(hulls)[1]
        self._covers = _covers(hulls, patches, position)

    def __len__(self) -> int:
        return len(self.directed)

    def due(self, time: float, dt: float, bodies: Bodies, contacts: Contacts) -> list[Directed]:
        """Return what happens in the check that begins at a time.

        Parameters
        ----------
        time, dt : float [s]
        bodies : Bodies
        contacts : Contacts
            As of the last check.
        """
        for number, d in enumerate(self.directed):
            if np.isinf(self.moment[number]):
                self.moment[number] = self._moment(d, time, bodies, contacts) + d.event.delay
        now = [k for k in range(len(self.directed)) if not self.done[k] and self.moment[k] < time + dt - 1e-9]
        self.done[now] = 1
        return [self.directed[k] for k in now]

    def _moment(self, d: Directed, time: float, bodies: Bodies, contacts: Contacts) -> float:
        e = d.event
        if e.when == "frame":
            return self.clock.seconds(e.frame)
        if e.when == "after":
            return next(m for x, m in zip(self.directed, self.moment) if x.event.name == e.after)
        there = d.members & (bodies.kind != ABSENT)
        if e.when == "region":
            inside = (bodies.position >= np.array(e.low)) & (bodies.position <= np.array(e.high))
            return time if (inside.all(axis=1) & there).any() else np.inf
        pair, load = contacts.pairs.body, contacts.load
        if e.when == "load":
            load_on = np.zeros(len(there))
            for side in range(2):
                np.add.at(load_on, pair[:, side], np.where(there[pair[:, 1 - side]], 0.0, load))
            return time if (load_on[there] > e.force).any() else np.inf
        moves = ((bodies.kind == LOOSE) & (bodies.awake == 1)) | (bodies.kind == DRIVEN)
        other = (moves if d.by is None else d.by) & ~there
        # what is held feels no force of what is driven
        near = (load > 0.0) | ((contacts.pairs.size > 0) & (contacts.pairs.gap <= 0.0))
        met = (there[pair[:, 0]] & other[pair[:, 1]]) | (there[pair[:, 1]] & other[pair[:, 0]])
        return time if (near & met).any() else np.inf

    def kick(self, d: Directed, bodies: Bodies) -> tuple[np.ndarray, np.ndarray]:
        """Return what a launch or a blast adds to velocities (n, 3) [m/s] and spins (n, 3) [rad/s].

        Parameters
        ----------
        d : Directed
        bodies : Bodies
        """
        e, n = d.event, len(bodies.mass)
        velocity, spin = np.zeros((n, 3)), np.zeros((n, 3))
        mine = np.flatnonzero(d.members & (bodies.kind == LOOSE))
        if not len(mine):
            # all have gone
            return velocity, spin
        turn = bodies.rotation[mine]
        if e.what == "blast":
            push, twist = blast.impulses(
                self.hulls, bodies.position, bodies.rotation, self._covered(bodies), e.charge, e.launch.centre
            )
            velocity[mine] = push[mine] / bodies.mass[mine, None]
            inverse = turn @ bodies.inverse_inertia[mine] @ np.swapaxes(turn, 1, 2)
            spin[mine] = np.einsum("nij,nj->ni", inverse, twist[mine])
            return velocity, spin
        outward = self._outward(bodies, mine)
        velocity[mine] = launch.velocities(e.launch, bodies.position[mine], outward, bodies.velocity[mine])
        velocity[mine] -= bodies.velocity[mine]
        spin[mine] = launch.spins(e.launch, len(mine))
        return velocity, spin

    def _covered(self, bodies: Bodies) -> np.ndarray:
        """Area of each face that a neighbour covers which is still where it was at the start, (f,) [m2]."""
        face, area, i, j, apart = self._covers
        here = np.abs(np.linalg.norm(bodies.position[j] - bodies.position[i], axis=1) - apart) < _PARTED
        here &= bodies.kind[j] != ABSENT
        return np.bincount(face[here], area[here], minlength=len(self._area))

    def _outward(self, bodies: Bodies, mine: np.ndarray) -> np.ndarray:
        """Which way the open faces of some bodies (k,) look on the whole, (k, 3); away from the middle of all if no
        way."""
        body = np.repeat(np.arange(self.hulls.size), np.diff(self.hulls.face_start))
        open_area = np.maximum(self._area - self._covered(bodies), 0.0)
        local = np.zeros((self.hulls.size, 3))
        np.add.at(local, body, open_area[:, None] * self.hulls.planes[:, :3])
        out = np.einsum("nij,nj->ni", bodies.rotation[mine], local[mine])
        none = np.linalg.norm(out, axis=1) < _ASKEW * np.bincount(body, self._area, minlength=len(local))[mine]
        out[none] = (bodies.position[mine] - bodies.position[mine].mean(axis=0))[none]
        return out

    def slow(self, time: float, dt: float, bodies: Bodies) -> None:
        """Slow down whom an event has told to.

        Parameters
        ----------
        time, dt : float [s]
        bodies : Bodies
        """
        for d, moment in zip(self.directed, self.moment):
            if d.event.what != "slow down" or moment > time:
                continue
            mine = d.members & (bodies.kind == LOOSE) & (bodies.awake == 1)
            speed = np.linalg.norm(bodies.velocity, axis=1)
            fast = mine & (speed > d.event.top_speed)
            keep = np.exp(-_TIMES * dt / d.event.over)
            new = d.event.top_speed + (speed[fast] - d.event.top_speed) * keep
            bodies.velocity[fast] *= (new / speed[fast])[:, None]
            bodies.spin[fast] *= keep


def _covers(hulls: Hulls, patches: Patches, position: np.ndarray) -> tuple[np.ndarray, ...]:
    """Which face of which body each patch covers: face (c,), area (c,) [m2], body and neighbour (c,), apart at the
    start (c,) [m]."""
    found = []
    for side, sign in ((0, 1.0), (1, -1.0)):
        body, other = patches.pair[:, side], patches.pair[:, 1 - side]
        count = np.diff(hulls.face_start)[body]
        patch = np.repeat(np.arange(len(patches)), count)
        first = np.cumsum(count) - count
        face = hulls.face_start[body][patch] + np.arange(len(patch)) - first[patch]
        plane, at = hulls.planes[face], (patches.centre - position[body])[patch]
        same = np.einsum("pi,pi->p", plane[:, :3], sign * patches.normal[patch]) > _ALIGNED
        same &= np.abs(np.einsum("pi,pi->p", plane[:, :3], at) - plane[:, 3]) < _CLOSE
        patch = patch[same]
        apart = np.linalg.norm(position[other] - position[body], axis=1)
        found.append((face[same], patches.area[patch], body[patch], other[patch], apart[patch]))
    return tuple(np.concatenate(x) for x in zip(*found))
