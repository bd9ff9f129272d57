"""Steady forces from outside that bodies carry over checks: what a liquid does to them."""

from typing import Any

import numpy as np

from urst.core.bodies.mobility import LOOSE
from urst.core.checkpoint import Checkpointed
from urst.core.rigid.nodes import nodes_of
from urst.core.rigid.state import Bodies

#: a body asleep wakes where the force on it changes by this fraction of its weight
STIR = 0.05


class SteadyForces(Checkpointed):
    """What each of `n` bodies carries, beside gravity."""

    STATE = ("force", "alongside", "used")

    def __init__(self, n: int) -> None:
        self.force = np.zeros((n, 6))
        """and torque about the centre [N], [N m]"""
        self.alongside = np.zeros(n)
        """mass that goes along with a body [kg]"""
        self.used = np.zeros((n, 3))
        """what each bore when it fell asleep [N]"""

    def take(
        self, force: np.ndarray, alongside: np.ndarray, bodies: Bodies, weight: float, free: np.ndarray
    ) -> np.ndarray:
        """Take up other forces; return which sleepers these wake, (n,) bool.

        Parameters
        ----------
        force : (m, 6) float
            On the first bodies, [N] and [N m].
        alongside : (m,) float [kg]
        bodies : Bodies
        weight : float
            How strong gravity is [m/s2].
        free : (n,) bool
            Which may be moved.
        """
        m = len(force)
        self.force[:m], self.alongside[:m] = force, alongside
        awake = bodies.awake == 1
        self.used[awake] = self.force[awake, :3]
        change = np.linalg.norm(self.force[:, :3] - self.used, axis=1)
        return free & ~awake & (change > STIR * max(weight, 1.0) * bodies.mass)

    def on_nodes(self, solver: Any, count: int) -> tuple[np.ndarray, np.ndarray]:
        """Return accelerations of nodes by these and by gravity (count, 6), and how much heavier they are to what
        meets them (count,).

        Parameters
        ----------
        solver : RigidSolver
        count : int
        """
        pull, ballast = np.zeros((count, 6)), np.ones(count)
        pull[:, :3] = solver.gravity
        pressed = np.flatnonzero(self.force.any(axis=1) & (solver.bodies.kind == LOOSE))
        if not len(pressed):
            return pull, ballast
        found = nodes_of(solver.bodies, solver.clusters)
        node, own = found.node[pressed], self.force[pressed].copy()
        own[:, 3:] += np.cross(solver.bodies.position[pressed] - found.centre[node], own[:, :3])
        total, along = np.zeros((count, 6)), np.zeros(count)
        np.add.at(total, node, own)
        np.add.at(along, node, self.alongside[pressed])
        pull[:, :3] += found.inverse_mass[:, None] * total[:, :3]
        pull[:, 3:] = np.einsum("nij,nj->ni", found.inverse_inertia, total[:, 3:])
        return pull, 1.0 + along * found.inverse_mass

    def press(self, rigid: np.ndarray, dt: float, pushed: np.ndarray, force: np.ndarray) -> None:
        """Add what members of rigid clusters carry to what contacts do to them.

        Parameters
        ----------
        rigid : (n,) bool
        dt : float [s]
        pushed : (n, 6) float
            Impulses, added to [N s], [N m s].
        force : (n, 3) float
            Forces, added to [N].
        """
        pushed[rigid] += dt * self.force[rigid]
        force[rigid] += self.force[rigid, :3]
