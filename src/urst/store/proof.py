"""What is known to be sound on disk: files whose checksum was seen to be right, known again by their size and when
they changed."""

import contextlib
import json
from pathlib import Path

from urst.errors import CacheDamaged
from urst.store import frames

_INDEX = "sound.jsonl"


def note(path: Path) -> None:
    """Note that a file is sound as it is now."""
    with contextlib.suppress(FileNotFoundError):
        line = json.dumps([path.name, *_state(path)])
        with open(path.parent / _INDEX, "a") as file:
            file.write(line + "\n")


def damaged(folder: Path, names: list[str], *, fully: bool = False) -> list[str]:
    """Return which files of a folder are not what was written; those that are known to be sound and have not changed
    since are believed.

    folder : of one key
    names : of files in it
    fully : believe none, and look at every checksum
    """
    known = {} if fully else _known(folder)
    found = []
    for name in names:
        path = folder / name
        with contextlib.suppress(FileNotFoundError):
            if known.get(name) == _state(path):
                continue
            try:
                frames.check(path.read_bytes(), name, f"{folder.name}/{name}")
            except (CacheDamaged, IsADirectoryError):
                found.append(name)
            else:
                note(path)
    return found


def _state(path: Path) -> list[int]:
    stat = path.stat()
    return [stat.st_size, stat.st_mtime_ns]


def _known(folder: Path) -> dict[str, list[int]]:
    found = {}
    with contextlib.suppress(FileNotFoundError):
        for line in (folder / _INDEX).read_text(errors="replace").splitlines():
            # a line that a crash cut short says nothing
            with contextlib.suppress(ValueError, TypeError, RecursionError):
                name, *state = json.loads(line)
                found[name] = state
    return found
