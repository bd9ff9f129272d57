"""Bodies grouped by what moves as one, for solvers that solve the bodies' motion together with their own."""

from typing import NamedTuple

import numpy as np

#: node of a body that no exchange speaks for
NO_NODE = -1


class Nodes(NamedTuple):
    """`k` nodes, single bodies or rigid clusters of them, that `n` bodies are parts of."""

    node: np.ndarray
    """(n,) int64, the node of each body; NO_NODE for those that no exchange speaks for"""
    loose: np.ndarray
    """(n,) bool, whether a body may part from what it touches, so that liquid comes between"""
    centre: np.ndarray
    """(k, 3) centre of mass [m]"""
    inverse_mass: np.ndarray
    """(k,) [1/kg], 0 for what does not move now"""
    inverse_inertia: np.ndarray
    """(k, 3, 3) in world axes [1/(kg m2)]"""
    velocity: np.ndarray
    """(k, 6) velocity and spin [m/s], [rad/s]"""

    def of_bodies(self, velocity: np.ndarray, position: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Return velocities and spins (m, 3) of the bodies that have a node, from those of the nodes.

        Parameters
        ----------
        velocity : (k, 6) float [m/s], [rad/s]
        position : (n, 3) float
            Of all bodies [m].
        """
        mine = self.node != NO_NODE
        own = velocity[self.node[mine]]
        arm = position[mine] - self.centre[self.node[mine]]
        return own[:, :3] + np.cross(own[:, 3:], arm), own[:, 3:]

    def gathered(self, impulse: np.ndarray, position: np.ndarray) -> np.ndarray:
        """Return the impulse on each node about its centre, (k, 6) [N s], [N m s].

        Parameters
        ----------
        impulse : (n, 6) float
            On each body about its own centre [N s], [N m s].
        position : (n, 3) float [m]
        """
        mine = self.node != NO_NODE
        number, own = self.node[mine], impulse[mine].copy()
        own[:, 3:] += np.cross(position[mine] - self.centre[number], own[:, :3])
        return np.column_stack([np.bincount(number, column, minlength=len(self.centre)) for column in own.T])

    def moved(self, impulse: np.ndarray) -> np.ndarray:
        """Return the change of velocity of each node, (k, 6) [m/s], [rad/s].

        Parameters
        ----------
        impulse : (k, 6) float [N s], [N m s]
        """
        turned = np.einsum("nij,nj->ni", self.inverse_inertia, impulse[:, 3:])
        return np.concatenate([self.inverse_mass[:, None] * impulse[:, :3], turned], axis=1)
