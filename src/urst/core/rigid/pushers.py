"""Driven pieces that push only so hard.

Such a piece is a body like others, to which each substep gives the impulse that brings it to the velocity of its path,
within its greatest force. What stops it, stops it: it goes on along its path from where it has come to, later.
"""

from collections.abc import Callable
from typing import NamedTuple

import numpy as np

from urst.core.bodies.mobility import DRIVEN
from urst.core.checkpoint import Checkpointed
from urst.core.jit import serial
from urst.core.rigid.compounds import invert
from urst.core.rigid.state import Bodies, steer

#: how much faster than along its path a piece may go that has been pushed off it [m/s], and turn [rad/s]
_BACK, _TURN_BACK = 1.0, 1.0


class Motors(NamedTuple):
    """What drives `k` nodes."""

    node: np.ndarray
    """(k,) int64"""
    target: np.ndarray
    """(k, 6) velocities and spins to come to [m/s], [rad/s]"""
    most: np.ndarray
    """(k, 2) greatest force and torque [N], [N m]"""


@serial
def push(motors, velocity, start, inertia, h):
    """Bring driven nodes to their velocities over a substep.

    Parameters
    ----------
    motors : Motors
    velocity : (m + 1, 6)
        Written [m/s], [rad/s].
    start : (m + 1, 6)
        What contacts are about to do, which is made up for.
    inertia : Inertia
        Of the nodes.
    h : float
        Substep [s].
    """
    back, moment, want = np.empty((3, 3)), np.empty((3, 3)), np.empty(3)
    for k in range(len(motors.node)):
        n, square = motors.node[k], 0.0
        v, target = velocity[n], motors.target[k]
        for c in range(3):
            want[c] = target[c] - v[c] - start[n, c]
            square += want[c] * want[c]
        size = np.sqrt(square) / inertia.inverse_mass[n]
        factor = min(1.0, h * motors.most[k, 0] / max(size, 1e-30))
        for c in range(3):
            v[c] += factor * want[c]
        q = 0
        for i in range(3):
            for j in range(i, 3):
                back[i, j] = back[j, i] = inertia.inverse[n, q]
                q += 1
        invert(back, moment)
        square = 0.0
        for c in range(3):
            want[c] = target[3 + c] - v[3 + c] - start[n, 3 + c]
        for c in range(3):
            square += (moment[c, 0] * want[0] + moment[c, 1] * want[1] + moment[c, 2] * want[2]) ** 2
        factor = min(1.0, h * motors.most[k, 1] / max(np.sqrt(square), 1e-30))
        for c in range(3):
            v[3 + c] += factor * want[c]


