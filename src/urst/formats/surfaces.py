"""Surfaces frame by frame as PLY and OBJ."""

from pathlib import Path

import numpy as np
import trimesh


def write_mesh(path: Path, arrays: dict[str, np.ndarray]) -> None:
    """Write the surface of a frame in the format that the path's ending says: `.ply`, with velocities vx, vy, vz, or `.obj`.

    Parameters
    ----------
    path : Path
    arrays : dict
        `position` (n, 3) [m], `normal` (n, 3), `velocity` (n, 3) [m/s], `triangles` (m, 3).
    """
    mesh = trimesh.Trimesh(
        arrays["position"],
        arrays["triangles"],
        vertex_normals=arrays["normal"].astype(float),
        process=False,
        validate=False,
    )
    if path.suffix == ".ply":
        for axis, name in enumerate(("vx", "vy", "vz")):
            mesh.vertex_attributes[name] = arrays["velocity"][:, axis].astype(np.float32)
    data = (
        mesh.export(file_type=path.suffix[1:], include_attributes=True)
        if path.suffix == ".ply"
        else mesh.export(file_type="obj")
    )
    path.write_bytes(data.encode() if isinstance(data, str) else data)
