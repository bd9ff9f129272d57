"""The shapes that bodies collide as: a convex one each, and triangles of lands, laid out as they are met."""

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np

from urst.core.bodies.mobility import ABSENT
from urst.core.bodies.placing import Poses, bounds, place
from urst.core.geometry import land as lands
from urst.core.geometry.convex import Hulls
from urst.core.geometry.land import Land
from urst.core.rigid import broad
from urst.core.rigid.separation import SOLID, Shapes
from urst.core.rigid.state import Bodies

#: a triangle as a prism: its faces, top, bottom and sides, as loops of corners, and its edges with the faces that meet
#: there
_LOOPS = np.array([0, 1, 2, 3, 5, 4, 1, 0, 3, 4, 2, 1, 4, 5, 0, 2, 5, 3])
_SIZES = np.array([3, 3, 4, 4, 4])
_EDGES = np.array(
    [
        [0, 1, 0, 2],
        [1, 2, 0, 3],
        [2, 0, 0, 4],
        [3, 4, 1, 2],
        [4, 5, 1, 3],
        [5, 3, 1, 4],
        [0, 3, 2, 4],
        [1, 4, 3, 2],
        [2, 5, 4, 3],
    ]
)


class Colliders:
    """Convex shapes of the bodies, and behind them the triangles of lands that something is near.

    Parameters
    ----------
    hulls : Hulls
        One of each of `k` bodies, in its frame.
    rounding : (k,) float
        By how much each is grown [m].
    surfaces : sequence of Land
        In the frames of the last bodies, one each, whose own hulls do not count.
    """

    def __init__(self, hulls: Hulls, rounding: np.ndarray, surfaces: Sequence[Land]) -> None:
        self._convex, self._rounding = hulls, np.asarray(rounding, float)
        self._lands, self.first_land = list(surfaces), hulls.size - len(surfaces)
        self._base = hulls.size + np.cumsum([0, *(x.size for x in self._lands)])
        self.number = np.zeros(0, np.int64)
        """(s,) of each shape, which it keeps: the convex ones come first, then the triangles of each land"""
        self._thick = np.full(int(self._base[-1]) - hulls.size, np.nan)
        self._take(np.zeros(0, np.int64))

    @property
    def total(self) -> int:
        """How many shapes there would be, were all triangles laid out."""
        return int(self._base[-1])

    def lay_out(self, numbers: np.ndarray) -> np.ndarray:
        """Lay out the triangles of lands that are among these, and return where each shape stands.

        Parameters
        ----------
        numbers : (p, 2) int64
            What each shape is known by.
        """
        k = self._convex.size
        self._take(np.unique(numbers[numbers >= k]))
        return np.where(numbers < k, numbers, k + np.searchsorted(self.number[k:], numbers))

    def _take(self, numbers: np.ndarray) -> None:
        """Have these triangles, sorted, behind the convex shapes."""
        k = self._convex.size
        if len(self.number) == k + len(numbers) and (self.number[k:] == numbers).all():
            return
        self.number = np.concatenate([np.arange(k), numbers])
        which = np.searchsorted(self._base, numbers, side="right") - 1
        parts = [
            _prisms(surface, some, self._depth(n, some))
            for n, surface in enumerate(self._lands)
            for some in [numbers[which == n] - self._base[n]]
        ]
        vertices = np.concatenate([self._convex.vertices, *(v for v, _, _ in parts)])
        planes = np.concatenate([self._convex.planes, *(p for _, p, _ in parts)])
        fold = np.concatenate([np.full((k, 3), SOLID), *(f for _, _, f in parts)])
        m, h = len(numbers), self._convex
        more = lambda start, size: np.concatenate([start, start[-1] + size * np.arange(1, m + 1)])  # noqa: E731
        loop_start = np.concatenate([h.loop_start, h.loop_start[-1] + np.cumsum(np.tile(_SIZES, m))]).astype(np.int64)
        self.hulls = Hulls(
            vertices,
            more(h.vertex_start, 6),
            planes,
            more(h.face_start, 5),
            np.concatenate([h.loops, np.tile(_LOOPS, m)]),
            loop_start,
            np.concatenate([h.edges, np.tile(_EDGES, (m, 1))]),
            more(h.edge_start, 9),
        )
        self.owner = np.concatenate([np.arange(k), self.first_land + which])
        """(s,) the body of each shape"""
        tops = vertices[len(h.vertices) :].reshape(-1, 6, 3)
        self._middle = np.concatenate([np.zeros((k, 3)), tops.mean(axis=1)])
        s = k + m
        self._placed = np.full(s, -1.0)
        self.shapes = Shapes(
            np.empty((3, len(vertices))),
            self.hulls.vertex_start,
            np.empty((4, len(planes))),
            self.hulls.face_start,
            self.hulls.loops.astype(np.int32),
            loop_start,
            self.hulls.edges.astype(np.int32),
            self.hulls.edge_start,
            np.zeros((s, 3)),
            np.concatenate([self._rounding, np.zeros(m)]),
            fold,
            np.array(
                [
                    np.diff(x).max(initial=1)
                    for x in (self.hulls.vertex_start, self.hulls.face_start, self.hulls.edge_start, loop_start)
                ]
            ),
        )

    def _depth(self, n: int, some: np.ndarray) -> np.ndarray:
        """How far triangles of a land reach back: half of what lies behind them, so that a thin shell keeps its sides
        apart."""
        surface, first = self._lands[n], self._base[n] - self._convex.size
        new = some[np.isnan(self._thick[first + some])]
        if len(new):
            found = np.empty(len(new))
            lands.thickness(surface, new, 2.0 * surface.depth, found)
            self._thick[first + new] = 0.5 * found
        return self._thick[first + some]

    def moved(self) -> None:
        """Have all shapes placed anew: bodies were put somewhere."""
        self._placed[:] = -1.0

    def placed(self, some: np.ndarray, bodies: Bodies) -> Shapes:
        """Bring some shapes to where their bodies are, and return all.

        Parameters
        ----------
        some : (m,) int64
        bodies : Bodies
        """
        place(
            self.hulls,
            some,
            self.owner,
            self._middle,
            Poses(bodies.position, bodies.rotation, bodies.travel),
            self._placed,
            self.shapes,
        )
        return self.shapes

    def pairs(self, bodies: Bodies, margin: np.ndarray, moves: np.ndarray, loose: np.ndarray) -> np.ndarray:
        """Return the numbers of shapes of different bodies whose bounds overlap, (p, 2) int64, sorted.

        Parameters
        ----------
        bodies : Bodies
        margin : (n,) float
            By how much the bounds of each body are widened [m].
        moves, loose : (n,) bool
            A pair needs one that moves now, and one that contacts may move.
        """
        k = self._convex.size
        low, high = bounds(self._convex, bodies.position, bodies.rotation, margin + self._rounding)
        gone = (bodies.kind == ABSENT) | (np.arange(k) >= self.first_land)
        low[gone], high[gone] = np.inf, -np.inf
        found = _grown(lambda out: broad.pairs(low, high, moves, loose, out), 16 * k + 64)
        parts = [found]
        for n, surface in enumerate(self._lands):
            b = self.first_land + n
            some = np.flatnonzero(loose & (moves | moves[b]) & ~gone)
            if bodies.kind[b] != ABSENT and len(some):
                beneath = _beneath(surface, bodies.position[b], bodies.rotation[b], low[some], high[some], margin[b])
                parts.append(np.column_stack([some[beneath[:, 0]], self._base[n] + beneath[:, 1]]))
        return np.concatenate(parts)


