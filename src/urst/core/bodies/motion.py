"""Bodies between two poses."""

import numpy as np
from scipy.spatial.transform import Rotation

from urst.core.geometry import rotation


class Motion:
    """Bodies that move and turn steadily from one pose to the next, the shorter way round.

    Parameters
    ----------
    before, after : dict
        Poses with `position` (n, 3) [m] and `orientation` (n, 4), scalar first.
    dt : float
        Time between them [s].
    arm : (n, 3) float, optional
        From each body's centre, in its own coordinates, to the place that moves straight [m], so that the parts of a
        whole do not come apart as it turns; the centre if left out.
    """

    def __init__(
        self, before: dict[str, np.ndarray], after: dict[str, np.ndarray], dt: float, arm: np.ndarray | None = None
    ) -> None:
        self._after, self._dt = after, dt
        self._arm = np.zeros(before["position"].shape) if arm is None else arm
        self._turned = rotation.turns(before["orientation"])
        turned = rotation.turns(after["orientation"])
        self._pivot = before["position"].astype(float) + self._turned.apply(self._arm)
        self.speed = (after["position"].astype(float) + turned.apply(self._arm) - self._pivot) / dt
        """(n, 3) of the places that move straight [m/s]"""
        self.spin = (turned * self._turned.inv()).as_rotvec() / dt
        """(n, 3) [rad/s]"""

    def pose(self, fraction: float) -> tuple[np.ndarray, np.ndarray]:
        """Return positions (n, 3) [m] and rotation matrices (n, 3, 3) after a fraction of the time, 0 to 1."""
        if fraction >= 1.0:
            turned = rotation.turns(self._after["orientation"])
            return self._after["position"].astype(float), np.ascontiguousarray(turned.as_matrix())
        turned = Rotation.from_rotvec(fraction * self._dt * self.spin) * self._turned
        pivot = self._pivot + fraction * self._dt * self.speed
        return pivot - turned.apply(self._arm), np.ascontiguousarray(turned.as_matrix())

    def velocity(self, rotation: np.ndarray) -> np.ndarray:
        """Return how the centres go (n, 3) [m/s] while the bodies stand as rotation matrices (n, 3, 3) say."""
        return self.speed - np.cross(self.spin, np.einsum("nij,nj->ni", rotation, self._arm))