class Pushers(Checkpointed):
    """The driven pieces with a greatest force.

    Parameters
    ----------
    piece : (n,) int64
        Which piece each body is of.
    driven : (d,) int64
        The driven bodies, as paths number them.
    force : (n,) float
        Greatest force of the piece of each body; 0: whatever it takes [N].
    bodies : Bodies
        At the start.
    time : float
        At the start [s].
    """

    STATE = ("path_time", "under_way")

    def __init__(self, piece: np.ndarray, driven: np.ndarray, force: np.ndarray, bodies: Bodies, time: float) -> None:
        pieces = np.unique(piece[driven[force[driven] > 0.0]])
        self._rows = [np.flatnonzero(piece[driven] == p) for p in pieces]
        self.members = [driven[rows] for rows in self._rows]
        """bodies of each piece"""
        self.mine = np.isin(np.arange(len(piece)), np.concatenate([*self.members, np.zeros(0, np.int64)]))
        """(n,) bool, which bodies are of such a piece"""
        self.force = np.array([force[m[0]] for m in self.members])
        self.arm = np.array([_reach(m, bodies) for m in self.members])
        """(k,) how far each reaches from its middle [m]"""
        self.path_time = np.full(len(self.members), time)
        """(k,) how far each has come along its path, as a time of it [s]"""
        self.under_way = np.zeros(len(self.members), bool)
        """(k,) whether each has begun; it does so with the velocity of its path"""
        self._aimed = np.zeros((len(self.members), 6))

    def restart(self, came: np.ndarray, time: float) -> None:
        """Let those go on from a time of their path of which a body came.

        Parameters
        ----------
        came : (n,) bool
        time : float [s]
        """
        for k, members in enumerate(self.members):
            if came[members].any():
                self.path_time[k], self.under_way[k] = time, False

    def aim(
        self,
        drive: Callable[[float], tuple[np.ndarray, np.ndarray]] | None,
        carrier: np.ndarray,
        bodies: Bodies,
        dt: float,
    ) -> Motors:
        """Return what drives those that still are driven towards the next pose of their paths.

        Parameters
        ----------
        drive : callable
            Where driven bodies are at a time.
        carrier : (n,) int64
            The node that moves each body.
        bodies : Bodies
        dt : float [s]
        """
        some = [k for k, m in enumerate(self.members) if drive and (bodies.kind[m] == DRIVEN).all()]
        target = np.zeros((len(some), 6))
        self._aimed[:] = 0.0
        for row, k in enumerate(some):
            assert drive
            members, rows, mass = self.members[k], self._rows[k], bodies.mass[self.members[k]]
            now, then = drive(self.path_time[k]), drive(self.path_time[k] + dt)
            own = _twists(bodies.position[members], bodies.orientation[members], then, rows, dt)
            path = _twists(now[0][rows], now[1][rows], then, rows, dt)
            if not self.under_way[k]:
                bodies.velocity[members], bodies.spin[members] = own[:, :3], own[:, 3:]
                self.under_way[k] = True
            weights = mass / mass.sum()
            wanted, along = np.concatenate([weights @ own[:, :3], own[0, 3:]]), weights @ path[:, :3]
            for part, fastest in (
                (wanted[:3], np.linalg.norm(along) + _BACK),
                (wanted[3:], np.linalg.norm(path[0, 3:]) + _TURN_BACK),
            ):
                part *= min(1.0, float(fastest) / max(float(np.linalg.norm(part)), 1e-30))
            target[row] = self._aimed[k] = wanted
        node = carrier[[int(self.members[k][0]) for k in some]] if some else np.zeros(0, np.int64)
        most = np.column_stack([self.force[some], self.force[some] * self.arm[some]]) if some else np.zeros((0, 2))
        return Motors(node.astype(np.int64), target, most)

    def note(self, bodies: Bodies, time: float, dt: float) -> None:
        """Note how far along their paths they came in a check.

        Parameters
        ----------
        bodies : Bodies
            As they stand now.
        time : float
            At its end [s].
        dt : float
            Its length [s].
        """
        for k, members in enumerate(self.members):
            if (bodies.kind[members] != DRIVEN).any():
                continue
            aimed, mass = self._aimed[k] * [1, 1, 1, *[self.arm[k]] * 3], bodies.mass[members]
            spin = bodies.spin[members[0]] * self.arm[k]
            went = np.concatenate([mass @ bodies.velocity[members] / mass.sum(), spin])
            square = aimed @ aimed
            fraction = 1.0 if square == 0.0 else min(max(float(went @ aimed / square), 0.0), 1.0)
            # what rounding leaves of it is no delay
            fraction = 1.0 if fraction > 1.0 - 1e-6 else fraction
            self.path_time[k] = min(self.path_time[k] + fraction * dt, time)

    def late(self, bodies: Bodies, time: float) -> float:
        """Return by how much the one that has been held up most is late on its path [s].

        Parameters
        ----------
        bodies : Bodies
        time : float
            Now [s].
        """
        late = [time - t for t, members in zip(self.path_time, self.members) if (bodies.kind[members] == DRIVEN).all()]
        return float(max(late, default=0.0))


def _reach(members: np.ndarray, bodies: Bodies) -> float:
    mass, place = bodies.mass[members], bodies.position[members]
    middle = mass @ place / mass.sum()
    return float((np.linalg.norm(place - middle, axis=1) + bodies.radius[members]).max())


def _twists(
    position: np.ndarray, orientation: np.ndarray, then: tuple[np.ndarray, np.ndarray], rows: np.ndarray, dt: float
) -> np.ndarray:
    """Velocities and spins that take bodies to the poses of some rows, (k, 6)."""
    count = len(rows)
    velocity, spin = np.empty((count, 3)), np.empty((count, 3))
    steer(position, orientation, np.arange(count), (velocity, spin), then[0][rows], then[1][rows], dt)
    return np.concatenate([velocity, spin], axis=1)
