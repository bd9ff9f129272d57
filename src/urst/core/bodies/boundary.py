"""Bodies as others meet them: convex stand-ins that move steadily over a span of time.

A layer that reads baked bodies and one that is stepped beside live ones see the same thing: whoever feeds the boundary
sets its span, from two frames on disk or from two states of a solver.
"""

import numpy as np

from urst.core.bodies.fragments import Fragments
from urst.core.bodies.motion import Motion
from urst.core.bodies.placing import Placed, placed

Outputs = dict[str, np.ndarray]


class Boundary:
    """The bodies of one set of fragments, moving from one pose to the next over a span of time.

    Attributes
    ----------
    fragments : Fragments
    present : (n,) bool
        Which bodies are there; whoever feeds the boundary may change it.
    index : int
        Where its first body stands in a list of all bodies that somebody meets; set by who joins several.
    """

    def __init__(self, fragments: Fragments) -> None:
        self.fragments, self._arm = fragments, fragments.arms()
        n = len(fragments)
        self.present = np.ones(n, bool)
        still = {"position": fragments.centre, "orientation": np.tile([1.0, 0.0, 0.0, 0.0], (n, 1))}
        self.update(still, still, 0.0, 1.0)

    def __len__(self) -> int:
        return len(self.fragments)

    def update(self, before: Outputs, after: Outputs, start: float, dt: float) -> None:
        """Move from one pose to another.

        Parameters
        ----------
        before, after : dict
            `position` (n, 3) [m] and `orientation` (n, 4), scalar first.
        start, dt : float
            When the first holds and how long after the second does [s].
        """
        self.motion, self._start, self._dt = Motion(before, after, dt, self._arm), start, dt

    def fraction(self, time: float) -> float:
        """Return how far into the span a time lies, 0 to 1."""
        return min(1.0, max(0.0, (time - self._start) / self._dt))

    def distance(self, places: np.ndarray, time: float) -> np.ndarray:
        """Return signed distances of places from the nearest body, negative within one (m,) [m]; beyond edges a little
        less.

        Parameters
        ----------
        places : (m, 3) float [m]
        time : float [s]
        """
        out, hulls = np.full(len(places), np.inf), self.at(time).hulls
        for b in range(len(self)):
            planes = hulls.planes[hulls.face_start[b] : hulls.face_start[b + 1]]
            out = np.minimum(out, (places @ planes[:, :3].T - planes[:, 3]).max(axis=1))
        return out

    def at(self, time: float, margin: float = 0.0) -> Placed:
        """Return the bodies where they are at a time [s], their bounds widened by `margin` [m].

        Bodies that are not present have empty bounds, so nothing meets them.

        Parameters
        ----------
        time : float [s]
        margin : float [m]
        """
        position, rotation = self.motion.pose(self.fraction(time))
        found = placed(
            self.fragments.hulls, position, rotation, self.motion.velocity(rotation), self.motion.spin, margin
        )
        found.low[~self.present], found.high[~self.present] = np.inf, -np.inf
        return found
