"""Faces of bodies chosen by where they look and where they are, known by points spread over them."""

from dataclasses import dataclass

import numpy as np

from urst.core.bodies.fragments import Fragments

#: a triangle has so many points along its edge at most
_MOST = 256


@dataclass(frozen=True)
class Faces:
    """Points spread over faces of bodies."""

    body: np.ndarray
    """(n,) int"""
    local: np.ndarray
    """(n, 3) float [m], in the body's frame"""
    normal: np.ndarray
    """(n, 3) float, outward, in the body's frame"""
    spacing: np.ndarray
    """(n,) float [m]: how far apart they lie at most"""
    area: np.ndarray
    """(n,) float [m2] that each stands for"""

    def __len__(self) -> int:
        return len(self.body)

    def only(self, some: np.ndarray) -> "Faces":
        """Return some of them.

        Parameters
        ----------
        some : (n,) bool
        """
        return Faces(self.body[some], self.local[some], self.normal[some], self.spacing[some], self.area[some])


def chosen(
    f: Fragments,
    apart: float,
    facing: tuple[float, float, float] | None = None,
    spread: float = 45.0,
    within: Fragments | None = None,
) -> Faces:
    """Choose faces of bodies as they stand at the start.

    Parameters
    ----------
    f : Fragments
    apart : float
        How far apart points over them lie [m].
    facing : (3,) float, optional
        Only what looks this way.
    spread : float
        How far it may look off that [deg].
    within : Fragments, optional
        Only what lies within these bodies.
    """
    faces = _points(f, apart)
    if facing is not None:
        direction = np.asarray(facing, float) / np.linalg.norm(facing)
        faces = faces.only(faces.normal @ direction >= np.cos(np.radians(spread)) - 1e-9)
    if within is not None:
        faces = faces.only(_held(f.centre[faces.body] + faces.local, within))
    return faces


def _held(places: np.ndarray, f: Fragments) -> np.ndarray:
    """Which places (n, 3) [m] lie within bodies as they stand at the start, (n,) bool."""
    hulls, found = f.world_hulls(), np.zeros(len(places), bool)
    for b in range(len(f)):
        planes = hulls.planes[hulls.face_start[b] : hulls.face_start[b + 1]]
        found |= (places @ planes[:, :3].T <= planes[:, 3] + 1e-9).all(axis=1)
    return found


def _points(f: Fragments, apart: float) -> Faces:
    """Points over all of the skins of bodies: triangles cut into like ones, with a point in the middle of each."""
    skin = f.skin.astype(float)
    edge = np.linalg.norm(skin - np.roll(skin, -1, axis=1), axis=2).max(axis=1)
    cuts = np.clip(np.ceil(edge / apart), 1, _MOST).astype(int)
    owner = np.repeat(np.arange(len(f)), np.diff(f.skin_start))
    cross = np.cross(skin[:, 1] - skin[:, 0], skin[:, 2] - skin[:, 0])
    size = np.linalg.norm(cross, axis=1)
    found = [(np.zeros(0, int), np.zeros((0, 3)), np.zeros((0, 3)), np.zeros(0), np.zeros(0))]
    for n in np.unique(cuts[size > 0.0]):
        some, weights = np.flatnonzero((cuts == n) & (size > 0.0)), _middles(int(n))
        each = len(weights)
        found.append(
            (
                np.repeat(owner[some], each),
                np.einsum("pk,tki->tpi", weights, skin[some]).reshape(-1, 3),
                np.repeat(cross[some] / size[some, None], each, axis=0),
                np.repeat(edge[some] / n, each),
                np.repeat(0.5 * size[some] / each, each),
            )
        )
    return Faces(*(np.concatenate(column) for column in zip(*found)))


def _middles(n: int) -> np.ndarray:
    """Barycentric coordinates (n^2, 3) of the middles of the triangles that one is cut into along n steps an edge."""
    a, b = np.mgrid[0:n, 0:n]
    upright, turned = a + b <= n - 1, a + b <= n - 2
    first = np.concatenate([a[upright] + 1 / 3, a[turned] + 2 / 3]) / n
    second = np.concatenate([b[upright] + 1 / 3, b[turned] + 2 / 3]) / n
    return np.stack([first, second, 1.0 - first - second], axis=1)
