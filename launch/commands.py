"""The commands of `./urst`."""

import argparse
import os
import subprocess
import sys

from launch import database, install, passphrase, processes
from launch.place import DATA, PYTHON, ROOT, Failure, say

HELP = """usage: ./urst COMMAND

  demo          set up what is missing, load the demo shots, start, queue the demo's bake
  start         set up what is missing and start server and worker; with demo and start:
                  --port N      the port, 8620 if it is free
                  --host H      the address, 127.0.0.1; at another one a passphrase is asked for
  passphrase    set or change that passphrase
  stop          end what this checkout started
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


def _where(command: str, words: list[str]) -> argparse.Namespace:
    """Where the application is to be reached."""
    parser = argparse.ArgumentParser(prog=f"./urst {command}")
    parser.add_argument("--host", default="127.0.0.1")
    parser.add_argument("--port", type=int)
    return parser.parse_args(words)


def main(words: list[str]) -> int:
    """Run a command; return its exit status."""
    command, rest = (words[0], words[1:]) if words else ("--help", [])
    try:
        match command:
            case "demo" | "start":
                _set_up()
                options = _where(command, rest)
                processes.serve(load_demo=command == "demo", host=options.host, port=options.port)
                return 0
            case "passphrase":
                _set_up()
                passphrase.put()
                say("kept; it is asked for from the next start on")
                return 0
            case "stop":
                processes.stop()
                return 0
            case "test":
                return _test(rest)
            case "bake" | "export" | "schema":
                _set_up()
                return processes.urst(command, *rest, env=os.environ.copy())
            case "check":
                _set_up()
                return processes.urst("check", *rest, env=os.environ | {"URST_STORE": str(DATA / "store")})
            case "worker":
                _set_up()
                env = os.environ.copy()
                if "--database" not in rest:
                    env = processes.child_environment(database.start())
                return processes.urst("worker", *rest, env=env)
            case "screenshots":
                _set_up(tests=True, kernels=True)
                env = processes.child_environment(database.start("urst_pictures"))
                processes.urst("migrate", env=env)
                try:
                    return subprocess.run([str(PYTHON), "-m", "docs.make_screenshots"], cwd=ROOT, env=env).returncode
                finally:
                    if not processes.running():
                        database.stop()
            case "soak":
                _set_up(tests=True, kernels=True)
                return subprocess.run([str(PYTHON), "-m", "benchmarks.soak", *rest], cwd=ROOT).returncode
            case "bench" if rest == ["browser"]:
                _set_up(tests=True)
                env = processes.child_environment(database.start("urst_test"))
                processes.urst("migrate", env=env)
                return subprocess.run([str(PYTHON), "-m", "benchmarks.browser"], cwd=ROOT, env=env).returncode
            case "bench":
                _set_up(kernels=True)
                return subprocess.run([str(PYTHON), "-m", "benchmarks", *rest], cwd=ROOT).returncode
            case "-h" | "--help" | "help":
                print(HELP, end="")
                return 0
    except Failure as failure:
        say(str(failure))
        return 1
    except KeyboardInterrupt:
        return 130
    print(HELP, end="", file=sys.stderr)
    return 2
