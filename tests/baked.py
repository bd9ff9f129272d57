"""Bakes that tests share: what one of them has baked in a run, none bakes again."""

import atexit
import os
import shutil
import tempfile
from collections.abc import Iterable
from pathlib import Path

from urst.bake import runner
from urst.shot.document import Shot
from urst.shot.keys import layer_keys
from urst.shot.plan import plan
from urst.store.store import Store

#: names the folder that all processes of a run share; without it each has one of its own
FOLDER = "URST_TEST_BAKES"


class ReadOnly(Store):
    """A store that others read too."""

    def _refuse(self, *_, **__):
        raise AssertionError("other tests read this bake too: take a copy of it")

    _write = remove = write_beside = note_time = _refuse


def _root() -> Path:
    if FOLDER not in os.environ:
        os.environ[FOLDER] = folder = tempfile.mkdtemp()
        atexit.register(shutil.rmtree, folder, ignore_errors=True)
    return Path(os.environ[FOLDER])


def baked(shot: Shot, layers: Iterable[str] | None = None) -> Store:
    """Return a store, only to be read, that holds the bake of some layers of a shot and what they read; of all if None.

    Not for tests of baking itself, which would test nothing where it is there already.
    """
    runner.bake(shot, Store(_root()), None if layers is None else list(layers))
    return ReadOnly(_root())


def share(folder: str) -> None:
    """Let others have the bakes in a folder too."""
    shutil.copytree(folder, _root(), dirs_exist_ok=True)


def copied(shot: Shot, folder: Path | str, layers: Iterable[str] | None = None) -> Store:
    """Return a store of one's own in a folder that begins with the same bake and nothing else."""
    store, keys = baked(shot, layers), layer_keys(shot)
    for layer in {x for step in plan(shot, None if layers is None else list(layers)) for x in step.layers}:
        whole = store.folder(keys[layer])
        shutil.copytree(whole, Path(folder) / whole.relative_to(store.root), dirs_exist_ok=True)
    return Store(folder)
