"""Meshes in the store, each once, under the hash of its content."""

import re
from pathlib import Path

from urst.core.geometry.mesh import Mesh, key_of
from urst.errors import CacheDamaged
from urst.store import frames

_KEY = re.compile(r"^[0-9a-f]{40}$")


class Meshes:
    """The meshes of a store: `meshes/ab/abcd....urm` under its root, written whole or not at all."""

    def __init__(self, root: Path | str) -> None:
        self.root = Path(root) / "meshes"

    def _path(self, key: str) -> Path:
        if not _KEY.match(key):
            raise ValueError(f"'{key}' is not a content key")
        return self.root / key[:2] / f"{key}.urm"

    def write(self, key: str, mesh: Mesh) -> None:
        """Keep a mesh; one that is there already is left alone."""
        path = self._path(key)
        if path.is_file():
            return
        path.parent.mkdir(parents=True, exist_ok=True)
        arrays = {"vertices": mesh.vertices.astype("<f8"), "triangles": mesh.triangles.astype("<i4")}
        frames.write_whole(path, frames.encode(arrays, {}))

    def read(self, key: str) -> Mesh | None:
        """Return a mesh, None if it is not there or damaged; a damaged file is removed, so that it can be brought
        again."""
        path = self._path(key)
        try:
            arrays, _ = frames.decode(path.read_bytes(), path.name)
        except FileNotFoundError:
            return None
        except CacheDamaged:
            path.unlink(missing_ok=True)
            return None
        mesh = Mesh(arrays["vertices"].astype(float), arrays["triangles"].astype("int64"))
        if key_of(mesh) != key:
            # whole, and another mesh than its name says
            path.unlink(missing_ok=True)
            return None
        return mesh

    def clear_damaged(self) -> list[str]:
        """Remove meshes that are not as they were written, or not under their own hash; return their keys."""
        found = []
        for path in sorted(self.root.glob("??/*.urm")):
            if _KEY.match(path.stem) and self.read(path.stem) is None:
                found.append(path.stem)
        return found
