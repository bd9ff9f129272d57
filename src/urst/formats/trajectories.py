"""Reading how the parts of a file move, at moments: the animations of glTF here, USD in its own module."""

import base64
import binascii
import json
import struct
from pathlib import PurePath
from typing import Any

import numpy as np
from scipy.spatial.transform import Rotation

from urst.errors import BadFile
from urst.formats import usd_in
from urst.formats.trajectory import UPRIGHT, Trajectory, trajectory

#: of the numbers in an accessor: their type, and what a whole one of them stands for (glTF 2.0, sections 3.6.2 and
#: 3.11)
_NUMBERS = {
    5126: ("<f4", 1.0),
    5120: ("<i1", 127.0),
    5121: ("<u1", 255.0),
    5122: ("<i2", 32767.0),
    5123: ("<u2", 65535.0),
}
_WIDE = {"SCALAR": 1, "VEC3": 3, "VEC4": 4}
#: what a description that is not as it should be ends in
_UNREADABLE = (KeyError, IndexError, TypeError, ValueError, AttributeError)


def length(data: bytes, name: str) -> float:
    """Return how long the animations of a file last [s]; 0 for one that has none."""
    if _is_usd(name):
        return usd_in.length(data, name)
    document, chunk = _document(data, name)
    try:
        ends = [
            float(_numbers(document, chunk, sampler["input"], name).max(initial=0.0))
            for animation in document.get("animations", [])
            for sampler in animation["samplers"]
        ]
        if not np.isfinite(ends).all():
            raise ValueError("a key has no finite time")
    except _UNREADABLE as error:
        raise _unreadable(name, error) from error
    return max(ends, default=0.0)


def read_trajectories(data: bytes, name: str, seconds: np.ndarray) -> dict[str, Trajectory]:
    """Return the ways of the nodes with meshes that move, by the name of each.

    Parameters
    ----------
    data, name
        The file; one of another kind moves nothing.
    seconds : (k,) float
        Moments, from the start of the animations; before and after these all stand still.

    Raises
    ------
    BadFile
        If the animations cannot be read.
    """
    if _is_usd(name):
        return usd_in.trajectories(data, name, seconds)
    document, chunk = _document(data, name)
    nodes = document.get("nodes", [])
    moved: dict[tuple[int, str], np.ndarray] = {}
    try:
        for animation in document.get("animations", []):
            for channel in animation["channels"]:
                target, sampler = channel["target"], animation["samplers"][channel["sampler"]]
                if "node" in target and target["path"] in ("translation", "rotation", "scale"):
                    keys, values = (_numbers(document, chunk, sampler[k], name) for k in ("input", "output"))
                    moved[target["node"], target["path"]] = _sampled(
                        seconds, keys.ravel(), values, sampler.get("interpolation", "LINEAR"), target["path"]
                    )
        parent = {child: n for n, node in enumerate(nodes) for child in node.get("children", [])}
        found = {}
        for n, node in enumerate(nodes):
            chain = [n]
            while chain[-1] in parent and len(chain) <= len(nodes):
                chain.append(parent[chain[-1]])
            if "mesh" not in node or not any((k, path) in moved for k in chain for path in ("translation", "rotation")):
                continue
            rest, now = np.eye(4)[None], np.tile(np.eye(4), (len(seconds), 1, 1))
            for k in reversed(chain):
                rest = rest @ _matrices(nodes[k], {}, 1)
                mine = {path: moved[k, path] for path in ("translation", "rotation", "scale") if (k, path) in moved}
                now = now @ _matrices(nodes[k], mine, len(seconds))
            found[node.get("name") or f"node {n}"] = trajectory(rest[0], now, UPRIGHT)
        return found
    except _UNREADABLE as error:
        raise _unreadable(name, error) from error


def _is_usd(name: str) -> bool:
    return PurePath(name).suffix.lower().lstrip(".") in usd_in.KINDS


def _unreadable(name: str, error: Any) -> BadFile:
    return BadFile(f"'{name}' has animations that cannot be read ({error}): export it again, or without them.")


