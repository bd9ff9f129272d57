"""A running server and worker for the tests, on a store of their own and the tests' database."""

import contextlib
import os
import signal
import socket
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import httpx
from sqlalchemy import text

from urst.db import shots
from urst.db.engine import engine, session
from urst.scene import library
from urst.store.meshes import Meshes


def wait_for(condition, what: str, seconds: float = 30):
    """Return the first true value of a condition, or fail saying what was waited for."""
    deadline = time.monotonic() + seconds
    while time.monotonic() < deadline:
        value = condition()
        if value:
            return value
        time.sleep(0.05)
    raise AssertionError(f"waited {seconds:g} s for {what}")


class Live:
    """Server and worker as processes; use it in a `with`."""

    def __init__(self, *, server: bool = True, worker: bool = True):
        self.wants = (server, worker)
        self.processes: dict[str, subprocess.Popen] = {}

    def __enter__(self) -> "Live":
        self._folder = tempfile.TemporaryDirectory(ignore_cleanup_errors=True)
        self.store = Path(self._folder.name) / "store"
        self.store.mkdir()
        library.use(Meshes(self.store))
        with engine().begin() as connection:
            connection.execute(text("TRUNCATE shots, bakes, holdings, workers CASCADE"))
            connection.execute(text("TRUNCATE procrastinate_jobs CASCADE"))
        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            self.port = probe.getsockname()[1]
        self.base = f"http://127.0.0.1:{self.port}"
        if self.wants[1]:
            self.start("worker")
        if self.wants[0]:
            self.start("serve", "--port", str(self.port))
            wait_for(self._answers, "the server")
        self.client = httpx.Client(base_url=self.base, headers={"accept": "application/json"}, timeout=90)
        return self

    def _answers(self):
        with contextlib.suppress(httpx.TransportError):
            return httpx.get(f"{self.base}/alive", timeout=2).status_code == 200

    def start(self, name: str, *words: str, command: str = "") -> subprocess.Popen:
        """Start one of Urst's own processes, under a name other than its command if wanted.

        The store is all that they share: each has a scratch folder of its own, as on machines apart.
        """
        scratch = Path(self._folder.name) / f"{name}-scratch"
        scratch.mkdir(exist_ok=True)
        env = os.environ | {"URST_STORE": str(self.store), "TMPDIR": str(scratch)}
        log = open(Path(self._folder.name) / f"{name}.log", "ab")
        process = subprocess.Popen(
            [sys.executable, "-m", "urst.cli", command or name, *words], env=env, stdout=log, stderr=log
        )
        log.close()
        self.processes[name] = process
        return process

    def kill(self, name: str) -> None:
        """End a process as a crash would."""
        self.processes[name].send_signal(signal.SIGKILL)
        self.processes[name].wait()

    def log(self, name: str) -> str:
        """Return what a process has logged."""
        return (Path(self._folder.name) / f"{name}.log").read_text()

    def add(self, shot) -> str:
        """Keep a shot; return its id."""
        with session() as db:
            return shots.add(db, shot)

    def state(self, shot_id: str, quality: str = "shot") -> dict:
        """Return what the bench would be told."""
        reply = self.client.get(f"/shots/{shot_id}/state", params={"quality": quality})
        reply.raise_for_status()
        return reply.json()

    def bake(self, shot_id: str, layer: str, seconds: float = 120, **fields) -> dict:
        """Bake a layer and what depends on it to the end; return the state after, of the quality that was baked."""
        reply = self.client.post(f"/shots/{shot_id}/bake/{layer}", data=fields)
        reply.raise_for_status()
        quality = fields.get("quality", "shot")
        return wait_for(
            lambda: (s := self.state(shot_id, quality)) and not s["runs"] and s, f"the bake of {layer}", seconds
        )

    def __exit__(self, *_):
        self.client.close()
        for process in self.processes.values():
            if process.poll() is None:
                process.terminate()
        for process in self.processes.values():
            with contextlib.suppress(subprocess.TimeoutExpired):
                process.wait(timeout=10)
            if process.poll() is None:
                process.kill()
                process.wait()
        engine().dispose()
        library.use(library.Memory())
        self._folder.cleanup()
