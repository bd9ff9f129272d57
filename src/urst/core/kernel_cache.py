"""Compiled kernels kept beside the source, and forgotten when it changes.

Numba looks at the file that a kernel stands in alone; a kernel also holds what it took in from other files, so those
that its file imports count as well. What they all hold is part of the name under which a kernel is kept: an older one
may be of types that are no more, and would not even be readable.
"""

import ast
from contextlib import suppress
from functools import lru_cache
from hashlib import sha256
from pathlib import Path

from numba.core import caching

_SOURCE = Path(__file__).parents[2]
#: letters of a stamp in the name of a file
_MARK = 12


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


def _mark(path: Path) -> str:
    return f".{stamp(path).hex()[:_MARK]}"


class _OfImports:
    _py_file: str
    _lineno: int

    def get_source_stamp(self) -> bytes:
        return stamp(Path(self._py_file))

    def get_disambiguator(self) -> str:
        return f"{self._lineno}{_mark(Path(self._py_file))}"


class InFolderAskedFor(_OfImports, caching.UserProvidedCacheLocator):
    """In the folder that NUMBA_CACHE_DIR names."""


class BesideSource(_OfImports, caching.InTreeCacheLocator):
    """In `__pycache__` beside the source."""


class OfUser(_OfImports, caching.UserWideCacheLocator):
    """In the user's folder, where the source's cannot be written."""


LOCATORS = ",".join(f"{__name__}.{c.__name__}" for c in (InFolderAskedFor, BesideSource, OfUser))


def forget_old() -> None:
    """Remove kernels kept beside the source that are of another one."""
    for kept in _SOURCE.rglob("__pycache__/*.nb[ic]"):
        module = kept.parents[1] / f"{kept.name.split('.')[0]}.py"
        if not module.is_file() or f"{_mark(module)}.py" not in kept.name:
            # where the source may only be read they stay
            with suppress(OSError):
                kept.unlink()
