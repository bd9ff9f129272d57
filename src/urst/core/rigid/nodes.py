"""The nodes of the rigid solver: single bodies, and the clusters that bonds hold rigid."""

from typing import Any

import numpy as np

from urst.core.bodies.mobility import LOOSE
from urst.core.bodies.nodes import Nodes
from urst.core.rigid import compounds
from urst.core.rigid.state import Bodies, Inertia


def nodes_of(bodies: Bodies, clusters: Any) -> Nodes:
    """Return what moves as one now.

    Parameters
    ----------
    bodies : Bodies
    clusters : Clusters
    """
    n, free = len(bodies.mass), clusters.nodes(bodies)
    turned = bodies.rotation @ bodies.inverse_inertia @ np.transpose(bodies.rotation, (0, 2, 1))
    k = len(free)
    centre, velocity, inertia = np.zeros((k, 3)), np.zeros((k, 6)), Inertia(np.zeros(k), np.zeros((k, 6)))
    centre[:n], velocity[:n, :3], velocity[:n, 3:] = bodies.position, bodies.velocity, bodies.spin
    compounds.gather(bodies, clusters.compounds, free, centre, inertia, velocity, np.zeros((n, 6)))
    inverse_mass = inertia.inverse_mass
    inverse_mass[:n] = np.where(free[:n], 1.0 / bodies.mass, 0.0)
    xx, xy, xz, yy, yz, zz = inertia.inverse.T
    inverse = np.array([[xx, xy, xz], [xy, yy, yz], [xz, yz, zz]]).transpose(2, 0, 1)
    inverse[:n] = np.where(free[:n, None, None], turned, 0.0)
    loose = (bodies.kind == LOOSE) & ~((clusters.rigid == 1) & clusters.held)
    return Nodes(clusters.compounds.carrier, loose, centre, inverse_mass, inverse, velocity)
