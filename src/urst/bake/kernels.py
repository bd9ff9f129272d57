"""Kernels compiled kind by kind, by rehearsing each, before a bake needs them, in processes of their own, two at a
time.

Which kinds are compiled is remembered beside the compiled code, so that it is forgotten with it and with every change
of the source. A bake that comes first compiles what it needs by itself; nothing depends on this but the wait.
"""

import atexit
import contextlib
import logging
import os
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable, Iterable
from functools import lru_cache
from hashlib import sha256
from pathlib import Path

import numba

from urst import core
from urst.bake.runner import bake
from urst.core import kernel_cache
from urst.kinds.rehearsal import rehearsals
from urst.shot.document import parse
from urst.store.store import Store

log = logging.getLogger("urst.kernels")

#: processes that compile side by side
ABREAST = 2
#: seconds between looks at whether they are done
_LOOK = 0.2
_SOURCE = Path(core.__path__[0])

#: told what is waited for, how many kinds are compiled, and of how many
Report = Callable[[str, int, int], None]


@lru_cache
def _source() -> str:
    digest = sha256(numba.__version__.encode())
    for path in sorted(_SOURCE.rglob("*.py")):
        digest.update(path.read_bytes())
    return digest.hexdigest()[:20]


def _mark(name: str) -> Path:
    folder = Path(getattr(numba.config, "CACHE_DIR", "") or _SOURCE / "__pycache__")
    return folder / f"compiled-{name}-{rehearsals()[name].version}-{_source()}"


def compiled(name: str) -> bool:
    """Whether a rehearsal's kernels are compiled; what rehearses nothing always is."""
    return name not in rehearsals() or _mark(name).exists()


def rehearse(name: str) -> None:
    """Compile the kernels of a rehearsal in this process, by baking it."""
    with tempfile.TemporaryDirectory() as folder:
        bake(parse(rehearsals()[name].document), Store(folder))
    mark = _mark(name)
    mark.parent.mkdir(parents=True, exist_ok=True)
    mark.touch()


def end_with(parent: int) -> None:
    """End this process soon after the one that started it, whose number `parent` is, however that ends."""

    def watch() -> None:
        while os.getppid() == parent:
            time.sleep(_LOOK)
        os._exit(1)

    threading.Thread(target=watch, name="parent", daemon=True).start()


class Compiler:
    """Compiles rehearsals in the background, in the order in which they are asked for."""

    def __init__(self) -> None:
        self._all = rehearsals()
        self._wanted: list[str] = []
        self._running: dict[str, subprocess.Popen] = {}
        self._over: set[str] = set()
        self._lock = threading.Lock()
        self._thread: threading.Thread | None = None

    def ask(self, names: Iterable[str] | None = None) -> None:
        """Have some rehearsals compiled before others, and those they build on, or all; returns at once."""
        with self._lock:
            known = [n for n in (self._all if names is None else names) if n in self._all]
            first = [each for n in known for each in (*self._all[n].after, n) if not compiled(each)]
            order = (self._wanted, first) if names is None else (first, self._wanted)
            self._wanted = list(dict.fromkeys([*order[0], *order[1]]))
            if self._wanted and not (self._thread and self._thread.is_alive()):
                self._thread = threading.Thread(target=self._work, name="kernels", daemon=True)
                self._thread.start()

    def wait(
        self, names: Iterable[str] | None, report: Report, check_cancelled: Callable[[], None] = lambda: None
    ) -> None:
        """Wait until some rehearsals are compiled.

        Parameters
        ----------
        names : kinds, or COUPLED; all if None
        report : called when what is waited for changes
        check_cancelled : called now and then; what it raises ends the wait
        """
        names = list(self._all if names is None else names)
        last = None
        while True:
            left = [n for n in names if n not in self._over and not compiled(n)]
            if not left:
                return
            # asked again each time, in case the thread was just about to end
            self.ask(left)
            with self._lock:
                done, total = len(self._over), len(self._wanted)
            if (left[0], done) != last:
                last = left[0], done
                report(self._all[left[0]].title, done, total)
            check_cancelled()
            threading.Event().wait(_LOOK)

    def _work(self) -> None:
        atexit.register(self.stop)
        while True:
            with self._lock:
                for name, process in list(self._running.items()):
                    if process.poll() is not None:
                        if process.returncode:
                            log.warning("kernels failed", extra={"action": "compile", "of": name})
                        self._over.add(name)
                        del self._running[name]
                left = [n for n in self._wanted if n not in self._over]
                ready = [n for n in left if n not in self._running and not set(self._all[n].after) & set(left)]
                for name in ready[: ABREAST - len(self._running)]:
                    command = [sys.executable, "-m", "urst.cli", "warm", "--under", str(os.getpid()), name]
                    self._running[name] = subprocess.Popen(command, stdout=subprocess.DEVNULL)
                if not left:
                    kernel_cache.forget_old()
                    return
            threading.Event().wait(_LOOK)

    def stop(self) -> None:
        """End what still compiles."""
        for process in list(self._running.values()):
            with contextlib.suppress(ProcessLookupError):
                process.terminate()
