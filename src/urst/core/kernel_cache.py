"""Compiled kernels kept beside the source, and forgotten when it changes.

Numba looks at the file that a kernel stands in alone; a kernel also holds what it took in from other files, so those
that its file imports count as well.
"""

import ast
from functools import lru_cache
from hashlib import sha256
from pathlib import Path

from numba.core import caching

_SOURCE = Path(__file__).parents[2]


def _file(module: str) -> Path | None:
    path = _SOURCE.joinpath(*module.split("."))
    return next((f for f in (path.with_suffix(".py"), path / "__init__.py") if f.is_file()), None)


@lru_cache(None)
def _imported(path: Path) -> set[Path]:
    """The files of this project that a file imports."""
    found = set()
    for node in ast.walk(ast.parse(path.read_bytes())):
        names = []
        if isinstance(node, ast.Import):
            names = [n.name for n in node.names]
        elif isinstance(node, ast.ImportFrom) and node.module and not node.level:
            names = [node.module, *(f"{node.module}.{n.name}" for n in node.names)]
        found |= {file for name in names if (file := _file(name))}
    return found


@lru_cache
def _sources(path: Path) -> frozenset[Path]:
    """A file and all those of this project that it imports, directly or not."""
    found, left = set(), {path}
    while left:
        file = left.pop()
        found.add(file)
        left |= _imported(file) - found
    return frozenset(found)


@lru_cache
def stamp(path: Path) -> bytes:
    """Return what changes with a file (any Python source) or with one of this project that it imports."""
    digest = sha256()
    for file in sorted(_sources(path)):
        digest.update(file.read_bytes())
    return digest.digest()


class _OfImports:
    _py_file: str

    def get_source_stamp(self) -> bytes:
        return stamp(Path(self._py_file))


class InFolderAskedFor(_OfImports, caching.UserProvidedCacheLocator):
    """In the folder that NUMBA_CACHE_DIR names."""


class BesideSource(_OfImports, caching.InTreeCacheLocator):
    """In `__pycache__` beside the source."""


class OfUser(_OfImports, caching.UserWideCacheLocator):
    """In the user's folder, where the source's cannot be written."""


LOCATORS = ",".join(f"{__name__}.{c.__name__}" for c in (InFolderAskedFor, BesideSource, OfUser))
