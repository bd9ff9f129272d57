"""The process that reads a file from outside; see `apart`."""

import json
import resource
import sys
from pathlib import Path
from typing import Any

import numpy as np

from urst.core.checks.meshes import check_solid
from urst.core.geometry.mesh import Mesh
from urst.errors import BadFile, BadMesh
from urst.formats import claims
from urst.formats.meshes import read_meshes
from urst.formats.trajectories import length, read_trajectories

#: keys that an animation may bring
MOST_KEYS = 5000
#: what reading ends in that the user is told of
ERRORS = {"BadFile": BadFile, "BadMesh": BadMesh}


def read(data: bytes, name: str, rate: float, folder: Path) -> list[dict]:
    """Read a file into a folder; return what is told of its parts.

    Raises
    ------
    BadFile, BadMesh
        If it cannot be read; the readers' many ways to fail all mean the same to who sent it.
    """
    try:
        return _read(data, name, rate, folder)
    except (BadFile, BadMesh, MemoryError):
        raise
    except Exception as error:
        raise BadFile(f"'{name}' is damaged ({type(error).__name__} in reading it): export it again.") from error


def _read(data: bytes, name: str, rate: float, folder: Path) -> list[dict[str, Any]]:
    found = read_meshes(data, name)
    if len(found) > claims.MOST_PARTS:
        raise BadMesh(
            f"'{name}' has {len(found):,} parts, more than {claims.MOST_PARTS:,}: join them before importing."
        )
    lasts = length(data, name)
    seconds = np.arange(min(MOST_KEYS, int(np.ceil(lasts * rate)) + 1)) / rate
    trajectories = read_trajectories(data, name, seconds) if lasts else {}
    parts = []
    for number, (part, mesh) in enumerate(found):
        trajectory = trajectories.get(part)
        motion = {}
        if trajectory:
            mesh = Mesh((mesh.vertices - trajectory.place) @ trajectory.turn, mesh.triangles)
            motion = {
                "places": trajectory.places,
                "turns": trajectory.turns,
                "place": trajectory.place,
                "turn": trajectory.turn,
            }
        arrays: dict[str, Any] = {"vertices": mesh.vertices, "triangles": mesh.triangles} | motion
        np.savez(folder / f"{number}.npz", **arrays)
        parts.append({"name": part, "fault": _fault(mesh), "moves": trajectory is not None})
    return parts


def _fault(mesh: Mesh) -> str:
    """Why a mesh is no sound solid, empty if it is one."""
    try:
        check_solid(mesh, "It")
    except BadMesh as error:
        return str(error)
    return ""


def main(words: list[str]) -> int:
    """Read a file into a folder, within so much memory.

    words : path, name, frames a second, folder, bytes
    """
    path, name, rate, folder, most = Path(words[0]), words[1], float(words[2]), Path(words[3]), int(words[4])
    resource.setrlimit(resource.RLIMIT_AS, (most, most))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    try:
        result: dict[str, Any] = {"parts": read(path.read_bytes(), name, rate, folder)}
    except (BadFile, BadMesh) as error:
        result = {"error": type(error).__name__, "message": str(error)}
    (folder / "result.json").write_text(json.dumps(result))
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
