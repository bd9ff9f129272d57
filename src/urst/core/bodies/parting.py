"""Bodies whose bonds part: what sheds debris where they do."""

import numpy as np

from urst.core.bodies.boundary import Boundary, Outputs
from urst.core.bodies.patches import Patches


class Parting:
    """A boundary, the patches its bonds hold, and which of these have parted.

    Parameters
    ----------
    boundary : Boundary
    patches : Patches
        Of the same fragments.
    bonds : (b,) int64
        The patch under each bond.

    Attributes
    ----------
    parted : (b,) bool
    """

    def __init__(self, boundary: Boundary, patches: Patches, bonds: np.ndarray) -> None:
        self.boundary, self.patches, self.bonds = boundary, patches, bonds
        self.parted: np.ndarray = np.zeros(len(bonds), bool)

    def update(self, before: Outputs, after: Outputs, start: float, dt: float) -> None:
        """Move the bodies from one pose to another, and take up which bonds have parted.

        Parameters
        ----------
        before, after : dict
            See `Boundary.update`; and `parted` (b,) bool.
        start, dt : float [s]
        """
        self.boundary.update(before, after, start, dt)
        self.parted = after["parted"]
