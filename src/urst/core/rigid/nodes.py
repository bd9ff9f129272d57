"""Bodies by what moves as one, as those see them that solve their motion along with their own."""

from typing import NamedTuple

import numpy as np

from urst.core.rigid import compounds
from urst.core.rigid.state import Inertia


class Carried(NamedTuple):
    """`k` nodes, bodies and compounds, that `n` bodies are parts of."""

    node: np.ndarray
    """(n,) int64: of each body"""
    centre: np.ndarray
    """(k, 3) [m]"""
    inverse_mass: np.ndarray
    """(k,) [1/kg], 0 for what does not move now"""
    inverse_inertia: np.ndarray
    """(k, 3, 3) in world axes [1/(kg m2)]"""
    velocity: np.ndarray
    """(k, 6) [m/s], [rad/s]"""


def carried(solver) -> Carried:
    """Return what moves as one now.

    Parameters
    ----------
    solver : RigidSolver
    """
    bodies, lumps = solver.bodies, solver.lumps
    n, free = len(bodies.mass), lumps.nodes(bodies)
    turned = bodies.rotation @ bodies.inverse_inertia @ np.transpose(bodies.rotation, (0, 2, 1))
    k = len(free)
    centre, velocity, inertia = np.zeros((k, 3)), np.zeros((k, 6)), Inertia(np.zeros(k), np.zeros((k, 6)))
    centre[:n], velocity[:n, :3], velocity[:n, 3:] = bodies.position, bodies.velocity, bodies.spin
    compounds.gather(bodies, lumps.compounds, free, centre, inertia, velocity, np.zeros((n, 6)))
    inverse_mass = inertia.inverse_mass
    inverse_mass[:n] = np.where(free[:n], 1.0 / bodies.mass, 0.0)
    xx, xy, xz, yy, yz, zz = inertia.inverse.T
    inverse = np.array([[xx, xy, xz], [xy, yy, yz], [xz, yz, zz]]).transpose(2, 0, 1)
    inverse[:n] = np.where(free[:n, None, None], turned, 0.0)
    return Carried(lumps.compounds.carrier, centre, inverse_mass, inverse, velocity)
