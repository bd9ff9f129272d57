"""Open surfaces given a thickness, so that things can lie on them."""

import numpy as np

from urst.core.geometry.convex import hull_of
from urst.core.geometry.mesh import Mesh
from urst.errors import BadMesh

#: thickness of a sheet, as a fraction of its size
THICKNESS = 0.02


def wedges(mesh: Mesh) -> list[tuple[Mesh, Mesh]]:
    """Give every triangle of an open surface a convex wedge behind it.

    Wedges of neighbours share their sides, since each reaches back along the surface's normals at its corners.

    Returns
    -------
    list of (wedge, triangle)
        Triangles without area are left out.
    """
    corners = mesh.vertices[mesh.triangles]
    cross = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    normal = np.zeros_like(mesh.vertices)
    for k in range(3):
        np.add.at(normal, mesh.triangles[:, k], cross)
    normal /= np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-30)
    back = mesh.vertices - THICKNESS * float(np.ptp(mesh.vertices, axis=0).max()) * normal
    found = []
    for triangle, area in zip(mesh.triangles, np.linalg.norm(cross, axis=1)):
        if area <= 1e-12:
            continue
        try:
            solid = hull_of(np.concatenate([mesh.vertices[triangle], back[triangle]]))
        except BadMesh:
            continue
        found.append((solid.mesh(), Mesh(mesh.vertices[triangle], np.array([[0, 1, 2]]))))
    return found
