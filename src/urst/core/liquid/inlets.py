"""Where liquid sets off: the inside of a body, or a layer before some of its faces, wherever it is at the moment."""

from collections.abc import Callable, Iterator
from typing import Protocol

import numpy as np
from scipy.spatial import cKDTree

from urst.core.bodies.boundary import Boundary
from urst.core.bodies.faces import Faces
from urst.core.bodies.placing import Placed

#: what lies no farther beside a point than this fraction of how far apart they lie is before its face
_BESIDE = 0.7


class Inlet(Protocol):
    """Where something sets off."""

    carrier: Boundary
    backed: bool
    """whether there is a wall behind it, so that all that comes in presses out what is there"""

    def within(self, places: np.ndarray, time: float) -> np.ndarray:
        """Return which places lie in it, (n,) bool.

        Parameters
        ----------
        places : (n, 3) float [m]
        time : float [s]
        """

    def outward(self, places: np.ndarray, time: float) -> np.ndarray:
        """Return which way leads out of the body, unit vectors (n, 3).

        Parameters
        ----------
        places : (n, 3) float [m]
        time : float [s]
        """

    def box(self, time: float) -> tuple[np.ndarray, np.ndarray]:
        """Return corners of the box about it, (3,) [m].

        Parameters
        ----------
        time : float [s]
        """

    def flux(self, leaving: Callable[[np.ndarray], np.ndarray], time: float) -> float | None:
        """Return how much leaves its faces [m3/s]; None if it has none.

        Parameters
        ----------
        leaving : callable
            How liquid leaves the body at places (n, 3) [m], (n, 3) [m/s].
        time : float [s]
        """


class Inside:
    """The inside of a body.

    Parameters
    ----------
    carrier : Boundary
    """

    backed = False

    def __init__(self, carrier: Boundary) -> None:
        self.carrier = carrier

    def within(self, places: np.ndarray, time: float) -> np.ndarray:
        """Return which places lie in it; see `Mouth.within`."""
        return self.carrier.distance(places, time) <= 0.0

    def outward(self, places: np.ndarray, time: float) -> np.ndarray:
        """Return which way leads out; see `Mouth.outward`."""
        hulls = self.carrier.at(time).hulls
        nearest, direction = np.full(len(places), np.inf), np.zeros((len(places), 3))
        for b in range(len(self.carrier)):
            planes = hulls.planes[hulls.face_start[b] : hulls.face_start[b + 1]]
            away = places @ planes[:, :3].T - planes[:, 3]
            face = away.argmax(axis=1)
            far = away[np.arange(len(places)), face]
            direction = np.where((far < nearest)[:, None], planes[face, :3], direction)
            nearest = np.minimum(far, nearest)
        return direction

    def box(self, time: float) -> tuple[np.ndarray, np.ndarray]:
        """Return corners of the box about it; see `Mouth.box`."""
        now = self.carrier.at(time)
        return now.low.min(axis=0), now.high.max(axis=0)

    def flux(self, leaving: Callable[[np.ndarray], np.ndarray], time: float) -> float | None:
        """Return how much leaves; see `Mouth.flux`."""
        return None


class Before:
    """A layer before faces of a body.

    Parameters
    ----------
    carrier : Boundary
    faces : Faces
        Of its bodies, known by points no farther apart than the layer is thick.
    depth : float
        How thick the layer is [m].
    """

    backed = True

    def __init__(self, carrier: Boundary, faces: Faces, depth: float) -> None:
        self.carrier, self.faces, self.depth = carrier, faces, depth
        owned = [(int(b), np.flatnonzero(faces.body == b)) for b in np.unique(faces.body)]
        self._trees = [(body, mine, cKDTree(faces.local[mine])) for body, mine in owned]

    def within(self, places: np.ndarray, time: float) -> np.ndarray:
        """Return which places lie in it; see `Mouth.within`."""
        found, f = np.zeros(len(places), bool), self.faces
        for _, near, arm in self._nearest(places, self.carrier.at(time)):
            height = np.einsum("ni,ni->n", arm, f.normal[near])
            beside = np.linalg.norm(arm - height[:, None] * f.normal[near], axis=1)
            found |= (height >= 0.0) & (height <= self.depth) & (beside <= _BESIDE * f.spacing[near])
        return found

    def outward(self, places: np.ndarray, time: float) -> np.ndarray:
        """Return which way leads out; see `Mouth.outward`."""
        now = self.carrier.at(time)
        nearest, direction = np.full(len(places), np.inf), np.zeros((len(places), 3))
        for body, near, arm in self._nearest(places, now):
            far = np.linalg.norm(arm, axis=1)
            direction = np.where((far < nearest)[:, None], self.faces.normal[near] @ now.rotation[body].T, direction)
            nearest = np.minimum(far, nearest)
        return direction

    def box(self, time: float) -> tuple[np.ndarray, np.ndarray]:
        """Return corners of the box about it; see `Mouth.box`."""
        now = self.carrier.at(time)
        there = self._points(now)
        return there.min(axis=0) - self.depth, there.max(axis=0) + self.depth

    def flux(self, leaving: Callable[[np.ndarray], np.ndarray], time: float) -> float | None:
        """Return how much leaves; see `Mouth.flux`."""
        f, now = self.faces, self.carrier.at(time)
        normal = np.einsum("nij,nj->ni", now.rotation[f.body], f.normal)
        through = np.einsum("ni,ni->n", leaving(self._points(now)), normal)
        return float(np.maximum(through, 0.0) @ f.area)

    def _points(self, now: Placed) -> np.ndarray:
        f = self.faces
        return now.position[f.body] + np.einsum("nij,nj->ni", now.rotation[f.body], f.local)

    def _nearest(self, places: np.ndarray, now: Placed) -> Iterator[tuple[int, np.ndarray, np.ndarray]]:
        """For each body: its number, the nearest of its points to each place, and the place from there in its frame."""
        for body, mine, tree in self._trees:
            local = (places - now.position[body]) @ now.rotation[body]
            near = mine[tree.query(local)[1]] if len(local) else np.zeros(0, int)
            yield body, near, local - self.faces.local[near]
