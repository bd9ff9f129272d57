"""Frames for the browser on disk: converted once, when they are baked, and served as they are."""

from collections.abc import Callable
from pathlib import Path

from urst.drawn import codec, representations, still
from urst.errors import CacheDamaged
from urst.kinds.kind import Arrays, Kind
from urst.store.frames import write_whole
from urst.store.store import Store


def keep_frame(store: Store, kind: Kind, key: str, frame: int, arrays: Arrays) -> None:
    """Write what is drawn of a frame beside it, all its levels."""
    if kind.representation is None:
        return
    levels = representations.frame(kind.representation, kind.drawn(arrays))
    for level in reversed(range(len(levels))):
        out, meta = levels[level]
        data = codec.encode(out, meta | {"representation": kind.representation, "levels": len(levels), "level": level})
        store.write_beside(key, _name(frame, level), data)


def keep_static(store: Store, key: str, arrays: Arrays, meta: dict) -> None:
    """Write what is drawn of what does not change."""
    store.write_beside(key, "drawn.urd", codec.encode(*still.static(arrays, meta)))


def frame_file(store: Store, kind: Kind, key: str, frame: int, level: int = 0) -> Path:
    """Return the file of a frame, or of its coarsest level if there are not so many; one that is missing is made.

    Raises
    ------
    CacheDamaged
        If the frame itself is absent or damaged.
    """
    for again in (False, True):
        if again:
            keep_frame(store, kind, key, frame, store.read_frame(key, frame)[0])
        found = [store.path_beside(key, _name(frame, n)) for n in range(level, -1, -1)]
        path = next((p for p in found if p), None)
        if found[-1] and path and codec.is_whole(path):
            return path
    raise CacheDamaged(f"What is drawn of frame {frame} cannot be kept: look whether the disk is sound.")


def static_file(store: Store, key: str) -> Path:
    """Return the file of what does not change; one that is missing is made.

    Raises
    ------
    CacheDamaged
        If the result itself is absent or damaged.
    """
    found = store.path_beside(key, "drawn.urd")
    if found is None or not codec.is_whole(found):
        keep_static(store, key, *store.read_static(key))
        found = store.path_beside(key, "drawn.urd")
    assert found is not None
    return found


def set_file(store: Store, key: str, make: Callable[[], bytes]) -> Path:
    """Return the file of a set as it is drawn, under the key of what stands where; one that is missing is made."""
    path = store.root / "sets" / key[:2] / f"{key}.urd"
    if not path.is_file() or not codec.is_whole(path):
        path.parent.mkdir(parents=True, exist_ok=True)
        write_whole(path, make())
    return path


def _name(frame: int, level: int) -> str:
    return f"drawn{frame:06d}{f'.{level}' if level else ''}.urd"
