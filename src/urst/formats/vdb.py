"""OpenVDB, through the child process of Debian's Python that has the library; arrays go over as files."""

import subprocess
import tempfile
from pathlib import Path
from typing import Any

import numpy as np

from urst.errors import BadFile

_SYSTEM_PYTHON = "/usr/bin/python3"
_CHILD = Path(__file__).with_name("vdb_child.py")


def _child(*words: str) -> None:
    done = subprocess.run([_SYSTEM_PYTHON, str(_CHILD), *words], capture_output=True, text=True)
    if done.returncode:
        last = (done.stderr.strip().splitlines() or ["no reason given"])[-1]
        raise BadFile(f"OpenVDB could not be used ({last}): install Debian's python3-openvdb and try again.")


def write(jobs: list[tuple[dict[str, np.ndarray], Path]], origin: tuple[float, float, float], cell: float) -> None:
    """Write grids by name, one file for each job; cell centres lie half a cell in from `origin` [m].

    Parameters
    ----------
    jobs : list of (dict, Path)
        Grids (nx, ny, nz), or (nx, ny, nz, 3) where they are vectors. One called `levels` is written as a level set
        called `surface` [m], all others as volumes.
    origin : (3,) float [m]
    cell : float [m]
    """
    with tempfile.TemporaryDirectory() as folder:
        words: list[str] = []
        for number, (grids, path) in enumerate(jobs):
            source = Path(folder, f"{number}.npz")
            named: dict[str, Any] = {name: x.astype(np.float32) for name, x in grids.items()}
            np.savez(source, **named)
            words += [str(source), str(path.resolve())]
        _child("write", repr(cell), *(repr(o) for o in origin), *words)


def read(path: Path, shape: tuple[int, ...], name: str) -> tuple[np.ndarray, dict]:
    """Read back a grid and {'cell', 'origin'}, through the same library.

    Parameters
    ----------
    path : Path
    shape : tuple of int
        Three numbers, and 3 after these for a grid of vectors.
    name : str
        As in `write`.
    """
    with tempfile.TemporaryDirectory() as folder:
        target = Path(folder, "out.npz")
        _child("read", name, str(path.resolve()), str(target), *map(str, shape))
        data = np.load(target)
        return data["values"], {"cell": float(data["cell"]), "origin": data["origin"]}
