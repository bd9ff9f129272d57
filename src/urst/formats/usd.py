"""USD: fragments with their motion as time samples, debris points, and surfaces."""

from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

import numpy as np
from pxr import Gf, Sdf, Usd, UsdGeom, Vt

from urst.core.bodies.fragments import Fragments

Frames = Iterator[tuple[int, dict[str, np.ndarray]]]


def _stage(path: Path, start: int, end: int, rate: float) -> Any:
    layer = Sdf.Layer.CreateNew(str(path), {"format": "usdc"})
    stage = Usd.Stage.Open(layer)
    UsdGeom.SetStageUpAxis(stage, UsdGeom.Tokens.z)
    UsdGeom.SetStageMetersPerUnit(stage, 1.0)
    stage.SetStartTimeCode(start)
    stage.SetEndTimeCode(end)
    stage.SetTimeCodesPerSecond(rate)
    stage.SetFramesPerSecond(rate)
    stage.SetDefaultPrim(UsdGeom.Xform.Define(stage, "/shot").GetPrim())
    return stage


def write_fragments(
    path: Path,
    fragments: Fragments,
    names: list[str],
    colours: list,
    frames: Frames,
    span: tuple[int, int],
    rate: float,
) -> None:
    """Write one mesh a fragment under its piece, posed at every frame.

    names, colours : of the pieces; colours linear RGB
    span : (first, last frame)
    """
    stage = _stage(path, span[0], span[1], rate)
    operations = []
    for b in range(len(fragments)):
        piece = int(fragments.piece[b])
        folder = f"/shot/{_identifier(names[piece], piece)}"
        if not stage.GetPrimAtPath(folder):
            UsdGeom.Xform.Define(stage, folder)
        mesh = UsdGeom.Mesh.Define(stage, f"{folder}/fragment_{b:05d}")
        corners = fragments.skin[fragments.skin_start[b] : fragments.skin_start[b + 1]].reshape(-1, 3)
        points, index = np.unique(corners, axis=0, return_inverse=True)
        mesh.CreatePointsAttr(Vt.Vec3fArray.FromNumpy(np.ascontiguousarray(points, np.float32)))
        mesh.CreateFaceVertexIndicesAttr(Vt.IntArray.FromNumpy(index.reshape(-1).astype(np.int32)))
        mesh.CreateFaceVertexCountsAttr(Vt.IntArray([3] * (len(corners) // 3)))
        mesh.CreateSubdivisionSchemeAttr(UsdGeom.Tokens.none)
        mesh.CreateDisplayColorAttr([Gf.Vec3f(*map(float, colours[piece]))])
        mesh.CreateExtentAttr([Gf.Vec3f(*map(float, points.min(axis=0))), Gf.Vec3f(*map(float, points.max(axis=0)))])
        operations.append((mesh.AddTranslateOp(UsdGeom.XformOp.PrecisionFloat), mesh.AddOrientOp()))
    still = None
    for frame, arrays in frames:
        pose = np.concatenate([arrays["position"], arrays["orientation"]], axis=1)
        # a body at rest needs no new sample, but one at each end of its rest keeps it from drifting
        moved = np.ones(len(pose), bool) if still is None else (pose != still).any(axis=1)
        for b in np.flatnonzero(moved).tolist() if frame != span[1] else range(len(pose)):
            translate, orient = operations[b]
            if still is not None and frame - 1 not in translate.GetAttr().GetTimeSamples():
                translate.Set(Gf.Vec3f(*map(float, still[b, :3])), frame - 1)
                orient.Set(Gf.Quatf(*map(float, still[b, 3:])), frame - 1)
            translate.Set(Gf.Vec3f(*map(float, pose[b, :3])), frame)
            orient.Set(Gf.Quatf(*map(float, pose[b, 3:])), frame)
        still = pose
    stage.Save()


def _identifier(name: str, number: int) -> str:
    kept = "".join(c if c.isascii() and c.isalnum() else "_" for c in name).strip("_")
    return f"{kept or 'piece'}_{number}" if not kept[:1].isdigit() else f"piece_{kept}_{number}"


def write_points(path: Path, frames: Frames, span: tuple[int, int], rate: float, sorts: Sequence[str] = ()) -> None:
    """Write points: positions, velocities and widths at every frame.

    sorts : what the sorts of points are called, by their number in `sort`; each is written by itself
    """
    stage = _stage(path, span[0], span[1], rate)
    prims = {name: UsdGeom.Points.Define(stage, f"/shot/{name}") for name in sorts or ("debris",)}
    for frame, arrays in frames:
        for number, prim in enumerate(prims.values()):
            some = arrays["sort"] == number if sorts else slice(None)
            prim.GetPointsAttr().Set(_vectors(arrays["position"][some]), frame)
            prim.GetVelocitiesAttr().Set(_vectors(arrays["velocity"][some]), frame)
            width = np.ascontiguousarray(arrays["size"][some], np.float32)
            prim.GetWidthsAttr().Set(Vt.FloatArray.FromNumpy(width), frame)
    stage.Save()


def _vectors(values: np.ndarray) -> Any:
    return Vt.Vec3fArray.FromNumpy(np.ascontiguousarray(values, np.float32))


def write_surface(path: Path, frames: Frames, span: tuple[int, int], rate: float, colour: np.ndarray) -> None:
    """Write a surface whose corners and triangles change from frame to frame, with normals and velocities.

    colour : linear RGB
    """
    stage = _stage(path, span[0], span[1], rate)
    mesh = UsdGeom.Mesh.Define(stage, "/shot/surface")
    mesh.CreateSubdivisionSchemeAttr(UsdGeom.Tokens.none)
    mesh.CreateDisplayColorAttr([Gf.Vec3f(*map(float, colour))])
    mesh.SetNormalsInterpolation(UsdGeom.Tokens.vertex)
    for frame, arrays in frames:
        index = arrays["triangles"].astype(np.int32)
        mesh.GetPointsAttr().Set(_vectors(arrays["position"]), frame)
        mesh.GetNormalsAttr().Set(_vectors(arrays["normal"]), frame)
        mesh.GetVelocitiesAttr().Set(_vectors(arrays["velocity"]), frame)
        mesh.GetFaceVertexIndicesAttr().Set(Vt.IntArray.FromNumpy(index.reshape(-1)), frame)
        mesh.GetFaceVertexCountsAttr().Set(Vt.IntArray.FromNumpy(np.full(len(index), 3, np.int32)), frame)
        if len(index):
            low, high = arrays["position"].min(axis=0), arrays["position"].max(axis=0)
            mesh.GetExtentAttr().Set([Gf.Vec3f(*map(float, low)), Gf.Vec3f(*map(float, high))], frame)
    stage.Save()