def _document(data: bytes, name: str) -> tuple[dict[str, Any], bytes]:
    """The file's description and its binary part."""
    kind = PurePath(name).suffix.lower()
    if kind not in (".glb", ".gltf"):
        return {}, b""
    try:
        if kind == ".gltf":
            return json.loads(data), b""
        size = struct.unpack_from("<I", data, 12)[0]
        rest = data[20 + size :]
        return json.loads(data[20 : 20 + size]), rest[8 : 8 + struct.unpack_from("<I", rest)[0]] if len(
            rest
        ) >= 8 else b""
    except (ValueError, struct.error) as error:
        raise BadFile(f"'{name}' cannot be read as glTF ({error}): export it again.") from error


def _numbers(document: dict[str, Any], chunk: bytes, accessor: int, name: str) -> np.ndarray:
    """The numbers of an accessor, (count, wide) float64."""
    a = document["accessors"][accessor]
    view = document["bufferViews"][a["bufferView"]]
    uri = document["buffers"][view.get("buffer", 0)].get("uri")
    if uri is not None:
        head, _, body = uri.partition(",")
        if not head.startswith("data:"):
            raise BadFile(
                f"'{name}' keeps its animations in '{uri[:80]}', another file: export it as .glb, with all in one."
            )
        try:
            chunk = base64.b64decode(body)
        except binascii.Error as error:
            raise BadFile(f"'{name}' has a damaged buffer ({error}): export it again.") from error
    kind, whole = _NUMBERS[a["componentType"]]
    wide, size = _WIDE[a["type"]], np.dtype(kind).itemsize
    begin, step = view.get("byteOffset", 0) + a.get("byteOffset", 0), view.get("byteStride") or wide * size
    if a["count"] * step > len(chunk) - begin + step - wide * size:
        raise ValueError("the file is cut short")
    rows = np.ndarray((a["count"], wide), kind, chunk, begin, (step, size))
    return np.maximum(rows.astype(float) / whole, -1.0) if whole > 1.0 else rows.astype(float)


def _sampled(seconds: np.ndarray, keys: np.ndarray, values: np.ndarray, mode: str, path: str) -> np.ndarray:
    """The values of a sampler at moments (glTF 2.0, appendix C)."""
    at = np.clip(seconds, keys[0], keys[-1])
    k = np.clip(np.searchsorted(keys, at, side="right") - 1, 0, max(0, len(keys) - 2))
    after = np.minimum(k + 1, len(keys) - 1)
    span = np.where(keys[after] > keys[k], keys[after] - keys[k], 1.0)
    t = ((at - keys[k]) / span)[:, None]
    if mode == "CUBICSPLINE":
        into, value, out = values.reshape(len(keys), 3, -1).transpose(1, 0, 2)
        d = span[:, None]
        return (
            (2 * t**3 - 3 * t**2 + 1) * value[k]
            + (t**3 - 2 * t**2 + t) * d * out[k]
            + (3 * t**2 - 2 * t**3) * value[after]
            + (t**3 - t**2) * d * into[after]
        )
    a, b = values[k], values[after]
    if mode == "STEP":
        return np.where(t < 1.0, a, b)
    if path != "rotation":
        return (1 - t) * a + t * b
    first = Rotation.from_quat(a)
    return (first * Rotation.from_rotvec(t * (first.inv() * Rotation.from_quat(b)).as_rotvec())).as_quat()


def _matrices(node: dict[str, Any], moved: dict[str, np.ndarray], count: int) -> np.ndarray:
    """What a node does to what is below it, (count, 4, 4)."""
    if "matrix" in node and not moved:
        return np.tile(np.array(node["matrix"], float).reshape(4, 4).T, (count, 1, 1))
    found = np.tile(np.eye(4), (count, 1, 1))
    turn = moved.get("rotation", np.tile(np.array(node.get("rotation", (0, 0, 0, 1)), float), (count, 1)))
    size = moved.get("scale", np.tile(np.array(node.get("scale", (1, 1, 1)), float), (count, 1)))
    found[:, :3, :3] = Rotation.from_quat(turn).as_matrix() * size[:, None, :]
    found[:, :3, 3] = moved.get("translation", np.tile(np.array(node.get("translation", (0, 0, 0)), float), (count, 1)))
    return found
