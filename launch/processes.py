"""Server and worker: starting them, watching them, ending them and nothing else."""

import contextlib
import ctypes
import fcntl
import json
import os
import signal
import subprocess
import time
import urllib.request
from pathlib import Path

from launch import database, passphrase
from launch.place import DATA, LOGS, PYTHON, ROOT, RUNNING, Failure, free_port, remember, say

#: prctl's name for the signal that a process gets when its parent ends
_PARENT_DEATH_SIGNAL = 1
#: what lives shorter than this ended at once [s], and how often that is borne
_AT_ONCE, _TRIES = 10.0, 3
#: how long the server may take to answer first [s]
_PATIENCE = 60.0
#: how often the database is looked after [s]
_LOOK_EVERY = 2.0


def _born(pid: int) -> str | None:
    """When a process was started, so that a number used again is not mistaken for it; None if it has ended."""
    try:
        state, *rest = Path(f"/proc/{pid}/stat").read_text().rsplit(")", 1)[1].split()
    except (OSError, ValueError):
        return None
    # one that nobody has fetched the end of is listed still
    return None if state in "ZX" else rest[18]


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


def _end_with_parent() -> None:
    """Let the kernel end this process when the launcher ends, however that does."""
    ctypes.CDLL(None).prctl(_PARENT_DEATH_SIGNAL, signal.SIGTERM)


def _spawn(name: str, words: list[str], env: dict) -> subprocess.Popen:
    LOGS.mkdir(parents=True, exist_ok=True)
    with open(LOGS / f"{name}.log", "ab") as log:
        return subprocess.Popen(
            [str(PYTHON), "-m", "urst.cli", *words],
            env=env,
            cwd=ROOT,
            stdout=log,
            stderr=log,
            stdin=subprocess.DEVNULL,
            start_new_session=True,
            preexec_fn=_end_with_parent,
        )


def _clear_away() -> None:
    """End what a launcher that was killed has left behind."""
    with contextlib.suppress(FileNotFoundError, ValueError, KeyError):
        left = [(x["pid"], x["born"]) for x in json.loads(RUNNING.read_text())["children"]]
        for number, patience in ((signal.SIGTERM, 8.0), (signal.SIGKILL, 2.0)):
            for pid, born in left:
                if _born(pid) == born:
                    say("ending what an earlier start left behind")
                    os.kill(pid, number)
            deadline = time.monotonic() + patience
            while any(_born(pid) == born for pid, born in left) and time.monotonic() < deadline:
                time.sleep(0.1)


def _note(port: int, children: dict[str, subprocess.Popen]) -> None:
    """Write down what runs, for the next command."""
    mine = {"pid": os.getpid(), "born": _born(os.getpid()), "port": port}
    RUNNING.write_text(
        json.dumps(mine | {"children": [{"pid": c.pid, "born": _born(c.pid)} for c in children.values()]})
    )


def _answers(host: str, port: int) -> bool:
    with contextlib.suppress(OSError):
        urllib.request.urlopen(f"http://{host}:{port}/alive", timeout=2).read()
        return True
    return False


def serve(*, load_demo: bool, host: str = "127.0.0.1", port: int | None = None) -> None:
    """Run everything in the foreground until Ctrl-C or `stop`; what ends by itself is started again."""
    already = running()
    if already:
        say(f"already running at http://127.0.0.1:{already['port']}/")
        return
    DATA.mkdir(parents=True, exist_ok=True)
    # held for as long as this process lives
    lock = open(DATA / "lock", "w")
    try:
        fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError as error:
        raise Failure("another ./urst start is under way: wait for it to say where it is open") from error
    ended = []
    for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
        signal.signal(number, lambda *_: ended.append(1))
    children: dict[str, subprocess.Popen] = {}
    _clear_away()
    try:
        secret = passphrase.needed(host)
        env = child_environment(database.start()) | ({"URST_PASSPHRASE": str(secret)} if secret else {})
        if urst("migrate", env=env):
            raise Failure("the database could not be brought up to date: the lines above say why")
        port = _port(port)
        remember(port=port)
        if load_demo and urst("load-demo", "--bake", env=env):
            raise Failure("the demo shots could not be loaded: the lines above say why")
        words = {"server": ["serve", "--port", str(port), "--host", host], "worker": ["worker"]}
        for name in words:
            children[name] = _spawn(name, words[name], env)
        _note(port, children)
        _watch(ended, children, words, env, host, port)
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


def _port(wanted: int | None) -> int:
    """The port that is asked for, or the one of before if it is free."""
    if wanted is None:
        return free_port(remember().get("port", 8620))
    if not 1 <= wanted <= 65535:
        raise Failure(f"port {wanted} is none: name one from 1 to 65535")
    if free_port(wanted) != wanted:
        raise Failure(f"port {wanted} is taken: end what uses it, or name another with --port")
    return wanted


def _watch(ended: list, children: dict, words: dict, env: dict, host: str, port: int) -> None:
    """Say when it can be opened, and start again what ends, until told to end; what ends again and again at once is
    given up."""
    shown = "127.0.0.1" if host in passphrase.LOOPBACK else host
    asked, deadline = "127.0.0.1" if host == "0.0.0.0" else host, time.monotonic() + _PATIENCE
    begun = {name: time.monotonic() for name in children}
    at_once, looked = dict.fromkeys(children, 0), time.monotonic()
    opened = False
    while not ended:
        time.sleep(0.3)
        if not opened and _answers(asked, port):
            opened = True
            say(f"open http://{shown}:{port}/    (Ctrl-C or ./urst stop ends it)")
        if not opened and time.monotonic() > deadline:
            raise Failure(f"the server did not answer within a minute: see {LOGS / 'server.log'}")
        for name, child in children.items():
            if child.poll() is None:
                continue
            lived = time.monotonic() - begun[name]
            at_once[name] = at_once[name] + 1 if lived < _AT_ONCE else 0
            # without a worker the pages are there all the same
            if name == "server" and at_once[name] >= _TRIES:
                raise Failure(f"the {name} ends as soon as it is started: see {LOGS / f'{name}.log'}")
            say(f"the {name} ended and is started again")
            time.sleep(min(1.0 + at_once[name], 5.0))
            children[name], begun[name] = _spawn(name, words[name], env), time.monotonic()
            _note(port, children)
        if time.monotonic() - looked > _LOOK_EVERY:
            looked = time.monotonic()
            if not database.runs():
                say("the database ended and is started again")
                database.again()


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
