"""Whether a mesh is a sound solid."""

from collections.abc import Iterator

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree

from urst.core.geometry.mesh import Mesh, mass_properties, open_edges
from urst.core.geometry.winding import winding
from urst.errors import BadMesh

#: coordinates as those of pieces [m]
MOST_COORDINATE = 1e6
#: more triangles than this are refused on import
MOST_TRIANGLES = 1_500_000
#: and so many of what moves or breaks
MOST_OF_A_SOLID = 500_000
#: points that are nearer each other than this fraction of a mesh's size are one
_SAME = 1e-9
#: places of a part at which it is looked whether another fills them, and triangles that are looked at from them in all
_LOOKS, _MOST_WINDINGS = 64, 200_000_000
#: a winding number that is off by more is another
_WRONG = 0.5
#: how far within a triangle's own matter that is, as a fraction of its size
_WITHIN = 1e-4
#: pairs of triangles that are looked at together, and in all
_AT_ONCE, _MOST_LOOKED = 500_000, 300_000_000


def check_surface(mesh: Mesh, name: str = "The mesh") -> None:
    """Refuse a mesh that is no surface at all; it may be open.

    Parameters
    ----------
    mesh : Mesh
    name : str
        As the sentence calls it.

    Raises
    ------
    BadMesh
        With one sentence that says what is wrong and what to do.
    """
    if not len(mesh.vertices) or not len(mesh.triangles):
        raise BadMesh(f"{name} is empty: it has {len(mesh.vertices)} points and {len(mesh.triangles)} triangles.")
    if len(mesh.triangles) > MOST_TRIANGLES:
        raise BadMesh(
            f"{name} has {len(mesh.triangles):,} triangles, more than {MOST_TRIANGLES:,}: reduce it before importing."
        )
    if not np.isfinite(mesh.vertices).all():
        bad = int((~np.isfinite(mesh.vertices).all(axis=1)).sum())
        raise BadMesh(f"{name} has {bad} points whose coordinates are not numbers: export it again.")
    far = float(np.abs(mesh.vertices).max())
    if far > MOST_COORDINATE:
        raise BadMesh(
            f"{name} reaches {far:.3g} m from its origin, farther than {MOST_COORDINATE:,.0f} m: look at the unit it "
            "was exported in."
        )
    if mesh.triangles.min() < 0 or mesh.triangles.max() >= len(mesh.vertices):
        raise BadMesh(f"{name} has triangles that name points it does not have: the file is damaged.")
    if not (np.ptp(mesh.vertices, axis=0) > 0).sum() > 1:
        raise BadMesh(f"{name} has no area: all its points lie in one place or on one line.")


def check_solid(mesh: Mesh, name: str = "The mesh") -> None:
    """Refuse a mesh that is no closed, sound solid.

    Parameters
    ----------
    mesh : Mesh
    name : str
        As the sentence calls it.

    Raises
    ------
    BadMesh
        With one sentence that says what is wrong and what to do.
    """
    check_surface(mesh, name)
    if len(mesh.triangles) > MOST_OF_A_SOLID:
        raise BadMesh(
            f"{name} has {len(mesh.triangles):,} triangles; what moves or breaks may have {MOST_OF_A_SOLID:,}: reduce "
            "it, or "
            "let it be fixed."
        )
    loose = open_edges(mesh)
    if len(loose):
        x, y, z = mesh.vertices[loose].mean(axis=(0, 1))
        raise BadMesh(
            f"{name} is open: {len(loose)} edges have no face on one side, near {x:.2f}, {y:.2f}, {z:.2f} m; "
            "close its holes, or give it thickness."
        )
    mass_properties(mesh)
    twice = _doubled(mesh)
    if len(twice):
        x, y, z = mesh.vertices[mesh.triangles[twice[0]]].mean(axis=0)
        raise BadMesh(
            f"{name} has {len(twice)} faces twice, near {x:.2f}, {y:.2f}, {z:.2f} m: remove the doubled ones."
        )
    crossing = self_crossings(mesh)
    if len(crossing):
        x, y, z = mesh.vertices[mesh.triangles[crossing[0, 0]]].mean(axis=0)
        raise BadMesh(
            f"{name} crosses itself: {len(crossing)} pairs of triangles cut each other, near {x:.2f}, {y:.2f}, "
            f"{z:.2f} m; "
            "merge its overlapping parts into one surface."
        )
    lies = _in_another(mesh)
    if lies is not None:
        x, y, z = lies
        raise BadMesh(
            f"{name} fills some room twice: one of its parts lies in another, near {x:.2f}, {y:.2f}, {z:.2f} m; merge "
            "them into one surface, or turn the faces of a hollow inwards."
        )


