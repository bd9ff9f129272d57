"""Surfaces frame by frame as PLY, OBJ and binary glTF."""

from pathlib import Path
from typing import Any

import numpy as np
import trimesh

from urst.formats.trajectory import UPRIGHT


def write_mesh(path: Path, arrays: dict[str, np.ndarray]) -> None:
    """Write the surface of a frame in the format that the path's ending says: `.ply`, with velocities vx, vy, vz;
    `.obj`; or `.glb`, y up as the format has it, with velocities _VELOCITY.

    Parameters
    ----------
    path : Path
    arrays : dict
        `position` (n, 3) [m], `normal` (n, 3), `velocity` (n, 3) [m/s], `triangles` (m, 3).
    """
    # as the file has it, from which reading turns it back
    turn = UPRIGHT if path.suffix == ".glb" else np.eye(3)
    position, normal, velocity = (arrays[n].astype(float) @ turn for n in ("position", "normal", "velocity"))
    mesh = trimesh.Trimesh(position, arrays["triangles"], vertex_normals=normal, process=False, validate=False)
    if path.suffix == ".ply":
        for axis, name in enumerate(("vx", "vy", "vz")):
            mesh.vertex_attributes[name] = velocity[:, axis].astype(np.float32)
        data: Any = mesh.export(file_type="ply", include_attributes=True)
    elif path.suffix == ".glb":
        mesh.vertex_attributes["_VELOCITY"] = velocity.astype(np.float32)
        data = mesh.export(file_type="glb", include_normals=True)
    else:
        data = mesh.export(file_type="obj")
    path.write_bytes(data.encode() if isinstance(data, str) else data)
