"""OpenVDB, through the child process of Debian's Python that has the library; arrays go over as files."""

import subprocess
import tempfile
from pathlib import Path

import numpy as np

from urst.errors import BadFile

_SYSTEM_PYTHON = "/usr/bin/python3"
_CHILD = Path(__file__).with_name("vdb_child.py")


def _child(*words: str) -> None:
    done = subprocess.run([_SYSTEM_PYTHON, str(_CHILD), *words], capture_output=True, text=True)
    if done.returncode:
        last = (done.stderr.strip().splitlines() or ["no reason given"])[-1]
        raise BadFile(f"OpenVDB could not be used ({last}): install Debian's python3-openvdb and try again.")


def write(jobs: list[tuple[np.ndarray, Path]], origin: tuple[float, float, float], cell: float, name: str) -> None:
    """Write grids (nx, ny, nz) float32, one file each; cell centres lie half a cell in from `origin` [m].

    name : `density`, a fog volume [kg/m3], or `levels`, a level set [m] whose grid is called `surface`
    """
    with tempfile.TemporaryDirectory() as folder:
        words: list[str] = []
        for number, (density, path) in enumerate(jobs):
            source = Path(folder, f"{number}.npy")
            np.save(source, density.astype(np.float32))
            words += [str(source), str(path.resolve())]
        _child("write", name, repr(cell), *(repr(o) for o in origin), *words)


def read(path: Path, shape: tuple[int, int, int], name: str) -> tuple[np.ndarray, dict]:
    """Read back a grid and {'cell', 'origin'}, through the same library.

    name : as in `write`
    """
    with tempfile.TemporaryDirectory() as folder:
        target = Path(folder, "out.npz")
        _child("read", name, str(path.resolve()), str(target), *map(str, shape))
        data = np.load(target)
        return data["values"], {"cell": float(data["cell"]), "origin": data["origin"]}
