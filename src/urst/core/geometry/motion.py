"""Bodies between two frames."""

import numpy as np

from urst.core.geometry import rotation


class Motion:
    """Bodies that move and turn steadily from one frame to the next, the shorter way round.

    before, after : frames with position (n, 3) [m] and orientation (n, 4), scalar first; `dt` [s] apart.
    """

    def __init__(self, before: dict[str, np.ndarray], after: dict[str, np.ndarray], dt: float):
        self._position = before["position"].astype(float)
        self._turned = rotation.Rotation.from_matrix(rotation.matrix(before["orientation"].astype(float)))
        end = rotation.Rotation.from_matrix(rotation.matrix(after["orientation"].astype(float)))
        self._dt = dt
        self.velocity = (after["position"].astype(float) - self._position) / dt
        """(n, 3) [m/s]"""
        self.spin = (end * self._turned.inv()).as_rotvec() / dt
        """(n, 3) [rad/s]"""

    def pose(self, share: float) -> tuple[np.ndarray, np.ndarray]:
        """Return positions (n, 3) [m] and rotation matrices (n, 3, 3) after a share of the time, 0 to 1."""
        turned = rotation.Rotation.from_rotvec(share * self._dt * self.spin) * self._turned
        return self._position + share * self._dt * self.velocity, np.ascontiguousarray(turned.as_matrix())
