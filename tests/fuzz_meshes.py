"""Reads mesh files with something wrong in them, within bounds, and tells how that went: `python -m tests.fuzz_meshes
SEED NUMBER`."""

import json
import random
import resource
import sys
import tempfile
import time
from pathlib import Path

import numpy as np
import trimesh
from pxr import Usd, UsdGeom

from tests import fuzz
from urst.core.geometry import generators
from urst.errors import BadFile, BadMesh
from urst.formats import apart_child
from urst.formats.surfaces import write_mesh

#: one may take so long [s]
SLOW = 20.0


def sources(folder: Path) -> dict[str, bytes]:
    """Sound files of each kind."""
    ball = generators.ball(0.5, 6)[0]
    arrays = {
        "position": ball.vertices,
        "normal": ball.vertices,
        "velocity": 0.0 * ball.vertices,
        "triangles": ball.triangles,
    }
    found = {}
    for kind in ("ply", "obj", "glb"):
        write_mesh(folder / f"ball.{kind}", arrays)
        found[f"ball.{kind}"] = (folder / f"ball.{kind}").read_bytes()
    plain = trimesh.Trimesh(ball.vertices, ball.triangles, process=False)
    found |= {"ball.stl": plain.export(file_type="stl"), "words.stl": plain.export(file_type="stl_ascii").encode()}
    for kind in ("usda", "usdc"):
        stage = Usd.Stage.CreateNew(str(folder / f"ball.{kind}"))
        mesh = UsdGeom.Mesh.Define(stage, "/Ball")
        mesh.CreatePointsAttr(ball.vertices.astype(np.float32))
        mesh.CreateFaceVertexCountsAttr([3] * len(ball.triangles))
        mesh.CreateFaceVertexIndicesAttr(ball.triangles.ravel().tolist())
        stage.Save()
        found[f"ball.{kind}"] = (folder / f"ball.{kind}").read_bytes()
    return found


def main(seed: int, number: int) -> dict:
    """Read so many files; tell how many were taken and refused, and what else came of any."""
    resource.setrlimit(resource.RLIMIT_AS, (4 * 2**30, 4 * 2**30))
    rng, taken, refused, faults = random.Random(seed), 0, 0, []
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        sound = sources(folder)
        for n in range(number):
            file = rng.choice(sorted(sound))
            data, began = fuzz.mesh(sound[file], rng), time.monotonic()
            try:
                apart_child.read(data, file, 24.0, folder)
                taken += 1
            except (BadFile, BadMesh) as error:
                refused += 1
                if not str(error).endswith("."):
                    faults.append([n, file, str(error)[:200]])
            except Exception as error:
                faults.append([n, file, repr(error)[:200]])
            if time.monotonic() - began > SLOW:
                faults.append([n, file, "slow"])
    return {"taken": taken, "refused": refused, "faults": faults}


if __name__ == "__main__":
    print(json.dumps(main(int(sys.argv[1]), int(sys.argv[2]))))