def _beneath(
    surface: Land, position: np.ndarray, turn: np.ndarray, low: np.ndarray, high: np.ndarray, margin: float
) -> np.ndarray:
    """Which triangles of a land that stands somewhere come near which boxes, (k, 2)."""
    at = (0.5 * (low + high) - position) @ turn
    wide = (0.5 * (high - low) + margin) @ np.abs(turn)
    return _grown(lambda out: lands.near(surface, at - wide, at + wide, out), 8 * len(low) + 64)


def _grown(fill: Callable[..., Any], room: int) -> np.ndarray:
    """Have `fill` write pairs into an array that is made larger until they fit."""
    while True:
        out = np.empty((room, 2), np.int64)
        count = fill(out)
        if 0 <= count <= room:
            return out[:count]
        room = max(2 * room, count)


def _prisms(surface: Land, some: np.ndarray, depth: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Corners (6 m, 3), planes (5 m, 4) and folds (m, 3) of triangles with what lies behind them."""
    top, normal = surface.corner[some], surface.normal[some]
    corner = np.concatenate([top, top - (depth[:, None] * normal)[:, None]], axis=1)
    away = np.cross(np.roll(top, -1, axis=1) - top, normal[:, None])
    away /= np.linalg.norm(away, axis=2, keepdims=True)
    face = np.concatenate([normal[:, None], -normal[:, None], away], axis=1)
    foot = np.concatenate([corner[:, [0]], corner[:, [3]], top], axis=1)
    offset = np.einsum("mfc,mfc->mf", face, foot)
    return corner.reshape(-1, 3), np.concatenate([face, offset[..., None]], axis=2).reshape(-1, 4), surface.fold[some]
