"""Reading USD: the meshes of a stage and how they move."""

import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path, PurePath
from typing import Any

import numpy as np
from pxr import Sdf, Tf, Usd, UsdGeom

from urst.core.geometry.mesh import Mesh
from urst.errors import BadFile, BadMesh
from urst.formats.claims import MOST_PARTS
from urst.formats.trajectory import UPRIGHT, Trajectory, trajectory

KINDS = ("usd", "usda", "usdc", "usdz")


def meshes(data: bytes, name: str) -> list[tuple[str, Mesh]]:
    """Return the meshes that are seen at the first moment, by their names, z up and in metres.

    Raises
    ------
    BadFile
        If it is no USD file, or takes parts from other files.
    """
    with _stage(data, name) as stage:
        found = []
        for part, mesh, matrix in _parts(stage):
            upright, metres = _axes(stage)
            points = np.asarray(mesh.GetPointsAttr().Get(_first(stage)), float).reshape(-1, 3)
            triangles = _triangles(mesh, _first(stage), len(points), name)
            # points are rows, as USD multiplies them from the left
            placed = metres * (points @ matrix[:3, :3] + matrix[3, :3]) @ upright.T
            if np.linalg.det(matrix[:3, :3]) < 0.0:
                triangles = triangles[:, ::-1]
            found.append((part, Mesh(placed, triangles)))
        return found


def length(data: bytes, name: str) -> float:
    """Return how long what moves in a file moves [s]; 0 if nothing does."""
    with _stage(data, name) as stage:
        times = [t for _, mesh, _ in _parts(stage) for t in _times(mesh)]
        return (max(times) - _begin(stage, times)) / stage.GetTimeCodesPerSecond() if times else 0.0


def trajectories(data: bytes, name: str, seconds: np.ndarray) -> dict[str, Trajectory]:
    """Return the ways of the meshes that move, by the name of each.

    Parameters
    ----------
    data, name
        The file.
    seconds : (k,) float
        Moments, from the stage's start.

    Raises
    ------
    BadFile
        If it is no USD file, or takes parts from other files.
    """
    with _stage(data, name) as stage:
        times = [t for _, mesh, _ in _parts(stage) for t in _times(mesh)]
        found, (upright, metres) = {}, _axes(stage)
        for part, mesh, rest in _parts(stage):
            if _times(mesh):
                moments = _begin(stage, times) + seconds * stage.GetTimeCodesPerSecond()
                now = np.array([_matrix(mesh, Usd.TimeCode(float(t))).T for t in moments])
                found[part] = trajectory(rest.T, now, upright, metres)
        return found


