"""What mesh files claim to hold, held against how long they are before anything is made of it."""

import json
import re
import struct
from pathlib import PurePath
from typing import Any

from urst.core.checks.meshes import MOST_TRIANGLES
from urst.errors import BadFile, BadMesh

#: parts of one file at most
MOST_PARTS = 2000
#: numbers in an accessor of glTF by its kind, and bytes of each by the number it goes by (glTF 2.0, section 3.6.2)
_WIDE = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4, "MAT2": 4, "MAT3": 9, "MAT4": 16}
_BYTES = {5120: 1, 5121: 1, 5122: 2, 5123: 2, 5125: 4, 5126: 4}
#: JSON of a description goes so deep at most
_DEEP = 64


def check(data: bytes, name: str) -> None:
    """Refuse a file that claims more than it can hold, or more than is taken in.

    Raises
    ------
    BadFile, BadMesh
        With one sentence that says what it claims.
    """
    kind = PurePath(name).suffix.lower()
    if kind == ".gltf" or (kind == ".glb" and data[:4] == b"glTF"):
        _gltf(_description(data, name, kind), len(data), name)
    elif kind == ".ply":
        _ply(data, name)
    elif kind == ".stl" and len(data) > 84:
        count = int.from_bytes(data[80:84], "little")
        if count * 50 + 84 == len(data):
            _few(count, name)
    elif kind == ".obj":
        _few(data.count(b"\nf "), name)


def _few(count: int, name: str) -> None:
    if count > MOST_TRIANGLES:
        raise BadMesh(f"'{name}' has {count:,} triangles, more than {MOST_TRIANGLES:,}: reduce it before importing.")


def _description(data: bytes, name: str, kind: str) -> dict[str, Any]:
    try:
        text = data if kind == ".gltf" else data[20 : 20 + struct.unpack_from("<I", data, 12)[0]]
        _shallow(text, name)
        document = json.loads(text)
        if not isinstance(document, dict):
            raise ValueError("its description is no object")
        return document
    except (ValueError, struct.error) as error:
        raise BadFile(f"'{name}' cannot be read as glTF ({error}): export it again.") from error


def _shallow(text: bytes, name: str) -> None:
    """JSON that is nested without end ends its reader."""
    deep = most = 0
    for mark in re.finditer(rb"[\[\]{}]", text):
        deep += 1 if mark[0] in b"[{" else -1
        most = max(most, deep)
        if most > _DEEP:
            raise BadFile(f"'{name}' has a description nested more than {_DEEP} deep: export it again.")


def _gltf(document: dict[str, Any], size: int, name: str) -> None:
    try:
        elsewhere = [b["uri"] for b in document.get("buffers", []) if not b.get("uri", "data:").startswith("data:")]
        if elsewhere:
            raise BadFile(
                f"'{name}' keeps its points in another file ({elsewhere[0][:80]}): export it as .glb, with all in one."
            )
        views, accessors = document.get("bufferViews", []), document.get("accessors", [])
        for a in accessors:
            count = int(a["count"])
            need = count * _WIDE[a["type"]] * _BYTES[a["componentType"]]
            have = int(views[a["bufferView"]]["byteLength"]) if "bufferView" in a else size
            if need > have or have > max(size, _within(document)):
                raise BadFile(
                    f"'{name}' claims {count:,} numbers where it has {have:,} bytes and is {size:,} long: export it "
                    "again."
                )
        nodes, meshes = document.get("nodes", []), document.get("meshes", [])
        used = [n["mesh"] for n in nodes if "mesh" in n]
        each = [sum(_triangles(p, accessors) for p in m["primitives"]) for m in meshes]
        _few(sum(each[m] for m in used), name)
    except (BadFile, BadMesh):
        raise
    except (KeyError, IndexError, TypeError, ValueError, AttributeError) as error:
        raise BadFile(f"'{name}' cannot be read as glTF ({error!r}): export it again.") from error
    if len(used) > MOST_PARTS:
        raise BadMesh(f"'{name}' has {len(used):,} parts, more than {MOST_PARTS:,}: join them before importing.")


def _triangles(primitive: dict[str, Any], accessors: list[dict[str, Any]]) -> int:
    of = primitive["indices"] if "indices" in primitive else primitive["attributes"]["POSITION"]
    return int(accessors[of]["count"]) // 3


def _within(document: dict[str, Any]) -> int:
    """Bytes that the description itself carries, as text."""
    return sum(len(str(b.get("uri", ""))) for b in document.get("buffers", []))


def _ply(data: bytes, name: str) -> None:
    head, found, _ = data[:65536].partition(b"end_header")
    if not found:
        raise BadFile(f"'{name}' cannot be read as PLY: its header does not end. Export it again.")
    counts = {m[1]: int(m[2]) for m in re.finditer(rb"element\s+(\w+)\s+(\d{1,18})", head)}
    _few(counts.get(b"face", 0), name)
    # the shortest point is three numbers of two letters each, or of a byte
    if 3 * counts.get(b"vertex", 0) > len(data) or 3 * counts.get(b"face", 0) > len(data):
        raise BadFile(
            f"'{name}' claims {max(counts.values()):,} entries and is {len(data):,} bytes long: export it again."
        )
