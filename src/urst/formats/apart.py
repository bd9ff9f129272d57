"""Files from outside are read in a process of their own, bounded in memory and time, so that none can harm the one
that asked."""

import asyncio
import json
import os
import signal
import sys
import tempfile
from collections.abc import Awaitable, Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from urst.core.geometry.mesh import Mesh
from urst.errors import BadFile, Stopped
from urst.formats import apart_child
from urst.formats.trajectory import Trajectory

#: how long reading may take [s], and how much memory [bytes]
LONGEST, MOST_MEMORY = 90.0, 4 * 2**30
#: files that are read at the same time
_AT_ONCE = 2
#: how often who asked is asked whether they still wait [s]
_LOOK_EVERY = 0.25


@dataclass(frozen=True)
class Part:
    """A named group or node of a file."""

    name: str
    mesh: Mesh
    fault: str
    """why it is no closed, sound solid; empty if it is one"""
    trajectory: Trajectory | None
    """how it moves, if it does"""


_turns: dict[int, asyncio.Semaphore] = {}


def _turn() -> asyncio.Semaphore:
    """Those who wait to read wait in the loop they run in."""
    return _turns.setdefault(id(asyncio.get_running_loop()), asyncio.Semaphore(_AT_ONCE))


async def read(path: Path, name: str, rate: float, gone: Callable[[], Awaitable[bool]]) -> list[Part]:
    """Read a mesh file and how its parts move.

    path : where it lies
    name : as the user calls it
    rate : frames a second at which motion is read
    gone : whether who asked waits no longer

    Raises
    ------
    BadFile, BadMesh
        If it cannot be read, is no sound surface, or takes too long or too much memory.
    Stopped
        If who asked is gone.
    """
    async with _turn():
        with tempfile.TemporaryDirectory() as folder:
            words = [sys.executable, "-m", apart_child.__name__, str(path), name, repr(rate), folder, str(MOST_MEMORY)]
            env = os.environ | {"OPENBLAS_NUM_THREADS": "1", "OMP_NUM_THREADS": "1"}
            child = await asyncio.create_subprocess_exec(
                *words,
                env=env,
                stdout=asyncio.subprocess.DEVNULL,
                stderr=asyncio.subprocess.DEVNULL,
                start_new_session=True,
            )
            try:
                await _wait(child, name, gone)
            finally:
                if child.returncode is None:
                    os.killpg(child.pid, signal.SIGKILL)
                    await child.wait()
            return await asyncio.to_thread(_taken, Path(folder), name)


async def _wait(child: Any, name: str, gone: Callable[..., Any]) -> None:
    deadline = asyncio.get_running_loop().time() + LONGEST
    while True:
        try:
            await asyncio.wait_for(asyncio.shield(child.wait()), _LOOK_EVERY)
            return
        except TimeoutError:
            if await gone():
                raise Stopped(f"Reading '{name}' was stopped.") from None
            if asyncio.get_running_loop().time() > deadline:
                raise BadFile(
                    f"'{name}' takes longer than {LONGEST:g} s to read: reduce the mesh, or split it into several "
                    "files."
                ) from None


def _taken(folder: Path, name: str) -> list[Part]:
    """What the child has left."""
    result = folder / "result.json"
    if not result.is_file():
        raise BadFile(
            f"Reading '{name}' took more than {MOST_MEMORY / 2**30:g} GB of memory, or broke its reader: reduce the "
            "mesh or export it again."
        )
    said = json.loads(result.read_text())
    if "error" in said:
        raise apart_child.ERRORS[said["error"]](said["message"])
    parts = []
    for number, part in enumerate(said["parts"]):
        with np.load(folder / f"{number}.npz") as kept:
            trajectory = (
                Trajectory(**{n: kept[n] for n in ("place", "turn", "places", "turns")}) if part["moves"] else None
            )
            parts.append(Part(part["name"], Mesh(kept["vertices"], kept["triangles"]), part["fault"], trajectory))
    return parts