@contextmanager
def _stage(data: bytes, name: str) -> Iterator[Usd.Stage]:
    """The file as a stage of its own, which may refer to nothing else."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / f"stage{PurePath(name).suffix.lower()}"
        path.write_bytes(data)
        try:
            layer = Sdf.Layer.OpenAsAnonymous(str(path))
            if layer is None:
                raise BadFile(f"'{name}' cannot be read as USD: export it again.")
            # what refers to the file itself names none
            elsewhere = [x for x in layer.GetCompositionAssetDependencies() if x] + _clips(layer)
            if elsewhere:
                raise BadFile(
                    f"'{name}' takes parts from other files ({str(elsewhere[0])[:80]}): export it flattened, with all "
                    "in one."
                )
            stage = Usd.Stage.Open(layer)
            _check(stage, name)
            yield stage
        except Tf.ErrorException as error:
            text = next((str(e.commentary) for e in error.args if hasattr(e, "commentary")), "").split(" in <")[0]
            reason = " ".join(text.replace(f"{path}:", "line ").split())[:120] or "it is damaged"
            raise BadFile(f"'{name}' cannot be read as USD ({reason}): export it again.") from error


def _clips(layer: Any) -> list[Path]:
    """Paths of what takes its values from other files over time."""
    found: list[Sdf.Path] = []
    layer.Traverse("/", lambda path: found.append(path) if _has_clips(layer, path) else None)
    return found


def _has_clips(layer: Any, path: Path) -> bool:
    spec = layer.GetObjectAtPath(path)
    return isinstance(spec, Sdf.PrimSpec) and spec.HasInfo("clips")


def _check(stage: Any, name: str) -> None:
    rate, metres = stage.GetTimeCodesPerSecond(), UsdGeom.GetStageMetersPerUnit(stage)
    for what, value in (("time codes a second", rate), ("metres a unit", metres)):
        if not (np.isfinite(value) and value > 0.0):
            raise BadFile(f"'{name}' has {value:g} {what}, which must be more than 0: set it and export again.")


def _axes(stage: Any) -> tuple[np.ndarray, float]:
    """What turns its axes so that z is up, and metres a unit."""
    upright = np.eye(3) if UsdGeom.GetStageUpAxis(stage) == UsdGeom.Tokens.z else UPRIGHT
    return upright, UsdGeom.GetStageMetersPerUnit(stage)


def _begin(stage: Any, times: list[float]) -> float:
    """The moment at which the shot takes the stage up."""
    return stage.GetStartTimeCode() if stage.HasAuthoredTimeCodeRange() else min(times, default=0.0)


def _first(stage: Any) -> Any:
    authored = stage.HasAuthoredTimeCodeRange()
    return Usd.TimeCode(stage.GetStartTimeCode()) if authored else Usd.TimeCode.EarliestTime()


def _parts(stage: Any) -> Iterator[tuple[str, Any, Any]]:
    """Yield the name of each mesh that is seen, the mesh, and what takes it to the world at the first moment (4, 4),
    from the left."""
    names: set[str] = set()
    for prim in stage.Traverse(Usd.TraverseInstanceProxies()):
        mesh, time = UsdGeom.Mesh(prim), _first(stage)
        if not mesh or mesh.ComputeVisibility(time) == UsdGeom.Tokens.invisible:
            continue
        if mesh.ComputePurpose() not in (UsdGeom.Tokens.default_, UsdGeom.Tokens.render):
            continue
        if not mesh.GetPointsAttr().Get(time) or not mesh.GetFaceVertexCountsAttr().Get(time):
            continue
        if len(names) == MOST_PARTS:
            raise BadMesh(f"The file has more than {MOST_PARTS:,} parts: join them before importing.")
        name = next(n for n in (prim.GetName(), str(prim.GetPath())) if n not in names)
        names.add(name)
        yield name, mesh, _matrix(mesh, time)


def _matrix(mesh: Any, time: Any) -> np.ndarray:
    return np.array(mesh.ComputeLocalToWorldTransform(time))


def _times(mesh: Any) -> list[float]:
    """When it, or what carries it, is keyed, as time codes."""
    prim, found = mesh.GetPrim(), []
    while prim and not prim.IsPseudoRoot():
        if UsdGeom.Xformable(prim):
            found += UsdGeom.Xformable(prim).GetTimeSamples()
        prim = prim.GetParent()
    return found if len(set(found)) > 1 else []


def _triangles(mesh: Any, time: Any, points: int, name: str) -> np.ndarray:
    """Each face as a fan of triangles, (t, 3) int64."""
    counts = np.asarray(mesh.GetFaceVertexCountsAttr().Get(time), np.int64)
    index = np.asarray(mesh.GetFaceVertexIndicesAttr().Get(time) or [], np.int64)
    if (
        counts.sum() != len(index)
        or (counts < 0).any()
        or (len(index) and not 0 <= index.min() <= index.max() < points)
    ):
        raise BadFile(
            f"'{name}' has faces whose corners are not there, in '{mesh.GetPrim().GetName()}': export it again."
        )
    first, inside = np.cumsum(counts) - counts, np.maximum(counts - 2, 0)
    face = np.repeat(np.arange(len(counts)), inside)
    k = np.arange(len(face)) - np.repeat(np.cumsum(inside) - inside, inside)
    triangles = np.stack([index[first[face]], index[first[face] + k + 1], index[first[face] + k + 2]], axis=1)
    left = mesh.GetOrientationAttr().Get() == UsdGeom.Tokens.leftHanded
    return triangles[:, ::-1] if left else triangles
