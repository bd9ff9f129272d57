"""Bodies that the pressure of a gas or a liquid pushes, as these see them."""

from typing import Protocol

import numpy as np

from urst.core.bodies.nodes import Nodes


class PushedByGas(Protocol):
    """Bodies that pressure pushes, by their number on the grid."""

    def inverse_mass(self) -> np.ndarray:
        """Return 1 / mass of each body (n,) [1/kg], 0 where it does not move."""

    def inverse_inertia(self) -> np.ndarray:
        """Return the inverse inertia of each body in world axes (n, 3, 3) [1/(kg m2)], 0 where it does not move."""

    def take(self, impulse: np.ndarray, twist: np.ndarray) -> None:
        """Take impulses through the centres and about them.

        Parameters
        ----------
        impulse, twist : (n, 3) float [N s], [N m s]
        """


class PushedByLiquid(Protocol):
    """Bodies that act on a liquid and are acted on."""

    def nodes(self, dt: float) -> Nodes:
        """Return how they would move in the next `dt` seconds without the liquid.

        Parameters
        ----------
        dt : float [s]
        """

    def take(self, impulse: np.ndarray, dt: float) -> None:
        """Take what the liquid does to each body over the next `dt` seconds.

        Parameters
        ----------
        impulse : (n, 6) float
            About its centre [N s], [N m s].
        dt : float [s]
        """
