"""Contacts of rigid bodies: which pairs are near, where they touch, and how that is laid out for the sweeps."""

from collections.abc import Callable
from typing import Any, NamedTuple

import numpy as np

from urst.core.bodies.mobility import ABSENT, DRIVEN, LOOSE
from urst.core.checkpoint import Checkpointed
from urst.core.rigid import manifolds, rest, state
from urst.core.rigid.colliders import Colliders
from urst.core.rigid.detect import NEAR
from urst.core.rigid.state import Bodies

#: what is less far apart touches [m]
_TOUCH = 2e-4
#: pairs are sought for so long ahead [s]
_AHEAD = 1.0 / 96.0
#: and so far apart, at least [m]
_ROOM = 0.01


class Touching(NamedTuple):
    """`t` points at which bodies touch."""

    body: np.ndarray  # (t, 2) int64
    point: np.ndarray  # (t, 3) [m]
    normal: np.ndarray  # (t, 3) from the first to the second
    force: np.ndarray  # (t, 3) on the second [N]


class Contacts(Checkpointed):
    """All pairs of shapes that are near each other.

    Parameters
    ----------
    colliders : Colliders
    friction, restitution : (n,) float
    """

    STATE = ("shapes", "pairs", "marks", "load", "allowed")

    def __init__(self, colliders: Colliders, friction: np.ndarray, restitution: np.ndarray) -> None:
        n = len(friction)
        self.colliders, self.friction, self.restitution = colliders, friction, restitution
        self.pairs = manifolds.none(0)
        self.marks = rest.no_marks(0)
        self.load = np.zeros(0)
        """(p,) mean force between the bodies of each pair over the last check [N]"""
        self.allowed = np.full(n, -1.0)
        """(n,) travel up to which the pairs hold"""

    def stale(self) -> None:
        """Have the pairs sought anew at the next check."""
        self.allowed[:] = -1.0

    def moved(self) -> None:
        """Have all shapes placed anew: bodies were put somewhere."""
        self.colliders.moved()
        self.pairs.state[:] = 0
        self.stale()

    def seek(self, bodies: Bodies, tied: Callable[..., Any], dt: float, weight: float) -> None:
        """Seek pairs, if any body may have left the reach within which they are known.

        Parameters
        ----------
        bodies : Bodies
        tied : callable
            Takes pairs (p, 2), returns which may not touch.
        dt : float
            Length of a check [s].
        weight : float
            Gravity [m/s2].
        """
        if not state.strays(bodies, self.allowed, dt, weight):
            return
        loose = (bodies.kind == LOOSE) & (bodies.awake == 1)
        moves = loose | (bodies.kind == DRIVEN)
        speed = np.linalg.norm(bodies.velocity, axis=1) + bodies.swing
        reach = np.where(moves, _AHEAD * (speed + np.where(loose, _AHEAD * weight, 0.0)), 0.0)
        reach += np.where(moves, np.minimum(_ROOM, 0.05 * bodies.radius), 0.0)
        # sleepers have not moved, so their pairs hold as far as they did
        self.allowed = np.where(moves, bodies.travel + reach, self.allowed)
        # of two bodies the smaller tells after what motion they are looked at again: a land is never that
        size = np.where(np.arange(len(reach)) < self.colliders.first_land, bodies.radius, 0.0)
        margin = reach + manifolds.still(size) + 1e-3
        found = self.colliders.pairs(bodies, margin, moves, bodies.kind == LOOSE)
        self._take(found, bodies, moves, tied)

    def _take(self, found: np.ndarray, bodies: Bodies, moves: np.ndarray, tied: Callable[..., Any]) -> None:
        """Go on with these pairs of numbered shapes: what was known of them, and of sleepers that nobody looked at, is
        kept."""
        old, all_there, total = self.pairs, self.colliders.number, self.colliders.total
        resting = ~moves[old.body].any(axis=1) & (bodies.kind[old.body] != ABSENT).all(axis=1)
        before = all_there[old.shape[:, 0]] * total + all_there[old.shape[:, 1]]
        key = np.concatenate([found[:, 0] * total + found[:, 1], before[resting]])
        # both parts are nearly sorted, which a stable sort makes use of
        key.sort(kind="stable")
        key = key[np.diff(key, prepend=-1) > 0]
        shape = self.colliders.lay_out(np.column_stack([key // total, key % total]))
        body = self.colliders.owner[shape]
        kept = ~tied(body)
        key, shape, body = key[kept], shape[kept], body[kept]
        at = np.searchsorted(before, key)
        at[at == len(before)] = 0
        known = before[at] == key if len(before) else np.zeros(len(key), bool)
        source, target = at[known], np.flatnonzero(known)
        self.pairs, marks = manifolds.none(len(key)), rest.no_marks(len(key))
        load = np.zeros(len(key))
        manifolds.take_over(source, target, self.pairs, old, marks, self.marks, load, self.load)
        self.pairs.shape[:], self.pairs.body[:] = shape, body
        self.marks, self.load = marks, load
        self._surfaces()

    def _surfaces(self) -> None:
        i, j = self.pairs.body.T
        self.pair_friction = np.sqrt(self.friction[i] * self.friction[j])
        self.pair_restitution = np.maximum(self.restitution[i], self.restitution[j])

    def look(self, bodies: Bodies, dt: float, weight: float) -> None:
        """Bring those pairs up to date of which a body moves.

        Parameters
        ----------
        bodies : Bodies
        dt : float
            Until when contacts must be foreseen [s].
        weight : float
            Gravity [m/s2].
        """
        manifolds.look(self.pairs, bodies, lambda some: self.colliders.placed(some, bodies), dt, weight)

    def touching(self) -> np.ndarray:
        """Return which pairs touch, or nearly, (p,) bool."""
        return (self.pairs.state == NEAR) & (self.pairs.size > 0) & (self.pairs.gap < 1e-3)

    def points(self, bodies: Bodies, h: float) -> Touching:
        """Return the points at which bodies touch, and what passes there over a substep of `h` [s].

        Parameters
        ----------
        bodies : Bodies
        h : float [s]
        """
        m = self.pairs
        pair, slot = np.nonzero(self.touching()[:, None] & (np.arange(m.point.shape[1]) < m.size[:, None]))
        body = m.body[pair]
        ends = bodies.position[body] + np.einsum("tsij,tsj->tsi", bodies.rotation[body], m.point[pair, slot])
        turn = bodies.rotation[body[:, 0]]
        normal = np.einsum("tij,tj->ti", turn, m.axis[pair])
        tangent = np.einsum("tij,tj->ti", turn, m.tangent[pair])
        near = np.einsum("ti,ti->t", ends[:, 1] - ends[:, 0], normal) < _TOUCH
        axes = np.stack([normal, tangent, np.cross(normal, tangent)], axis=1)
        force = np.einsum("tci,tc->ti", axes, m.impulse[pair, slot]) / h
        return Touching(body[near], ends.mean(axis=1)[near], normal[near], force[near])

    @property
    def shapes(self) -> np.ndarray:
        """The shapes of each pair by numbers that last, while `pairs.shape` has them as they are laid out now."""
        return self.colliders.number[self.pairs.shape]

    @shapes.setter
    def shapes(self, value: np.ndarray) -> None:
        # the pairs are taken up after this
        self._shapes = value

    def _restored(self) -> None:
        self.pairs.shape[:] = self.colliders.lay_out(self._shapes)
        self.colliders.moved()
        self._surfaces()
