"""One file a frame: named arrays, compressed, checksummed, written whole or not at all.

Layout: 8 bytes magic, 4 bytes header length, header JSON, payloads, 16 bytes blake2b of all before. The header
holds `meta`, the file's place in the store, and for each array name, dtype, shape, and where its zstandard payload
lies. The same arrays, meta and place give the same bytes.
"""

import errno
import hashlib
import json
import os
import struct
import uuid
from pathlib import Path
from typing import Any

import numpy as np
import zstandard

from urst.errors import CacheDamaged, StoreFull

MAGIC = b"URSTFR1\n"
_DIGEST = 16
#: what a head that is not ours ends in
_ODD = (ValueError, KeyError, TypeError, AttributeError, RecursionError, MemoryError, struct.error, zstandard.ZstdError)


def encode(arrays: dict[str, np.ndarray], meta: dict, place: str = "") -> bytes:
    """Return the bytes of a frame file.

    Parameters
    ----------
    arrays : dict of arrays
    meta : dict
    place : str
        Key and name under which it is kept, by which one that was put into another's place is known; empty for what
        is kept by its content.
    """
    pack = zstandard.ZstdCompressor(level=3)
    entries, payloads, offset = [], [], 0
    for name, array in arrays.items():
        array = np.ascontiguousarray(array)
        data = pack.compress(array.tobytes())
        entries.append({"name": name, "dtype": array.dtype.str, "shape": array.shape, "at": offset, "size": len(data)})
        payloads.append(data)
        offset += len(data)
    header = json.dumps({"place": place, "meta": meta, "arrays": entries}, separators=(",", ":")).encode()
    body = b"".join([MAGIC, struct.pack("<I", len(header)), header, *payloads])
    return body + hashlib.blake2b(body, digest_size=_DIGEST).digest()


def check(data: bytes, source: str = "frame", place: str = "") -> None:
    """Look whether a frame file's bytes are what was written, and for this place, if one is named.

    Raises
    ------
    CacheDamaged
        If they are not.
    """
    if len(data) < 28 or data[:8] != MAGIC:
        raise CacheDamaged(f"{source} is not a frame file, or is cut short: bake this layer again.")
    if hashlib.blake2b(data[:-_DIGEST], digest_size=_DIGEST).digest() != data[-_DIGEST:]:
        raise CacheDamaged(f"{source} does not match its checksum, so the disk has changed it: bake this layer again.")
    try:
        _here(_head(data), source, place)
    except _ODD as error:
        raise CacheDamaged(f"{source} does not hold what its head says: bake this layer again.") from error


def _head(data: bytes) -> dict[str, Any]:
    (size,) = struct.unpack_from("<I", data, 8)
    return dict(json.loads(data[12 : 12 + size]))


def _here(head: dict[str, Any], source: str, place: str) -> None:
    """Refuse what was written for another place; files of earlier versions name none."""
    written = head.get("place", "")
    if place and written and written != place:
        raise CacheDamaged(f"{source} is the file of another place, {written}: bake this layer again.")


def decode(data: bytes, source: str = "frame", place: str = "") -> tuple[dict[str, np.ndarray], dict]:
    """Return (arrays, meta) of a frame file's bytes.

    Raises
    ------
    CacheDamaged
        If the bytes are not what was written, or were written for another place.
    """
    check(data, source, place)
    try:
        return _decoded(data)
    except _ODD as error:
        raise CacheDamaged(f"{source} does not hold what its head says: bake this layer again.") from error


def _decoded(data: bytes) -> tuple[dict[str, np.ndarray], dict[str, Any]]:
    (size,) = struct.unpack_from("<I", data, 8)
    header = _head(data)
    unpack = zstandard.ZstdDecompressor()
    arrays = {}
    for entry in header["arrays"]:
        start = 12 + size + entry["at"]
        shape = tuple(entry["shape"])
        raw = unpack.decompress(data[start : start + entry["size"]])
        arrays[entry["name"]] = np.frombuffer(raw, np.dtype(entry["dtype"])).reshape(shape).copy()
    return arrays, dict(header["meta"])


def read_gauges(path: Path) -> dict[str, float]:
    """Return the gauges in a frame's head without reading its arrays; the checksum is not looked at.

    Raises
    ------
    CacheDamaged
        If it has no head, or an odd one.
    """
    try:
        with open(path, "rb") as file:
            head = file.read(12)
            if len(head) < 12 or head[:8] != MAGIC:
                raise CacheDamaged(f"{path.name} is not a frame file, or is cut short: bake this layer again.")
            (size,) = struct.unpack_from("<I", head, 8)
            header = json.loads(file.read(size))
            _here(header, path.name, f"{path.parent.name}/{path.name}")
            gauges = header["meta"].get("gauges", {})
            return {str(name): float(value) for name, value in gauges.items()}
    except CacheDamaged:
        raise
    except (OSError, *_ODD) as error:
        raise CacheDamaged(f"{path.name} has no head that can be read: bake this layer again.") from error


def write_whole(path: Path, data: bytes) -> None:
    """Write a file so that it is there complete or not at all.

    Raises
    ------
    StoreFull
        If the disk has no room; what was there before is untouched.
    """
    part = path.with_name(f".{path.name}.{os.getpid()}.{uuid.uuid4().hex}.part")
    try:
        with open(part, "wb") as file:
            file.write(data)
            file.flush()
            os.fsync(file.fileno())
        os.replace(part, path)
    except OSError as error:
        part.unlink(missing_ok=True)
        if error.errno in (errno.ENOSPC, errno.EDQUOT):
            raise StoreFull(
                f"The disk has no room for {len(data) / 1e6:.1f} MB more: free some space, then bake again; "
                "the finished frames are kept."
            ) from error
        raise


def sweep(folder: Path) -> int:
    """Remove what writers that have ended left half-written in a folder; return how many files."""
    gone = 0
    for part in folder.glob(".*.part"):
        writer = part.name.split(".")[-3]
        if not (writer.isdigit() and Path(f"/proc/{writer}").exists()):
            part.unlink(missing_ok=True)
            gone += 1
    return gone
