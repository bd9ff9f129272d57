"""Arrays as browsers take them: quantised, their bytes shuffled, compressed with zstandard.

Layout: 8 bytes magic, 4 bytes header length, header JSON padded to a multiple of 4, payloads. The header holds `meta`
and for each array its name, type, shape, bounds if it is quantised, and where its payload lies. A payload is one
zstandard frame of the array's bytes put plane by plane: all first bytes, then all second bytes, and so on.
"""

import json
import struct
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import zstandard

MAGIC = b"URSTDR1\n"
_STEPS = 65535


@dataclass(frozen=True)
class Quantised:
    """Numbers as 16-bit steps between bounds, one pair for each column."""

    steps: np.ndarray
    """(n, c) uint16"""
    low: np.ndarray
    """(c,) float"""
    high: np.ndarray
    """(c,) float"""

    def values(self) -> np.ndarray:
        """Return the numbers, (n, c) float64."""
        return self.low + self.steps / _STEPS * (self.high - self.low)


def quantised(values: np.ndarray) -> Quantised:
    """Return numbers (n, c) as 16-bit steps within their own bounds: off by at most half a step."""
    values = np.asarray(values, float)
    empty = np.zeros(values.shape[1])
    low, high = (values.min(axis=0), values.max(axis=0)) if len(values) else (empty, empty)
    span = np.where(high > low, high - low, 1.0)
    return Quantised(np.rint((values - low) / span * _STEPS).astype(np.uint16), low, high)


def encode(arrays: dict[str, np.ndarray | Quantised], meta: dict) -> bytes:
    """Return the bytes of named arrays; the same arrays give the same bytes."""
    pack = zstandard.ZstdCompressor(level=3)
    entries, payloads, at = [], [], 0
    for name, given in arrays.items():
        array = np.ascontiguousarray(given.steps if isinstance(given, Quantised) else given)
        planes = array.reshape(-1).view(np.uint8).reshape(-1, array.itemsize).T
        data = pack.compress(np.ascontiguousarray(planes).tobytes())
        entry = {"name": name, "type": array.dtype.name, "shape": array.shape, "at": at, "size": len(data)}
        if isinstance(given, Quantised):
            entry |= {"low": [float(x) for x in given.low], "high": [float(x) for x in given.high]}
        entries.append(entry)
        payloads.append(data)
        at += len(data)
    header = json.dumps({"meta": meta, "arrays": entries}, separators=(",", ":")).encode()
    header += b" " * (-len(header) % 4)
    return b"".join([MAGIC, struct.pack("<I", len(header)), header, *payloads])


def is_whole(path: Path) -> bool:
    """Whether a file is as long as its header says, so that one that was cut short is made anew."""
    with open(path, "rb") as file:
        head = file.read(12)
        if head[:8] != MAGIC or len(head) < 12:
            return False
        (size,) = struct.unpack_from("<I", head, 8)
        try:
            entries = json.loads(file.read(size))["arrays"]
        except ValueError:
            return False
        return path.stat().st_size == 12 + size + sum(e["size"] for e in entries)


def decode(data: bytes) -> tuple[dict[str, np.ndarray | Quantised], dict]:
    """Return (arrays, meta), the way back.

    Raises
    ------
    ValueError
        If the bytes are none that `encode` gave.
    """
    if data[:8] != MAGIC:
        raise ValueError("these are no arrays for a browser")
    (size,) = struct.unpack_from("<I", data, 8)
    header = json.loads(data[12 : 12 + size])
    unpack, found = zstandard.ZstdDecompressor(), {}
    for entry in header["arrays"]:
        start, dtype = 12 + size + entry["at"], np.dtype(entry["type"])
        planes = np.frombuffer(unpack.decompress(data[start : start + entry["size"]]), np.uint8)
        array = planes.reshape(dtype.itemsize, -1).T.copy().view(dtype).reshape(entry["shape"])
        found[entry["name"]] = (
            Quantised(array, np.array(entry["low"]), np.array(entry["high"])) if "low" in entry else array
        )
    return found, header["meta"]
