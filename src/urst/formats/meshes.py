"""Reading meshes: OBJ, PLY, STL, glTF, USD."""

import io
from pathlib import PurePath
from typing import Any

import numpy as np
import trimesh

from urst.core.checks.meshes import MOST_TRIANGLES, check_surface
from urst.core.geometry.mesh import Mesh
from urst.errors import BadFile, BadMesh
from urst.formats import claims, usd_in
from urst.formats.trajectory import UPRIGHT

KINDS = ("obj", "ply", "stl", "glb", "gltf", *usd_in.KINDS)


def read_meshes(data: bytes, name: str) -> list[tuple[str, Mesh]]:
    """Read a mesh file; one mesh for each named group or node. They may be open: what stands fixed need not be closed.

    glTF keeps y up and metres; it is turned to z up. USD says what is up and how long its unit is. Other formats are
    taken as they are.

    Raises
    ------
    BadFile
        If the file is not what its name says.
    BadMesh
        If a mesh is empty, too large, or no surface at all.
    """
    kind = PurePath(name).suffix.lower().lstrip(".")
    if kind not in KINDS:
        raise BadFile(f"'{name}' is of no kind that can be read; use {', '.join('.' + k for k in KINDS)}.")
    claims.check(data, name)
    if kind == "glb" and data[:4] != b"glTF":
        raise BadFile(f"'{name}' is not a binary glTF file: its first bytes are not 'glTF'. Export it again as .glb.")
    found = usd_in.meshes(data, name) if kind in usd_in.KINDS else _loaded(data, name, kind)
    meshes = [(part, merged(mesh)) for part, mesh in found if len(mesh.triangles)]
    if not meshes:
        raise BadMesh(f"'{name}' holds no triangles: export the surface, not points or curves.")
    if sum(len(m.triangles) for _, m in meshes) > MOST_TRIANGLES:
        total = sum(len(m.triangles) for _, m in meshes)
        raise BadMesh(f"'{name}' has {total:,} triangles, more than {MOST_TRIANGLES:,}: reduce it before importing.")
    for part, mesh in meshes:
        check_surface(mesh, f"'{part}'")
    return meshes


def _loaded(data: bytes, name: str, kind: str) -> list[tuple[str, Mesh]]:
    """The meshes of a file of a kind that the library reads, where they stand."""
    if kind == "obj" or (kind == "stl" and not _is_binary_stl(data)):
        data = _unicode(data)
    try:
        options: dict[str, Any] = (
            {"split_objects": True, "split_groups": True, "group_material": False} if kind == "obj" else {}
        )
        loaded = trimesh.load(io.BytesIO(data), file_type=kind, process=False, **options)
    except Exception as error:
        # the reader's many ways to fail all mean the same to the user
        raise BadFile(f"'{name}' cannot be read as {kind.upper()} ({error}): export it again.") from error
    if isinstance(loaded, trimesh.Scene):
        parts = [(node, *loaded.graph[node]) for node in sorted(loaded.graph.nodes_geometry)]
        raw = [(node, loaded.geometry[geometry], matrix) for node, matrix, geometry in parts]
    else:
        raw = [(_only_name(data, kind) or PurePath(name).stem, loaded, np.eye(4))]
    upright = UPRIGHT if kind in ("glb", "gltf") else np.eye(3)
    meshes: list[tuple[str, Mesh]] = []
    for part, mesh, matrix in raw:
        if not isinstance(mesh, trimesh.Trimesh) or not len(mesh.faces):
            continue
        points = trimesh.transform_points(np.asarray(mesh.vertices, float), matrix) @ upright.T
        triangles = np.asarray(mesh.faces, np.int64)
        if np.linalg.det(matrix[:3, :3]) < 0:
            triangles = triangles[:, ::-1]
        meshes.append((str(part), Mesh(points, triangles)))
    return meshes


def _is_binary_stl(data: bytes) -> bool:
    """Whether a file is as long as it says itself: some binary ones begin like text."""
    return len(data) >= 84 and len(data) == 84 + 50 * int.from_bytes(data[80:84], "little")


def _unicode(data: bytes) -> bytes:
    """The text of a file that says of itself in no way how it is written: UTF-8, or else Latin-1, in which every byte
    is a letter."""
    try:
        # the mark that some editors begin a text with is no word of it
        return data.decode("utf-8-sig").encode()
    except UnicodeDecodeError:
        return data.decode("latin-1").encode()


def _only_name(data: bytes, kind: str) -> str:
    """The name of an OBJ's one object, which the reader does not keep."""
    names = [line.split(maxsplit=1)[1] for line in data.splitlines() if line[:2] in (b"o ", b"g ") and line[2:].strip()]
    return names[0].decode(errors="replace").strip() if kind == "obj" and names else ""


def merged(mesh: Mesh) -> Mesh:
    """Join points at the same place and drop triangles that thereby vanish; points that are no numbers stay apart."""
    if not len(mesh.vertices) or not np.isfinite(mesh.vertices).all():
        return mesh
    size = float(np.ptp(mesh.vertices, axis=0).max()) or 1.0
    grid = np.round((mesh.vertices - mesh.vertices.min(axis=0)) / (1e-7 * size)).astype(np.int64)
    _, first, index = np.unique(grid, axis=0, return_index=True, return_inverse=True)
    triangles = index.reshape(-1)[mesh.triangles]
    whole = (triangles != np.roll(triangles, 1, axis=1)).all(axis=1)
    return Mesh(mesh.vertices[first], triangles[whole])
