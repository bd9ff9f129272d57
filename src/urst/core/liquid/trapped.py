"""Liquid that lies against thin walls and goes with them.

The faces that a thin wall closes have liquid in them beside the wall. It cannot flow there, so it is part of the
wall: its weight and its inertia are carried by it. Without it a plate that is thinner than a cell would float like one
of a cell.
"""

from typing import NamedTuple

import numpy as np

from urst.core.bodies.nodes import NO_NODE, Nodes
from urst.core.fields.body_terms import inverse_masses
from urst.core.jit import serial
from urst.core.solids.face_bits import LOW, low_face
from urst.core.solids.thin_kernels import cell_of
from urst.core.solids.wall_kernels import NONE, ZERO, open_fraction
from urst.core.solids.walls import Walls


class Trapped(NamedTuple):
    """Liquid in `m` faces that thin bodies close."""

    body: np.ndarray
    """(m,) int64"""
    jacobian: np.ndarray
    """(m, 6) float: what of the body's velocity, and of its spin about its node's centre, goes across the face"""
    mass: np.ndarray
    """(m,) [kg]"""
    before: np.ndarray
    """(m,) how fast it went [m/s]"""

    def merged(self, nodes: Nodes) -> tuple[np.ndarray, np.ndarray]:
        """Return inverse masses (k, 6, 6) and velocities (k, 6) of nodes with what is stuck to them."""
        inverse, velocity = inverse_masses(nodes.inverse_mass, nodes.inverse_inertia), nodes.velocity.copy()
        mine = nodes.node[self.body]
        for n in np.unique(mine[nodes.inverse_mass[mine] > 0.0]):
            some = mine == n
            jacobian, mass = self.jacobian[some], self.mass[some]
            own = np.linalg.inv(inverse[n])
            whole = own + (jacobian.T * mass) @ jacobian
            velocity[n] = np.linalg.solve(whole, own @ velocity[n] + jacobian.T @ (mass * self.before[some]))
            inverse[n] = np.linalg.inv(whole)
        return 0.5 * (inverse + inverse.transpose(0, 2, 1)), velocity

    def impulses(self, nodes: Nodes, velocity: np.ndarray, position: np.ndarray) -> np.ndarray:
        """Return what it does to each body as it comes to go with it, (n, 6) about its centre [N s], [N m s].

        Parameters
        ----------
        nodes : Nodes
        velocity : (k, 6) float
            Of the nodes, in the end.
        position : (n, 3) float
            Of the bodies [m].
        """
        mine = nodes.node[self.body]
        change = self.mass * (self.before - np.einsum("mi,mi->m", self.jacobian, velocity[mine]))
        pushed = change[:, None] * self.jacobian
        pushed[:, 3:] -= np.cross(position[self.body] - nodes.centre[mine], pushed[:, :3])
        return np.column_stack([np.bincount(self.body, column, minlength=len(position)) for column in pushed.T])


def trapped(
    walls: Walls, phi: np.ndarray, least: np.float32, nodes: Nodes, velocity: list[np.ndarray], full: float
) -> Trapped | None:
    """Find what is stuck to bodies that have a node, None if there is nothing.

    Parameters
    ----------
    walls : Walls
    phi : (nx, ny, nz) float32
        Cells above -least are no liquid [cells].
    least : float32
    nodes : Nodes
    velocity : three arrays of faces, float32 [m/s]
    full : float
        Mass of a full cell [kg].
    """
    w = walls
    if not w.thin.any() or not w.blocked.any():
        return None
    body, axis, cell, fraction = _find(w.blocked, w.distance, w.owner, w.home, nodes.node, phi, least)
    if not len(body):
        return None
    rows = np.arange(len(body))
    place = w.origin + w.cell * (cell + 0.5)
    place[rows, axis] -= 0.5 * w.cell
    jacobian = np.zeros((len(body), 6))
    jacobian[rows, axis] = 1.0
    jacobian[:, 3:] = np.cross(place - nodes.centre[nodes.node[body]], jacobian[:, :3])
    before = np.empty(len(body))
    for a in range(3):
        some = axis == a
        before[some] = velocity[a][tuple(cell[some].T)]
    return Trapped(body, jacobian, full * fraction, before)


@serial
def _find(blocked, distance, owner, home, node, phi, least):
    """List closed faces with liquid in them: the body that closes each, its axis, the cell behind it and how full it
    is."""
    nx, ny, nz = blocked.shape
    m = 0
    for turn in range(2):
        if turn:
            body, axes, cells, fraction = (
                np.empty(m, np.int64),
                np.empty(m, np.int64),
                np.empty((m, 3), np.int64),
                np.empty(m),
            )
            m = 0
        for i in range(nx):
            for j in range(ny):
                for k in range(nz):
                    if blocked[i, j, k] & LOW == 0:
                        continue
                    for axis in range(3):
                        if not blocked[i, j, k] & low_face(axis):
                            continue
                        most, mine, room = ZERO, NONE, 0.0
                        for s in range(8):
                            a, b, c = 2 * i + (s & 1), 2 * j + ((s >> 1) & 1), 2 * k + (s >> 2)
                            a, b, c = a - (axis == 0), b - (axis == 1), c - (axis == 2)
                            part = open_fraction(distance[a, b, c])
                            if owner[a, b, c] != NONE and node[owner[a, b, c]] != NO_NODE and 1.0 - part > most:
                                most, mine = 1.0 - part, owner[a, b, c]
                            x, y, z = cell_of(home, a // 2, b // 2, c // 2, a, b, c)
                            if x >= 0 and phi[x, y, z] <= -least:
                                room += 0.125 * part
                        if mine == NONE or room <= 0.0:
                            continue
                        if turn:
                            body[m], axes[m], fraction[m] = mine, axis, room
                            cells[m, 0], cells[m, 1], cells[m, 2] = i, j, k
                        m += 1
    return body, axes, cells, fraction
