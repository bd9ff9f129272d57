"""Meshes by the hash of their content: the document names them, a library keeps them."""

from typing import Protocol

from urst.core.geometry.mesh import Mesh, key_of
from urst.errors import BadFile


class Library(Protocol):
    """Where meshes lie."""

    def write(self, key: str, mesh: Mesh) -> None:
        """Keep a mesh."""

    def read(self, key: str) -> Mesh | None:
        """Return a mesh, None if it is not there."""


class Memory:
    """Meshes of this process alone."""

    def __init__(self) -> None:
        self._kept: dict[str, Mesh] = {}

    def write(self, key: str, mesh: Mesh) -> None:
        """Keep a mesh."""
        self._kept[key] = mesh

    def read(self, key: str) -> Mesh | None:
        """Return a mesh, None if it is not there."""
        return self._kept.get(key)


_in_use: list[Library] = [Memory()]


def use(library: Library) -> None:
    """Let a library be the process's own; until then meshes are kept in memory."""
    _in_use[0] = library


def put(mesh: Mesh) -> str:
    """Keep a mesh; return its key."""
    key = key_of(mesh)
    _in_use[0].write(key, mesh)
    return key


def get(key: str, source: str = "") -> Mesh:
    """Return a mesh.

    Raises
    ------
    BadFile
        If it is not there.
    """
    mesh = _in_use[0].read(key)
    if mesh is None:
        raise BadFile(
            f"The mesh '{source or key[:8]}' is not in the store: import its file again, or open an exported shot, "
            "which brings it along."
        )
    return mesh


def has(key: str) -> bool:
    """Whether a mesh is there, and sound."""
    return _in_use[0].read(key) is not None
