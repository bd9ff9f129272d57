"""How often a surface goes round a place."""

import numpy as np

from urst.core.geometry.mesh import Mesh

#: triangles that are looked at together
_AT_ONCE = 4096


def winding(mesh: Mesh, points: np.ndarray) -> np.ndarray:
    """Return the winding number of a mesh about some points, (k,): 1 inside a closed one whose faces look outwards, 0
    outside, a half on it.

    By the solid angles of its triangles (van Oosterom & Strackee 1983).

    Parameters
    ----------
    mesh : Mesh
    points : (k, 3) float64 [m]
    """
    total = np.zeros(len(points))
    for start in range(0, len(mesh.triangles) if len(points) else 0, _AT_ONCE):
        corners = mesh.vertices[mesh.triangles[start : start + _AT_ONCE]]
        a, b, c = (corners[None, :, k] - points[:, None] for k in range(3))
        la, lb, lc = (np.linalg.norm(v, axis=2) for v in (a, b, c))
        triple = np.einsum("ijk,ijk->ij", a, np.cross(b, c))
        dots = [np.einsum("ijk,ijk->ij", p, q) for p, q in ((a, b), (b, c), (c, a))]
        total += np.arctan2(triple, la * lb * lc + dots[0] * lc + dots[1] * la + dots[2] * lb).sum(axis=1)
    return total / (2.0 * np.pi)
