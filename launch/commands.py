"""The commands of `./urst`."""

import argparse
import os
import subprocess
import sys
from collections.abc import Callable

from launch import database, install, passphrase, processes
from launch.place import DATA, PYTHON, ROOT, Failure, check_data, say

HELP = """usage: ./urst COMMAND

  demo          set up what is missing, load the demo shots, start, queue the demo's bake
  start         set up what is missing and start server and worker; with demo and start:
                  --port N      the port, 8620 if it is free
                  --host H      the address, 127.0.0.1; at another one a passphrase is asked for
  passphrase    set or change that passphrase
  stop          end what this checkout started
  lint          check style and types of the code
  test [fast]   set up what is missing and run every test (fast: only those without browser and database)
  bake FILE.shot.json --out DIR      bake a file; needs no database and no server
  export FILE.shot.json --store DIR --out DIR      write a baked shot in open formats
  check         look at every checksum of what is baked; what is damaged is removed, to be baked again
  worker        one more worker on the running database
  screenshots   make docs/screenshots/ anew from the demo
  bench         run the benchmarks
  soak          run faults and kills for so many minutes

URST_DATA names the folder of the database and of what is baked; else it is .urst in the checkout.
"""


def _set_up(*, tests: bool = False, kernels: bool = False) -> None:
    install.packages(tests=tests)
    install.environment()
    if kernels:
        install.kernels()


def _test(words: list[str]) -> int:
    _set_up(tests=True, kernels=True)
    env = os.environ.copy()
    if "fast" not in words:
        was_running = processes.running()
        env = processes.child_environment(database.start("urst_test"))
        env["URST_STORE"] = str(DATA / "test-store")
        if processes.urst("migrate", env=env):
            raise Failure("the database could not be brought up to date: the lines above say why")
    try:
        return subprocess.run([str(PYTHON), "-m", "tests", *words], cwd=ROOT, env=env).returncode
    finally:
        if "fast" not in words and not was_running:
            database.stop()


def _lint() -> int:
    _set_up()
    install.script_checks()
    checks = (["ruff", "check", "-q"], ["ruff", "format", "--check", "-q"], ["mypy"])
    of_code = [subprocess.run([str(PYTHON), "-m", *words], cwd=ROOT).returncode for words in checks]
    return max(*of_code, subprocess.run(["npm", "run", "--silent", "lint"], cwd=ROOT).returncode)


def _where(command: str, words: list[str]) -> argparse.Namespace:
    """Where the application is to be reached."""
    parser = argparse.ArgumentParser(prog=f"./urst {command}")
    parser.add_argument("--host", default="127.0.0.1")
    parser.add_argument("--port", type=int)
    return parser.parse_args(words)


def _serve(command: str, words: list[str]) -> int:
    _set_up()
    options = _where(command, words)
    processes.serve(load_demo=command == "demo", host=options.host, port=options.port)
    return 0


def _passphrase() -> int:
    _set_up()
    passphrase.put()
    say("kept; it is asked for from the next start on")
    return 0


def _stop() -> int:
    processes.stop()
    return 0


def _urst(*words: str, **variables: str) -> int:
    _set_up()
    return processes.urst(*words, env=os.environ | variables)


def _worker(words: list[str]) -> int:
    _set_up()
    env = os.environ.copy()
    if "--database" not in words:
        env = processes.child_environment(database.start())
    return processes.urst("worker", *words, env=env)


def _module(*words: str, tests: bool = False, of_database: str = "") -> int:
    """Run a module of the checkout, if wanted on a database of its own."""
    _set_up(tests=tests, kernels=True)
    env = os.environ.copy()
    if of_database:
        env = processes.child_environment(database.start(of_database))
        processes.urst("migrate", env=env)
    try:
        return subprocess.run([str(PYTHON), "-m", *words], cwd=ROOT, env=env).returncode
    finally:
        if of_database and not processes.running():
            database.stop()


def _help() -> int:
    print(HELP, end="")
    return 0


def _action(command: str, rest: list[str]) -> Callable[[], int] | None:
    """What a command does, None if there is no such command."""
    browser = rest == ["browser"]
    bench = lambda: _module("benchmarks.browser", tests=True, of_database="urst_test")  # noqa: E731
    actions: dict[str, Callable[[], int]] = {
        "demo": lambda: _serve(command, rest),
        "start": lambda: _serve(command, rest),
        "passphrase": _passphrase,
        "stop": _stop,
        "lint": _lint,
        "test": lambda: _test(rest),
        "bake": lambda: _urst(command, *rest),
        "export": lambda: _urst(command, *rest),
        "schema": lambda: _urst(command, *rest),
        "check": lambda: _urst(command, *rest, URST_STORE=str(DATA / "store")),
        "worker": lambda: _worker(rest),
        "screenshots": lambda: _module("docs.make_screenshots", tests=True, of_database="urst_pictures"),
        "soak": lambda: _module("benchmarks.soak", *rest, tests=True),
        "bench": bench if browser else lambda: _module("benchmarks", *rest),
        "help": _help,
        "--help": _help,
        "-h": _help,
    }
    return actions.get(command)


def main(words: list[str]) -> int:
    """Run a command; return its exit status."""
    command, rest = (words[0], words[1:]) if words else ("--help", [])
    action = _action(command, rest)
    if action is None:
        print(HELP, end="", file=sys.stderr)
        return 2
    try:
        if action is not _help:
            check_data()
        return action()
    except Failure as failure:
        say(str(failure))
        return 1
    except KeyboardInterrupt:
        return 130
