"""Contacts of rigid bodies: which pairs are near, where they touch, and how that is laid out for the sweeps."""

from typing import NamedTuple

import numpy as np

from urst.core.bodies.mobility import ABSENT, DRIVEN, LOOSE
from urst.core.bodies.placing import bounds, place
from urst.core.geometry.convex import Hulls
from urst.core.rigid import broad, manifolds, rest, state
from urst.core.rigid.detect import NEAR, Shapes
from urst.core.rigid.manifolds import Manifolds
from urst.core.rigid.rest import Marks
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


class Contacts:
    """All pairs of shapes that are near each other.

    Parameters
    ----------
    hulls : Hulls
        In the frames of their bodies, one a body.
    rounding : (n,) float
        By how much each is grown [m].
    friction, restitution : (n,) float
    """

    def __init__(self, hulls: Hulls, rounding, friction, restitution):
        n = hulls.size
        self.hulls, self.friction, self.restitution = hulls, friction, restitution
        self.shapes = Shapes(
            np.empty((3, len(hulls.vertices))), hulls.vertex_start, np.empty((4, len(hulls.planes))), hulls.face_start,
            hulls.loops, hulls.loop_start, hulls.edges, hulls.edge_start, np.zeros((n, 3)), np.asarray(rounding, float),
        )  # fmt: skip
        self.pairs = manifolds.none(0)
        self.marks = rest.no_marks(0)
        self.load = np.zeros(0)
        """(p,) mean force between the bodies of each pair over the last check [N]"""
        self.allowed = np.full(n, -1.0)
        """(n,) travel up to which the pairs hold"""
        self.placed = np.full(n, -1.0)
        """(n,) travel at which each shape was placed"""

    def stale(self) -> None:
        """Have the pairs sought anew at the next check."""
        self.allowed[:] = -1.0

    def moved(self) -> None:
        """Have all shapes placed anew: bodies were put somewhere."""
        self.placed[:] = -1.0
        self.pairs.state[:] = 0
        self.stale()

    def seek(self, bodies: Bodies, tied, dt: float, weight: float) -> None:
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
        margin = reach + manifolds.still(bodies.radius) + 1e-3
        low, high = bounds(self.hulls, bodies.position, bodies.rotation, margin + self.shapes.rounding)
        gone = bodies.kind == ABSENT
        low[gone], high[gone] = np.inf, -np.inf
        room = 16 * len(low) + 64
        while True:
            found = np.empty((room, 2), np.int64)
            count = broad.pairs(low, high, moves, bodies.kind == LOOSE, found)
            if count >= 0:
                break
            room *= 2
        found = found[:count]
        self._take(found[~tied(found)], bodies, moves, tied)

    def _take(self, found, bodies, moves, tied):
        """Go on with these pairs: what was known of them, and of sleepers that nobody looked at, is kept."""
        old, n = self.pairs, len(bodies.kind)
        resting = ~moves[old.body].any(axis=1) & (bodies.kind[old.body] != ABSENT).all(axis=1) & ~tied(old.shape)
        if resting.any():
            found = np.concatenate([found, old.shape[resting]])
        key = found[:, 0] * n + found[:, 1]
        key, first = np.unique(key, return_index=True)
        found = found[first]
        before = old.shape[:, 0] * n + old.shape[:, 1]
        at = np.searchsorted(before, key)
        at[at == len(before)] = 0
        known = before[at] == key if len(before) else np.zeros(len(key), bool)
        source, target = at[known], np.flatnonzero(known)
        self.pairs, marks = manifolds.none(len(found)), rest.no_marks(len(found))
        load = np.zeros(len(found))
        manifolds.take_over(source, target, self.pairs, old, marks, self.marks, load, self.load)
        self.pairs.shape[:], self.pairs.body[:] = found, found
        self.marks, self.load = marks, load
        self._surfaces()

    def _surfaces(self):
        i, j = self.pairs.body.T
        self.rub = np.sqrt(self.friction[i] * self.friction[j])
        self.bounce = np.maximum(self.restitution[i], self.restitution[j])

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

        def placed(some):
            place(self.hulls, some, bodies.position, bodies.rotation, bodies.travel, self.placed, self.shapes)
            return self.shapes

        manifolds.look(self.pairs, bodies, placed, dt, weight)

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

    def snapshot(self) -> dict[str, np.ndarray]:
        """Return what is known of all pairs."""
        known = {f"pair_{k}": v.copy() for k, v in self.pairs._asdict().items()}
        known |= {f"mark_{k}": v.copy() for k, v in self.marks._asdict().items()}
        return known | {"pair_load": self.load.copy(), "allowed": self.allowed.copy()}

    def restore(self, known: dict[str, np.ndarray]) -> None:
        """Take up what `snapshot` returned."""
        self.pairs = Manifolds(**{k: known[f"pair_{k}"].copy() for k in Manifolds._fields})
        self.marks = Marks(**{k: known[f"mark_{k}"].copy() for k in Marks._fields})
        self.load, self.allowed = known["pair_load"].copy(), known["allowed"].copy()
        self.placed[:] = -1.0
        self._surfaces()
