"""Triangle meshes and their mass properties."""

import hashlib
from dataclasses import dataclass

import numpy as np

from urst.errors import BadMesh


@dataclass(frozen=True)
class Mesh:
    """A triangle mesh in metres, wound counter-clockwise seen from outside."""

    vertices: np.ndarray
    """(v, 3) float64 [m]"""
    triangles: np.ndarray
    """(t, 3) int64, indices into `vertices`"""

    def bounds(self) -> tuple[np.ndarray, np.ndarray]:
        """Return the least and the greatest corner, each (3,) [m]."""
        return self.vertices.min(axis=0), self.vertices.max(axis=0)


@dataclass(frozen=True)
class MassProperties:
    """Volume integrals of a closed mesh of unit density."""

    volume: float
    """[m3]"""
    centroid: np.ndarray
    """(3,) [m]"""
    inertia: np.ndarray
    """(3, 3) about the centroid, for unit density [m5]"""


def mass_properties(mesh: Mesh) -> MassProperties:
    """Integrate volume, centroid and inertia over a closed mesh.

    Sums signed tetrahedra about a point near the mesh, so that a mesh far from the origin loses no
    precision. Source: the tetrahedron covariance of Blow & Binstock (2004), a case of the divergence theorem.

    Raises
    ------
    BadMesh
        If the enclosed volume is zero or negative.
    """
    origin = mesh.vertices.mean(axis=0)
    a, b, c = (mesh.vertices[mesh.triangles[:, k]] - origin for k in range(3))
    six_volume = np.einsum("ij,ij->i", a, np.cross(b, c))
    volume = six_volume.sum() / 6.0
    size = np.ptp(mesh.vertices, axis=0).max() if len(mesh.vertices) else 0.0
    if not volume > 1e-9 * size**3:
        raise BadMesh(
            f"The mesh encloses {volume:.3g} m3; a solid body needs a positive volume: "
            "give it thickness, or turn its faces outward."
        )
    centroid = np.einsum("i,ij->j", six_volume, a + b + c) / (24.0 * volume)
    total = a + b + c
    second = np.einsum("i,ij,ik->jk", six_volume, a, a)
    second += np.einsum("i,ij,ik->jk", six_volume, b, b) + np.einsum("i,ij,ik->jk", six_volume, c, c)
    second += np.einsum("i,ij,ik->jk", six_volume, total, total)
    second = second / 120.0 - volume * np.outer(centroid, centroid)
    inertia = np.trace(second) * np.eye(3) - second
    return MassProperties(float(volume), origin + centroid, inertia)


def open_edges(mesh: Mesh) -> np.ndarray:
    """Return the directed edges that have no opposite partner, (e, 2) int64.

    A closed, consistently wound mesh has none.
    """
    t = mesh.triangles
    edges = np.concatenate([t[:, [0, 1]], t[:, [1, 2]], t[:, [2, 0]]])
    n = len(mesh.vertices)
    forward = edges[:, 0] * n + edges[:, 1]
    backward = edges[:, 1] * n + edges[:, 0]
    keys, counts = np.unique(forward, return_counts=True)
    back_keys, back_counts = np.unique(backward, return_counts=True)
    partner = np.searchsorted(back_keys, keys)
    found = np.where(partner < len(back_keys), back_keys[np.minimum(partner, len(back_keys) - 1)] == keys, False)
    matching = np.where(found, back_counts[np.minimum(partner, len(back_keys) - 1)], 0)
    bad = keys[matching != counts]
    return np.stack([bad // n, bad % n], axis=1)


def transformed(mesh: Mesh, rotation: np.ndarray, translation: np.ndarray) -> Mesh:
    """Return the mesh turned by a (3, 3) matrix and moved by (3,) [m].

    Parameters
    ----------
    mesh : Mesh
    rotation : (3, 3) float
    translation : (3,) float [m]
    """
    return Mesh(mesh.vertices @ np.asarray(rotation).T + translation, mesh.triangles)


def chained(meshes: list[Mesh]) -> Mesh:
    """Return several meshes as one."""
    first = np.cumsum([0, *(len(m.vertices) for m in meshes[:-1])])
    return Mesh(
        np.concatenate([m.vertices for m in meshes]), np.concatenate([m.triangles + n for m, n in zip(meshes, first)])
    )


def key_of(mesh: Mesh) -> str:
    """Return the hash of a mesh's points and triangles, 40 digits."""
    points, corners = (np.ascontiguousarray(a) for a in (mesh.vertices.astype("<f8"), mesh.triangles.astype("<i4")))
    head = f"{len(points)} {len(corners)} ".encode()
    return hashlib.blake2b(head + points.tobytes() + corners.tobytes(), digest_size=20).hexdigest()
