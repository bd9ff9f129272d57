"""Server and worker: starting them, watching them, ending them and nothing else."""

import contextlib
import json
import os
import signal
import subprocess
import time
import urllib.request
from pathlib import Path

from launch import database
from launch.place import DATA, LOGS, PYTHON, ROOT, RUNNING, Failure, free_port, remember, say


def _born(pid: int) -> str | None:
    """When a process was started, so that a number used again is not mistaken for it."""
    try:
        return Path(f"/proc/{pid}/stat").read_text().rsplit(")", 1)[1].split()[19]
    except (OSError, IndexError):
        return None


def running() -> dict | None:
    """What runs from this checkout, None if nothing does."""
    with contextlib.suppress(FileNotFoundError, ValueError):
        record = json.loads(RUNNING.read_text())
        if _born(record["pid"]) == record["born"]:
            return record
    return None


def child_environment(address: str) -> dict:
    """Environment of everything that runs Urst's code."""
    return os.environ | {"URST_DATABASE": address, "URST_STORE": str(DATA / "store"), "PYTHONUNBUFFERED": "1"}


def urst(*words: str, env: dict) -> int:
    """Run one of Urst's own commands to its end."""
    return subprocess.run([str(PYTHON), "-m", "urst.cli", *words], env=env, cwd=ROOT).returncode


def _spawn(name: str, words: list[str], env: dict) -> subprocess.Popen:
    LOGS.mkdir(parents=True, exist_ok=True)
    with open(LOGS / f"{name}.log", "ab") as log:
        return subprocess.Popen(
            [str(PYTHON), "-m", "urst.cli", *words], env=env, cwd=ROOT, stdout=log, stderr=log,
            stdin=subprocess.DEVNULL, start_new_session=True,
        )  # fmt: skip


def _wait_for(port: int, server: subprocess.Popen) -> None:
    deadline = time.monotonic() + 60
    while time.monotonic() < deadline:
        if server.poll() is not None:
            raise Failure(f"the server ended at once: see {LOGS / 'server.log'}")
        with contextlib.suppress(OSError):
            urllib.request.urlopen(f"http://127.0.0.1:{port}/alive", timeout=2).read()
            return
        time.sleep(0.2)
    raise Failure(f"the server did not answer within a minute: see {LOGS / 'server.log'}")


def serve(*, load_demo: bool) -> None:
    """Run everything in the foreground until Ctrl-C, `stop`, or the end of the server."""
    already = running()
    if already:
        say(f"already running at http://127.0.0.1:{already['port']}/")
        return
    ended = []
    for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
        signal.signal(number, lambda *_: ended.append(1))
    children: dict[str, subprocess.Popen] = {}
    try:
        address = database.start()
        env = child_environment(address)
        if urst("migrate", env=env):
            raise Failure("the database could not be brought up to date: the lines above say why")
        port = free_port(remember().get("port", 8620))
        remember(port=port)
        if load_demo and urst("load-demo", "--bake", env=env):
            raise Failure("the demo shots could not be loaded: the lines above say why")
        children["server"] = _spawn("server", ["serve", "--port", str(port)], env)
        children["worker"] = _spawn("worker", ["worker"], env)
        RUNNING.write_text(json.dumps({"pid": os.getpid(), "born": _born(os.getpid()), "port": port}))
        _wait_for(port, children["server"])
        say(f"open http://127.0.0.1:{port}/    (Ctrl-C or ./urst stop ends it)")
        while not ended:
            time.sleep(0.3)
            if children["server"].poll() is not None:
                raise Failure(f"the server ended: see {LOGS / 'server.log'}")
            if children["worker"].poll() is not None:
                say("the worker ended and is started again")
                time.sleep(1.0)
                children["worker"] = _spawn("worker", ["worker"], env)
    finally:
        say("stopping")
        for child in children.values():
            with contextlib.suppress(ProcessLookupError):
                child.terminate()
        for child in children.values():
            try:
                child.wait(timeout=8)
            except subprocess.TimeoutExpired:
                child.kill()
                child.wait()
        database.stop()
        RUNNING.unlink(missing_ok=True)


def stop() -> None:
    """End what runs from this checkout."""
    record = running()
    if not record:
        database.stop()
        say("nothing was running")
        return
    os.kill(record["pid"], signal.SIGTERM)
    deadline = time.monotonic() + 30
    while _born(record["pid"]) == record["born"] and time.monotonic() < deadline:
        time.sleep(0.2)
    say("stopped" if _born(record["pid"]) != record["born"] else "is still stopping; look again in a moment")
