"""Rigid bodies as other solvers meet them: where they are, what moves as one, and what pushes them."""

from abc import ABC, abstractmethod

import numpy as np

from urst.core.bodies.mobility import LOOSE
from urst.core.bodies.nodes import Nodes
from urst.core.rigid import measure
from urst.core.rigid.bond_kernels import BondState
from urst.core.rigid.clusters import BLOW, Clusters
from urst.core.rigid.nodes import nodes_of
from urst.core.rigid.settings import RigidSettings
from urst.core.rigid.state import Bodies
from urst.core.rigid.steady_forces import SteadyForces


class Port(ABC):
    """The part of the rigid solver that exchanges act on; `coupling.ports.Bodies` says what these need."""

    settings: RigidSettings
    bodies: Bodies
    """with the surfaces behind"""
    motion: Bodies
    """the same without the surfaces"""
    bonds: BondState
    clusters: Clusters
    steady_forces: SteadyForces
    count: int
    """how many bodies there are beside the surfaces"""
    step_dt: float
    taken: np.ndarray
    """impulse from outside that bodies have taken (3,) [N s]"""
    held: np.ndarray
    """the same of bodies at rest that held against it (3,) [N s]"""

    @abstractmethod
    def weight(self) -> float:
        """Return how strong gravity is [m/s2]."""

    @abstractmethod
    def wake_up(self, wake: np.ndarray) -> None:
        """Wake bodies, (n,) bool.

        Parameters
        ----------
        wake : (n,) bool
        """

    def free(self) -> np.ndarray:
        """Return which bodies forces may move, (n,) bool."""
        return self.bodies.kind == LOOSE

    def inverse_mass(self) -> np.ndarray:
        """Return 1 / mass (n,) [1/kg], 0 for what does not move now."""
        return self.lightness()[: self.count]

    def lightness(self) -> np.ndarray:
        """Return the same of bodies and surfaces."""
        still = (self.clusters.rigid == 1) & self.clusters.held
        return np.where(self.free() & (self.bodies.awake == 1) & ~still, 1.0 / self.bodies.mass, 0.0)

    def inverse_inertia(self) -> np.ndarray:
        """Return the inverse inertia in world axes (n, 3, 3) [1/(kg m2)], 0 for what does not move now."""
        turn, inverse = self.bodies.rotation[: self.count], self.bodies.inverse_inertia[: self.count]
        turned = turn @ inverse @ np.transpose(turn, (0, 2, 1))
        return np.where((self.inverse_mass() > 0.0)[:, None, None], turned, 0.0)

    @property
    def impulse_taken(self) -> np.ndarray:
        """All impulse from outside so far, what bodies at rest held against included, (3,) [N s]."""
        return self.taken + self.held

    @property
    def drag_coefficient(self) -> float:
        """Of form drag."""
        return self.settings.drag

    def nodes(self) -> Nodes:
        """Return what moves as one now."""
        return nodes_of(self.bodies, self.clusters)

    def apply_impulse(self, impulse: np.ndarray, twist: np.ndarray) -> None:
        """Take impulses from outside, through the centres (n, 3) [N s] and about them (n, 3) [N m s].

        A body asleep is woken by what would move it faster than rest allows, and holds against the rest.

        Parameters
        ----------
        impulse : (n, 3) float [N s]
        twist : (n, 3) float [N m s]
        """
        bodies, some = self.bodies, slice(self.count)
        asleep = self.free()[some] & (bodies.awake[some] == 0)
        pushed = np.linalg.norm(impulse, axis=1)
        if asleep.any():
            woken = np.zeros(len(bodies.mass), bool)
            woken[some] = asleep & (pushed > measure.REST_SPEED * bodies.mass[some])
            if woken.any():
                self.wake_up(woken)
        # what bonds hold to something fixed gives and breaks by it all the same
        clusters = self.clusters
        stands = np.flatnonzero(((clusters.rigid == 1) & clusters.held & (bodies.awake == 1))[some])
        if len(stands):
            clusters.taken[stands] += np.concatenate([impulse, twist], axis=1)[stands]
            torn = np.zeros(len(bodies.mass), bool)
            torn[stands] = pushed[stands] > BLOW * clusters.capacity[stands] * self.step_dt
            if torn.any():
                clusters.loosen(torn, bodies)
        moved = self.inverse_mass()
        bodies.velocity[some] += moved[:, None] * impulse
        bodies.spin[some] += np.einsum("nij,nj->ni", self.inverse_inertia(), twist)
        self.taken += impulse[moved > 0.0].sum(axis=0)
        self.held += impulse[moved == 0.0].sum(axis=0)

    def apply_steady_force(self, force: np.ndarray, added_mass: np.ndarray) -> None:
        """Take forces that act until they are replaced; bodies asleep wake where they change.

        Parameters
        ----------
        force : (n, 6) float
            And torques about their centres [N], [N m].
        added_mass : (n,) float
            Mass of what moves along with each body and adds to its inertia in contacts [kg].
        """
        woken = self.steady_forces.take(force, added_mass, self.bodies, self.weight(), self.free())
        if woken.any():
            self.wake_up(woken)

    def outputs(self) -> dict[str, np.ndarray]:
        """Return position (n, 3) [m], orientation (n, 4) and which bonds have parted (b,) bool, as they are now."""
        motion = self.motion
        return {
            "position": motion.position.copy(),
            "orientation": motion.orientation.copy(),
            "parted": self.bonds.alive == 0,
        }
