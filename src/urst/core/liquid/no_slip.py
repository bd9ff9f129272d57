"""Faces at which a thick liquid clings to bodies that give way: it drags them along, and they it."""

from dataclasses import dataclass

import numpy as np
from scipy import ndimage

from urst.core.bodies.nodes import NO_NODE, Nodes
from urst.core.liquid.viscous_kernels import FREE, WALL
from urst.core.solids.walls import Walls

#: stress that a face feels by its own motion, in steps of viscosity: for a first guess of what a body does
_OWN = 4.0


@dataclass
class NoSlipFaces:
    """`m` faces of bodies beside a liquid, and the `k` nodes that these move with."""

    spots: list[tuple[np.ndarray, ...]]
    """where the faces across each axis lie"""
    body: np.ndarray
    """(m,) int64"""
    node: np.ndarray
    """(m,) int64"""
    jacobian: np.ndarray
    """(m, 6) what of the node's velocity and spin goes across the face"""
    place: np.ndarray
    """(m, 3) the faces' middles [m]"""
    carried: np.ndarray
    """(m,) liquid about the faces that goes with them from now on, in full cells"""
    before: np.ndarray
    """(m,) how it went across them [m/s]"""
    mass: np.ndarray
    """(k, 6, 6) of the nodes with what they carry, in full cells; 1 for what does not give way"""
    velocity: np.ndarray
    """(k, 6) how they go with that, but without what rubs on them [m/s], [rad/s]"""

    def across(self, velocity: np.ndarray) -> np.ndarray:
        """Return how the faces go where the nodes go as they are said to, (m,) [m/s].

        Parameters
        ----------
        velocity : (k, 6) float
        """
        return np.einsum("mi,mi->m", self.jacobian, velocity[self.node])

    def expand(self, velocity: np.ndarray, faces: list[np.ndarray]) -> None:
        """Write how the faces go where the nodes go as they are said to.

        Parameters
        ----------
        velocity : (k, 6) float
        faces : three arrays of faces, float32
            Changed.
        """
        across, first = self.across(velocity), 0
        for u, spot in zip(faces, self.spots):
            u[spot] = across[first : first + len(spot[0])]
            first += len(spot[0])

    def chained(self, faces: list[np.ndarray]) -> np.ndarray:
        """Return what stands at the faces, (m,).

        Parameters
        ----------
        faces : three arrays of faces
        """
        return np.concatenate([u[spot] for u, spot in zip(faces, self.spots)]).astype(float)

    def forces(self, stress: list[np.ndarray]) -> np.ndarray:
        """Return what liquid does to the faces, by stress and by what of it they carry, (m,) in velocities of a full
        cell.

        Parameters
        ----------
        stress : three arrays of faces
        """
        return self.chained(stress) + self.carried * (self.before - self.across(self.velocity))

    def gathered(self, force: np.ndarray) -> np.ndarray:
        """Return what forces across the faces do to the nodes, (k, 6).

        Parameters
        ----------
        force : (m,) float
        """
        pushed = force[:, None] * self.jacobian
        return np.column_stack([np.bincount(self.node, column, minlength=len(self.mass)) for column in pushed.T])

    def impulses(self, force: np.ndarray, position: np.ndarray) -> np.ndarray:
        """Return what forces across the faces do to each body, (n, 6) about its centre.

        Parameters
        ----------
        force : (m,) float
        position : (n, 3) float
            The bodies' centres [m].
        """
        pushed = force[:, None] * self.jacobian
        pushed[:, 3:] = np.cross(self.place - position[self.body], pushed[:, :3])
        return np.column_stack([np.bincount(self.body, column, minlength=len(position)) for column in pushed.T])

    def guess(self, strength: float) -> np.ndarray:
        """Return about the inverse of what nodes feel by their own motion, (k, 6, 6).

        Parameters
        ----------
        strength : float
            Steps of viscosity: kinematic viscosity times the step over the square of a cell.
        """
        own = self.mass.copy()
        np.add.at(own, self.node, _OWN * strength * self.jacobian[:, :, None] * self.jacobian[:, None, :])
        return np.linalg.inv(own)


def no_slip(
    kind: list[np.ndarray],
    fraction: list[np.ndarray],
    flow: list[np.ndarray],
    walls: Walls,
    nodes: Nodes,
    inverse: np.ndarray,
    velocity: np.ndarray,
    full: float,
) -> NoSlipFaces | None:
    """Return the faces at which liquid clings to bodies that give way, None if there are none.

    Parameters
    ----------
    kind : three arrays of faces, uint8
    fraction : three arrays of faces, float32
        How much of the cube about each is liquid.
    flow : three arrays of faces, float32
        How that goes [m/s].
    walls : Walls
    nodes : Nodes
    inverse : (k, 6, 6) float
        Inverse masses of the nodes.
    velocity : (k, 6) float
        How these go without the liquid.
    full : float
        Mass of a full cell [kg].
    """
    w, parts = walls, []
    for axis in range(3):
        # what is strained beside a free face may lie two faces on
        near = ndimage.binary_dilation(kind[axis] == FREE, np.ones((5, 5, 5), bool))
        cells = np.argwhere((kind[axis] == WALL) & near)
        low = np.zeros(3, int)
        low[axis] = 1
        corner = np.array([[s & 1, (s >> 1) & 1, s >> 2] for s in range(8)]) - low
        at = np.clip(2 * cells[:, None] + corner, 0, np.array(w.distance.shape) - 1)
        spot = tuple(np.moveaxis(at, -1, 0))
        nearest = np.take_along_axis(w.owner[spot], w.distance[spot].argmin(axis=1)[:, None], 1)[:, 0]
        mine = nearest >= 0
        mine[mine] = nodes.node[nearest[mine]] != NO_NODE
        mine[mine] = nodes.inverse_mass[nodes.node[nearest[mine]]] > 0.0
        parts.append((cells[mine], nearest[mine].astype(np.int64)))
    body = np.concatenate([b for _, b in parts])
    if not len(body):
        return None
    across = np.repeat(np.arange(3), [len(b) for _, b in parts])
    place = w.origin + w.cell * (np.concatenate([c for c, _ in parts]) + 0.5)
    rows = np.arange(len(body))
    place[rows, across] -= 0.5 * w.cell
    jacobian = np.zeros((len(body), 6))
    jacobian[rows, across] = 1.0
    node = nodes.node[body]
    jacobian[:, 3:] = np.cross(place - nodes.centre[node], jacobian[:, :3])
    mass = np.tile(np.eye(6), (len(inverse), 1, 1))
    gives = np.unique(node)
    mass[gives] = np.linalg.inv(inverse[gives]) / full
    spots = [tuple(c.T) for c, _ in parts]
    carried, before = (np.concatenate([u[s] for u, s in zip(x, spots)]).astype(float) for x in (fraction, flow))
    momentum = np.einsum("kij,kj->ki", mass, velocity)
    np.add.at(momentum, node, (carried * before)[:, None] * jacobian)
    np.add.at(mass, node, carried[:, None, None] * jacobian[:, :, None] * jacobian[:, None, :])
    joined = np.linalg.solve(mass, momentum[..., None])[..., 0]
    return NoSlipFaces(spots, body, node, jacobian, place, carried, before, mass, joined)
