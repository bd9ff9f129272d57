"""Meshes as text within a file."""

import base64
import zlib

import numpy as np

from urst.core.checks.meshes import MOST_TRIANGLES
from urst.core.geometry.mesh import Mesh
from urst.errors import BadFile

#: bytes that a mesh may have unfolded
_MOST = 3 * 8 * 3 * MOST_TRIANGLES


def pack(mesh: Mesh) -> tuple[str, str]:
    """Return vertices and triangles as base64 of zlib of float64 and int32, little endian."""
    return _text(mesh.vertices.astype("<f8")), _text(mesh.triangles.astype("<i4"))


def _text(array: np.ndarray) -> str:
    return base64.b64encode(zlib.compress(np.ascontiguousarray(array).tobytes(), 6)).decode()


def _bytes(text: str) -> bytes:
    """What was packed; a text that unfolds to more than any mesh is not unfolded."""
    unfold = zlib.decompressobj()
    data = unfold.decompress(base64.b64decode(text), _MOST)
    if unfold.unconsumed_tail:
        raise ValueError(f"it unfolds to more than {_MOST // 2**20} MB")
    if not unfold.eof:
        raise ValueError("it is cut short")
    return data


def unpack(vertices: str, triangles: str, source: str) -> Mesh:
    """Return the mesh that was packed.

    Raises
    ------
    BadFile
        If the text is damaged.
    """
    try:
        points = np.frombuffer(_bytes(vertices), "<f8").reshape(-1, 3)
        corners = np.frombuffer(_bytes(triangles), "<i4").reshape(-1, 3)
    except (ValueError, zlib.error) as error:
        raise BadFile(f"The mesh under '{source}' is damaged ({error}): import the file again.") from error
    if len(corners) and not 0 <= corners.min() <= corners.max() < len(points):
        raise BadFile(f"The mesh under '{source}' is damaged (a triangle names no point): import the file again.")
    return Mesh(points.astype(float), corners.astype(np.int64))