def _welded(mesh: Mesh) -> np.ndarray:
    """The triangles by places rather than by points, of which several may stand in one place, (m, 3) int64."""
    size = float(np.ptp(mesh.vertices, axis=0).max())
    place = np.round((mesh.vertices - mesh.vertices.min(axis=0)) / (_SAME * size)).astype(np.int64)
    number: np.ndarray = np.unique(place, axis=0, return_inverse=True)[1].reshape(-1)
    return number[mesh.triangles]


def _doubled(mesh: Mesh) -> np.ndarray:
    """Triangles that stand where an earlier one does, whichever way they look, (k,) int64."""
    corners = np.sort(_welded(mesh), axis=1)
    first = np.unique(corners, axis=0, return_index=True)[1]
    return np.setdiff1d(np.arange(len(corners)), first)


def _in_another(mesh: Mesh) -> np.ndarray | None:
    """A place (3,) where a part of a mesh bounds room that another part fills as well; None if there is none.

    The winding number of the others is 0 at a part that bounds matter, and 1 at one that bounds a hollow within.
    """
    welded = _welded(mesh)
    links = np.concatenate([welded[:, :2], welded[:, 1:]])
    count = int(welded.max()) + 1
    of = connected_components(coo_matrix((np.ones(len(links)), links.T), shape=(count, count)), directed=False)[1]
    part = of[welded[:, 0]]
    names = np.unique(part)
    if len(names) == 1:
        return None
    corners = mesh.vertices[mesh.triangles]
    low = np.array([corners[part == p].min(axis=(0, 1)) for p in names])
    high = np.array([corners[part == p].max(axis=(0, 1)) for p in names])
    looks = max(1, min(_LOOKS, _MOST_WINDINGS // (len(names) * len(part))))
    for n, p in enumerate(names):
        beside = (low <= high[n]).all(axis=1) & (high >= low[n]).all(axis=1)
        beside[n] = False
        if not beside.any():
            continue
        mine = np.flatnonzero(part == p)
        across = np.cross(*(corners[mine, k] - corners[mine, 0] for k in (1, 2)))
        area = np.linalg.norm(across, axis=1)
        # the largest, and some all over
        large = np.argsort(-area, kind="stable")[:looks]
        some = np.union1d(large, np.arange(0, len(mine), max(1, len(mine) // looks)))
        some = some[area[some] > 0.0]
        bounds = 0.0 if _signed_volume(corners[mine]) > 0.0 else 1.0
        others = Mesh(mesh.vertices, mesh.triangles[np.isin(part, names[beside])])
        # just within its own matter, where parts that only touch are not
        inwards = across[some] / np.sqrt(area[some])[:, None]
        places = corners[mine[some]].mean(axis=1) - _WITHIN * inwards
        wrong = np.abs(winding(others, places) - bounds) > _WRONG
        if wrong.any():
            return places[wrong][0]
    return None


def _signed_volume(corners: np.ndarray) -> float:
    """Six times the volume that triangles (k, 3, 3) enclose, less than 0 where they look inwards."""
    middle = corners.mean(axis=(0, 1))
    a, b, c = (corners[:, k] - middle for k in range(3))
    return float(np.einsum("ij,ij->", a, np.cross(b, c)))


def self_crossings(mesh: Mesh, most: int = 1000) -> np.ndarray:
    """Pairs of triangles that pass through each other, (k, 2) int64, at most about `most`.

    Two triangles cross when an edge of one passes through the inside of the other (Moeller & Trumbore 1997);
    triangles that share a point are left out.

    Parameters
    ----------
    mesh : Mesh
    most : int
        Looking ends at about so many pairs.

    Raises
    ------
    BadMesh
        If there are too many pairs to look at.
    """
    corners = mesh.vertices[mesh.triangles]
    found, count = [], 0
    for a, b in _near(corners):
        shared = (mesh.triangles[a][:, :, None] == mesh.triangles[b][:, None, :]).any(axis=(1, 2))
        a, b = a[~shared], b[~shared]
        hit = np.zeros(len(a), bool)
        for k in range(3):
            hit |= _passes(corners[a, k], corners[a, (k + 1) % 3], corners[b])
            hit |= _passes(corners[b, k], corners[b, (k + 1) % 3], corners[a])
        found.append(np.column_stack([a[hit], b[hit]]))
        count += int(hit.sum())
        if count >= most:
            break
    pairs = np.sort(np.concatenate(found), axis=1) if found else np.zeros((0, 2), np.int64)
    return np.unique(pairs, axis=0)


def _near(corners: np.ndarray) -> Iterator[tuple[np.ndarray, np.ndarray]]:
    """Pairs of triangles whose boxes meet, each pair once, in parts (k,), (k,).

    Triangles are looked for by classes of size, each twice as large as the one before, so that a large one among many
    small costs no more than those about it.
    """
    centre, low, high = corners.mean(axis=1), corners.min(axis=1), corners.max(axis=1)
    reach = np.linalg.norm(corners - centre[:, None], axis=2).max(axis=1)
    size = np.floor(np.log2(np.maximum(reach, 1e-300))).astype(int)
    classes = [np.flatnonzero(size == s) for s in np.unique(size)]
    trees = [cKDTree(centre[c]) for c in classes]
    looked = 0
    for one, larger in enumerate(classes):
        for other in range(one + 1):
            smaller, tree = classes[other], trees[other]
            wide = reach[larger] + reach[smaller].max()
            many = np.cumsum(tree.query_ball_point(centre[larger], wide, return_length=True))
            looked += int(many[-1])
            if looked > _MOST_LOOKED:
                raise BadMesh(
                    "The mesh is too tangled to be checked: too many of its triangles lie over each other. Remesh it "
                    "evenly."
                )
            for part in np.split(
                np.arange(len(larger)), np.searchsorted(many, np.arange(_AT_ONCE, many[-1], _AT_ONCE))
            ):
                if not len(part):
                    continue
                near = tree.query_ball_point(centre[larger[part]], wide[part])
                a = np.repeat(larger[part], [len(n) for n in near])
                b = smaller[np.concatenate([np.asarray(n, np.int64) for n in near])] if len(a) else a
                keep = ((a < b) if one == other else (a != b)) & (low[a] <= high[b]).all(axis=1)
                keep[keep] = (low[b[keep]] <= high[a[keep]]).all(axis=1)
                yield a[keep], b[keep]


def _passes(start: np.ndarray, end: np.ndarray, triangle: np.ndarray) -> np.ndarray:
    along, edge1, edge2 = end - start, triangle[:, 1] - triangle[:, 0], triangle[:, 2] - triangle[:, 0]
    p = np.cross(along, edge2)
    det = np.einsum("ij,ij->i", edge1, p)
    scale = np.linalg.norm(along, axis=1) * np.linalg.norm(edge1, axis=1) * np.linalg.norm(edge2, axis=1)
    flat = np.abs(det) <= 1e-9 * scale
    inverse = 1.0 / np.where(flat, 1.0, det)
    offset = start - triangle[:, 0]
    u = np.einsum("ij,ij->i", offset, p) * inverse
    q = np.cross(offset, edge1)
    v = np.einsum("ij,ij->i", along, q) * inverse
    t = np.einsum("ij,ij->i", edge2, q) * inverse
    e = 1e-9
    return ~flat & (u > e) & (v > e) & (u + v < 1 - e) & (t > e) & (t < 1 - e)
