"""The store: every layer's result in a folder named by its content key."""

import contextlib
import hashlib
import json
import os
import re
import shutil
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from urst.errors import CacheDamaged
from urst.store import frames, lease, proof
from urst.store.lease import Lease

_KEY = re.compile(r"^[0-9a-f]{40}$")
_FRAME = re.compile(r"^frame(-?\d+)\.urf$")
_CHECKPOINT = re.compile(r"^checkpoint(-?\d+)\.urf$")


@dataclass(frozen=True)
class Usage:
    """What a key holds on disk."""

    frames: int
    bytes: int


class Store:
    """Results on disk under one root folder.

    A key's folder holds `static.urf` (what does not change over time), `frame000012.urf` for each frame,
    beside it what is drawn of it (`.urd`, made from it and no part of the result), `checkpoint000008.urf` to resume
    from, and `times.jsonl`, how long frames took, which is no part of the result.
    """

    def __init__(self, root: Path | str) -> None:
        self.root = Path(root)
        self._place = str(self.root)

    def folder(self, key: str) -> Path:
        """Return the folder of a key; keys are checked, so that no path leaves the store."""
        if not _KEY.match(key):
            raise ValueError(f"'{key}' is not a content key")
        return self.root / key[:2] / key

    def _write(self, key: str, name: str, arrays: dict[str, np.ndarray], meta: dict[str, Any]) -> int:
        folder = self.folder(key)
        folder.mkdir(parents=True, exist_ok=True)
        data = frames.encode(arrays, meta, f"{key}/{name}")
        frames.write_whole(folder / name, data)
        proof.note(folder / name)
        return len(data)

    def _read(self, key: str, name: str) -> tuple[dict[str, np.ndarray], dict[str, Any]]:
        path = self.folder(key) / name
        try:
            data = path.read_bytes()
        except FileNotFoundError as error:
            raise CacheDamaged(f"{name} is not in the store: bake this layer again.") from error
        except OSError as error:
            raise CacheDamaged(
                f"{name} cannot be read ({error.strerror}): look at the store's disk, then bake this layer again."
            ) from error
        try:
            return frames.decode(data, name, f"{key}/{name}")
        except CacheDamaged:
            # a damaged file counts as absent from now on, so that the next bake replaces it
            path.unlink(missing_ok=True)
            raise

    def write_static(self, key: str, arrays: dict[str, np.ndarray], meta: dict) -> int:
        """Write what does not change over time; return its size [bytes]."""
        return self._write(key, "static.urf", arrays, meta)

    def read_static(self, key: str) -> tuple[dict[str, np.ndarray], dict]:
        """Return (arrays, meta)."""
        return self._read(key, "static.urf")

    def has_static(self, key: str) -> bool:
        """Whether the static part is there."""
        return (self.folder(key) / "static.urf").is_file()

    def static_gauges(self, key: str) -> dict[str, float]:
        """Return the gauges of what does not change over time, without reading its arrays."""
        with contextlib.suppress(CacheDamaged):
            return frames.read_gauges(self.folder(key) / "static.urf")
        return {}

    def changed(self, key: str) -> int:
        """Return when a file last came to a key's folder or went [ns since 1970], 0 if there is none."""
        # asked for hundreds of keys at a time, so without paths as objects
        if not _KEY.match(key):
            raise ValueError(f"'{key}' is not a content key")
        try:
            return os.stat(f"{self._place}/{key[:2]}/{key}").st_mtime_ns
        except FileNotFoundError:
            return 0

    def write_frame(self, key: str, frame: int, arrays: dict[str, np.ndarray], meta: dict) -> int:
        """Write a frame; return its size [bytes]."""
        return self._write(key, f"frame{frame:06d}.urf", arrays, meta)

    def read_frame(self, key: str, frame: int) -> tuple[dict[str, np.ndarray], dict]:
        """Return (arrays, meta) of a frame.

        Raises
        ------
        CacheDamaged
            If it is absent or damaged; a damaged file is removed.
        """
        return self._read(key, f"frame{frame:06d}.urf")

    def read_gauges(self, key: str, wanted: list[int] | None = None) -> dict[int, dict[str, float]]:
        """Return the gauges of all frames that are there, or of the wanted among them."""
        gauges = {}
        for frame in self.frames(key) if wanted is None else wanted:
            with contextlib.suppress(CacheDamaged):
                gauges[frame] = frames.read_gauges(self.folder(key) / f"frame{frame:06d}.urf")
        return gauges

    def frames(self, key: str) -> list[int]:
        """Return the numbers of the frames that are there, rising."""
        return sorted(self._numbers(key, _FRAME))

    def _numbers(self, key: str, pattern: Any) -> list[int]:
        folder = self.folder(key)
        if not folder.is_dir():
            return []
        return [int(m[1]) for m in map(pattern.match, (p.name for p in folder.iterdir())) if m]

    def write_checkpoint(self, key: str, frame: int, state: dict[str, np.ndarray]) -> None:
        """Write a solver's state after a frame, and drop all but the last two."""
        self._write(key, f"checkpoint{frame:06d}.urf", state, {})
        for old in sorted(self._numbers(key, _CHECKPOINT))[:-2]:
            (self.folder(key) / f"checkpoint{old:06d}.urf").unlink(missing_ok=True)

    def read_checkpoint(self, key: str, at_most: int) -> tuple[int, dict[str, np.ndarray]] | None:
        """Return (frame, state) of the latest sound checkpoint not after `at_most`."""
        for frame in sorted(self._numbers(key, _CHECKPOINT), reverse=True):
            if frame <= at_most:
                with contextlib.suppress(CacheDamaged):
                    return frame, self._read(key, f"checkpoint{frame:06d}.urf")[0]
        return None

    def claim(
        self, key: str, check_cancelled: Callable[[], None] = lambda: None
    ) -> contextlib.AbstractContextManager[Lease]:
        """Hold a key for baking, on whatever machine, once nobody else does; see `lease.held`.

        Parameters
        ----------
        key : str
        check_cancelled : callable
            Called while another holds it; what it raises ends the wait.
        """
        return lease.held(self.folder(key), check_cancelled)

    @staticmethod
    def key_of(arrays: dict[str, np.ndarray], text: str) -> str:
        """Return the content key of arrays and a text."""
        whole = hashlib.blake2b(text.encode(), digest_size=20)
        for name in sorted(arrays):
            whole.update(f"{name} {arrays[name].shape} {arrays[name].dtype}".encode())
            whole.update(np.ascontiguousarray(arrays[name]).tobytes())
        return whole.hexdigest()

    def write_start(self, key: str, state: dict[str, np.ndarray]) -> None:
        """Write a state that solvers may begin from."""
        self._write(key, "start.urf", state, {})

    def read_start(self, key: str) -> dict[str, np.ndarray] | None:
        """Return such a state, None if there is none or it is damaged."""
        try:
            return self._read(key, "start.urf")[0]
        except CacheDamaged:
            return None

    def note_time(self, key: str, frame: int, seconds: float) -> None:
        """Note how long a frame took."""
        with open(self.folder(key) / "times.jsonl", "a") as file:
            file.write(json.dumps([frame, round(seconds, 4)]) + "\n")

    def seconds_per_frame(self, key: str) -> float | None:
        """Return the mean of the noted times, None if there are none."""
        path = self.folder(key) / "times.jsonl"
        times = []
        if path.is_file():
            for line in path.read_text(errors="replace").splitlines():
                with contextlib.suppress(ValueError, TypeError, LookupError, RecursionError):
                    times.append(float(json.loads(line)[1]))
        return float(np.mean(times)) if times else None

    def usage(self, key: str) -> Usage:
        """Return what a key's results hold."""
        folder, size = self.folder(key), 0
        for path in folder.iterdir() if folder.is_dir() else ():
            # a worker may finish or drop a file at this very moment
            with contextlib.suppress(FileNotFoundError):
                size += path.stat().st_size if path.suffix in (".urf", ".urd") else 0
        return Usage(len(self.frames(key)), size)

    def clear_damaged(self, key: str, numbers: Iterable[int] | None = None, *, fully: bool = False) -> list[str]:
        """Remove what is not as it was written, so that it counts as absent; return the names of those files.

        key : str
        numbers : of the frames that are looked at beside what does not change; all, and what bakes go on from, if left
        out
        fully : look at every checksum, also of files that have not changed since they were seen to be sound
        """
        folder = self.folder(key)
        if not folder.is_dir():
            return []
        frames.sweep(folder)
        if numbers is None:
            names = sorted(p.name for p in folder.glob("*.urf"))
        else:
            names = ["static.urf", *(f"frame{n:06d}.urf" for n in numbers)]
        found = proof.damaged(folder, names, fully=fully)
        for name in found:
            path = folder / name
            shutil.rmtree(path) if path.is_dir() else path.unlink(missing_ok=True)
        return found

    def keys(self) -> list[str]:
        """Return all keys in the store."""
        return sorted(p.name for p in self.root.glob("??/*") if _KEY.match(p.name))

    def write_beside(self, key: str, name: str, data: bytes) -> None:
        """Write a file that is no part of the result, such as a picture of it, beside a key's results."""
        frames.write_whole(self.folder(key) / name, data)

    def path_beside(self, key: str, name: str) -> Path | None:
        """Return where such a file lies, None if it does not."""
        path = self.folder(key) / name
        return path if path.is_file() else None

    def remove(self, key: str) -> None:
        """Delete a key's folder."""
        shutil.rmtree(self.folder(key), ignore_errors=True)

    def free_bytes(self) -> int:
        """Return the free space on the store's disk."""
        self.root.mkdir(parents=True, exist_ok=True)
        return shutil.disk_usage(self.root).free
