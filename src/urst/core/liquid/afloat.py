"""Bodies that liquid may push, as the liquid sees them."""

from typing import NamedTuple, Protocol

import numpy as np

from urst.core.liquid.body_kernels import NO_NODE


class Nodes(NamedTuple):
    """What moves as one: `k` nodes that `n` bodies are parts of."""

    node: np.ndarray
    """(n,) int64: of each body on the liquid's grid, NO_NODE for those that nobody speaks for"""
    loose: np.ndarray
    """(n,) bool: whether a body may part from what it touches, so that liquid comes between"""
    centre: np.ndarray
    """(k, 3) [m]"""
    inverse_mass: np.ndarray
    """(k,) [1/kg], 0 for what does not give way"""
    inverse_inertia: np.ndarray
    """(k, 3, 3) in world axes [1/(kg m2)]"""
    velocity: np.ndarray
    """(k, 6) how they would go without the liquid, and turn [m/s], [rad/s]"""

    def of_bodies(self, velocity: np.ndarray, position: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Return velocities and spins (m, 3) of the bodies that have a node, by those of the nodes (k, 6).

        Parameters
        ----------
        velocity : (k, 6) float
        position : (n, 3) float
            Of all bodies [m].
        """
        mine = self.node != NO_NODE
        own = velocity[self.node[mine]]
        arm = position[mine] - self.centre[self.node[mine]]
        return own[:, :3] + np.cross(own[:, 3:], arm), own[:, 3:]

    def gathered(self, impulse: np.ndarray, position: np.ndarray) -> np.ndarray:
        """Return what impulses (n, 6) about bodies' centres do to each node about its own, (k, 6).

        Parameters
        ----------
        impulse : (n, 6) float [N s], [N m s]
        position : (n, 3) float [m]
        """
        mine = self.node != NO_NODE
        number, own = self.node[mine], impulse[mine].copy()
        own[:, 3:] += np.cross(position[mine] - self.centre[number], own[:, :3])
        return np.column_stack([np.bincount(number, column, minlength=len(self.centre)) for column in own.T])

    def moved(self, impulse: np.ndarray) -> np.ndarray:
        """Return how impulses (k, 6) change the nodes' velocities, (k, 6)."""
        turned = np.einsum("nij,nj->ni", self.inverse_inertia, impulse[:, 3:])
        return np.concatenate([self.inverse_mass[:, None] * impulse[:, :3], turned], axis=1)


class Afloat(Protocol):
    """Bodies that act on a liquid and are acted on."""

    def nodes(self, dt: float) -> Nodes:
        """Return how they would go in the next `dt` seconds without the liquid."""

    def take(self, impulse: np.ndarray, dt: float) -> None:
        """Take what the liquid does to each body over the next `dt` seconds, (n, 6) about its centre [N s], [N m s].

        Parameters
        ----------
        impulse : (n, 6) float
        dt : float [s]
        """
