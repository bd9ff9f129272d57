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
    """

    def __init__(self, before: dict[str, np.ndarray], after: dict[str, np.ndarray], dt: float):
        self._position, self._after = before["position"].astype(float), after
        self._turned = rotation.turns(before["orientation"])
        self._dt = dt
        self.velocity = (after["position"].astype(float) - self._position) / dt
        """(n, 3) [m/s]"""
        self.spin = (rotation.turns(after["orientation"]) * self._turned.inv()).as_rotvec() / dt
        """(n, 3) [rad/s]"""

    def pose(self, share: float) -> tuple[np.ndarray, np.ndarray]:
        """Return positions (n, 3) [m] and rotation matrices (n, 3, 3) after a share of the time, 0 to 1."""
        if share >= 1.0:
            turned = rotation.turns(self._after["orientation"])
            return self._after["position"].astype(float), np.ascontiguousarray(turned.as_matrix())
        turned = Rotation.from_rotvec(share * self._dt * self.spin) * self._turned
        return self._position + share * self._dt * self.velocity, np.ascontiguousarray(turned.as_matrix())
