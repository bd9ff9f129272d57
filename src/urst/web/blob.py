"""Arrays for the browser: 4 bytes header length, header JSON, then the arrays, each from a multiple of 4 bytes."""

import json
import struct

import numpy as np


def pack(arrays: dict[str, np.ndarray], meta: dict | None = None) -> bytes:
    """Return the bytes of named arrays."""
    entries, parts, at = [], [], 0
    for name, array in arrays.items():
        data = np.ascontiguousarray(array).tobytes()
        entries.append({"name": name, "type": array.dtype.name, "shape": array.shape, "at": at})
        pad = -len(data) % 4
        parts += [data, b"\0" * pad]
        at += len(data) + pad
    header = json.dumps({"meta": meta or {}, "arrays": entries}).encode()
    header += b" " * (-(len(header) + 4) % 4)
    return b"".join([struct.pack("<I", len(header)), header, *parts])
