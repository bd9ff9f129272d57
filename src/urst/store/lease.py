"""A key is baked by one process at a time, on whatever machine: the baker holds a lease, a file that it keeps touching.

Machines that share a store need no common clock: ages are by the file system's own.
"""

import contextlib
import os
import threading
import time
import uuid
from collections.abc import Callable, Iterator
from pathlib import Path

from urst.errors import StoreFailed

#: seconds between signs of life, and without one after which a holder counts as dead
BEAT, DEAD_AFTER = 4.0, 20.0
#: seconds between looks at whether a lease that somebody else holds has ended
_LOOK = 0.25
_NAME = "lease"


class Lease:
    """A lease that is held; `check` it within long work."""

    def __init__(self, path: Path, token: str) -> None:
        self.path, self.token = path, token
        self._ended = threading.Event()
        self._lost = False
        self._thread = threading.Thread(target=self._beat, name="lease", daemon=True)
        self._thread.start()

    def _beat(self) -> None:
        while not self._ended.wait(BEAT):
            try:
                self._lost = self.path.read_text() != self.token
                os.utime(self.path)
            except OSError:
                self._lost = not self.path.exists()
            if self._lost:
                return

    def check(self) -> None:
        """Raise if another has taken it, since this process gave no sign of life for too long.

        Raises
        ------
        StoreFailed
        """
        if self._lost:
            raise StoreFailed(
                "Another process has taken over this bake, since this one gave no sign of life for too long: "
                "the finished frames are kept; bake again."
            )

    def release(self) -> None:
        """End it."""
        self._ended.set()
        self._thread.join()
        with contextlib.suppress(OSError):
            if self.path.read_text() == self.token:
                self.path.unlink()


@contextlib.contextmanager
def held(folder: Path, check_cancelled: Callable[[], None]) -> Iterator[Lease]:
    """Hold the lease of a folder, once nobody else does.

    Parameters
    ----------
    folder : Path
        Of a key; made if it is not there.
    check_cancelled : callable
        Called while another holds it; what it raises ends the wait.

    Raises
    ------
    OSError
        If the folder cannot be written to.
    """
    folder.mkdir(parents=True, exist_ok=True)
    path, token = folder / _NAME, f"{os.uname().nodename} {os.getpid()} {uuid.uuid4().hex}"
    while not _taken(path, token):
        check_cancelled()
        time.sleep(_LOOK)
    lease = Lease(path, token)
    try:
        yield lease
    finally:
        lease.release()


def _taken(path: Path, token: str) -> bool:
    """Take a lease if it is free or its holder is dead; whether that went well."""
    try:
        with open(path, "x") as file:
            file.write(token)
        return True
    except FileExistsError:
        pass
    probe = path.with_name(f"{_NAME}.{uuid.uuid4().hex}")
    try:
        probe.touch()
        age = probe.stat().st_mtime - path.stat().st_mtime
    except FileNotFoundError:
        # its holder has ended it just now
        return False
    finally:
        probe.unlink(missing_ok=True)
    if age > DEAD_AFTER:
        # only one of those who see this moves it away; then all try anew
        with contextlib.suppress(FileNotFoundError):
            os.rename(path, probe)
            probe.unlink(missing_ok=True)
    return False
