"""What a liquid meets of bent and hollow bodies: their own surface, not the convex parts they collide as."""

from dataclasses import dataclass

import numpy as np
from scipy.spatial import ConvexHull, QhullError

from urst.core.bodies.fragments import Fragments
from urst.core.solids import mesh_field_kernels as kernels

#: the stand-ins of a body may hold so much more than it is before its surface is looked at, as a fraction
OFF = 0.002
#: its surface is whole if it encloses the body's volume to this fraction, and nothing of some places before it lies
#: within
WHOLE, PLACES = 1e-3, 96
#: so far from the surface the field is known [cells]
REACH = 4.0
#: samples that a field has at most
MOST = 40_000_000
#: a body is thin where one goes through it in so many cells, if it is over more than this fraction of its surface
THIN, MOSTLY = 2.2, 0.02


@dataclass(frozen=True)
class MeshField:
    """The signed distance from the surface of one body of several convex parts.

    Attributes
    ----------
    parts : (k,) int64
        Its parts, by number over all fragments; it moves as the first does.
    low : (3,) float [m]
        The first sample, about the first part's centre.
    step : float [m]
    field : (nx, ny, nz) float32 [m]
        Negative within.
    volume : float [m3]
    """

    parts: np.ndarray
    low: np.ndarray
    step: float
    field: np.ndarray
    volume: float

    def pose(self, position: np.ndarray, rotation: np.ndarray) -> np.ndarray:
        """Return what takes places in the world [m] to samples of the field, (4, 4).

        Parameters
        ----------
        position : (3,) float [m]
            The first part's centre.
        rotation : (3, 3) float
        """
        found = np.eye(4)
        found[:3, :3] = rotation.T / self.step
        found[:3, 3] = -(rotation.T @ position + self.low) / self.step
        return found

    def at(self, places: np.ndarray) -> np.ndarray:
        """Return the distance at places (n, 3) [m] about the first part's centre, (n,) [m]."""
        out = np.empty(len(places), np.float32)
        kernels.sample(self.field, (np.asarray(places, float) - self.low) / self.step, out)
        return out


def mesh_fields(fragments: Fragments, cell: float) -> list[MeshField]:
    """Return the fields of all bodies whose convex parts hold clearly more than they are themselves, and that are not
    thin beside cells.

    Bodies whose surface is not known apart from the cuts between their parts have none.

    Parameters
    ----------
    fragments : Fragments
    cell : float [m]
    """
    found = []
    for one in np.unique(fragments.whole[fragments.whole >= 0]):
        parts = np.flatnonzero(fragments.whole == one)
        volume = float(fragments.volume[parts].sum())
        if _held(fragments, parts) <= (1.0 + OFF) * volume:
            continue
        surface = _surface(fragments, parts)
        if not _is_whole(surface, volume):
            continue
        field = _field(surface, parts, volume, cell)
        if field is not None and not _is_thin(field, surface, cell):
            found.append(field)
    return found


def _held(fragments: Fragments, parts: np.ndarray) -> float:
    h, total = fragments.hulls, 0.0
    for b in parts:
        try:
            total += ConvexHull(h.vertices[h.vertex_start[b] : h.vertex_start[b + 1]]).volume
        except QhullError:
            continue
    return total


def _surface(fragments: Fragments, parts: np.ndarray) -> np.ndarray:
    """Triangles of the parts that do not lie on cuts, about the first one's centre (t, 3, 3) [m]."""
    f, found = fragments, []
    for b in parts:
        mine = slice(f.skin_start[b], f.skin_start[b + 1])
        seen = f.skin[mine][f.inner[mine] == 0].astype(float)
        found.append(seen + (f.centre[b] - f.centre[parts[0]]))
    return np.concatenate(found)


def _is_whole(surface: np.ndarray, volume: float) -> bool:
    """Whether triangles enclose a volume, with none of them within it."""
    a, b, c = surface[:, 0], surface[:, 1], surface[:, 2]
    normal = np.cross(b - a, c - a)
    area = np.linalg.norm(normal, axis=1)
    if not area.any() or abs(np.einsum("ti,ti->", a, normal) / 6.0 - volume) > WHOLE * volume:
        return False
    size = float(np.ptp(surface.reshape(-1, 3), axis=0).max())
    some = np.argsort(-area, kind="stable")[np.linspace(0, np.count_nonzero(area) - 1, PLACES).astype(int)]
    places = surface[some].mean(axis=1) + 1e-4 * size * normal[some] / area[some, None]
    return all(_winding(surface, place) < 0.5 for place in places)


def _winding(surface: np.ndarray, place: np.ndarray) -> float:
    """How often a surface goes round a place (solid angles: Van Oosterom & Strackee 1983)."""
    a, b, c = (surface[:, k] - place for k in range(3))
    la, lb, lc = (np.linalg.norm(x, axis=1) for x in (a, b, c))
    dot = lambda p, q: np.einsum("ti,ti->t", p, q)  # noqa: E731
    below = la * lb * lc + dot(a, b) * lc + dot(b, c) * la + dot(c, a) * lb
    return float(np.arctan2(dot(a, np.cross(b, c)), below).sum() / (2.0 * np.pi))


def _field(surface: np.ndarray, parts: np.ndarray, volume: float, cell: float) -> MeshField | None:
    step = 0.5 * cell
    low = surface.reshape(-1, 3).min(axis=0) - REACH * cell
    high = surface.reshape(-1, 3).max(axis=0) + REACH * cell
    shape = np.ceil((high - low) / step).astype(int) + 1
    if np.prod(shape.astype(float)) > MOST:
        return None
    field = np.full(tuple(shape), 1e6, np.float32)
    best = np.full(field.shape, kernels.NOBODY, np.int32)
    kernels.measure_near(surface, low, step, field, best)
    kernels.hand_on(surface, low, step, field, best)
    return MeshField(parts, low, step, field, volume)


def _is_thin(field: MeshField, surface: np.ndarray, cell: float) -> bool:
    """Whether one is out again soon behind much of a surface."""
    normal = np.cross(surface[:, 1] - surface[:, 0], surface[:, 2] - surface[:, 0])
    area = np.linalg.norm(normal, axis=1)
    some = area > 0.0
    inward = -normal[some] / area[some, None]
    middle, through = surface[some].mean(axis=1), np.zeros(some.sum(), bool)
    for depth in np.arange(0.4, THIN + 0.1, 0.2) * cell:
        through |= field.at(middle + depth * inward) > 0.0
    return float(area[some][through].sum()) > MOSTLY * float(area.sum())
