"""Runs the tests in two processes side by side: `fast` those of the inner loop, else all; named modules in this one.

usage: python -m tests [fast | MODULE ...]
"""

import faulthandler
import os
import re
import subprocess
import sys
import tempfile
import time
import unittest
import warnings
from collections.abc import Iterable

from tests.baked import FOLDER

#: those of the inner loop, in two halves: a minute and a half at most once kernels are compiled
FAST = (
    ("rigid", "naive", "preview"),
    ("pressure", "shot", "preflight", "store", "geometry", "curves", "drawn", "shells"),
)
#: the rest of what needs neither database nor browser
CORE = (
    "architecture",
    "fracture",
    "land",
    "bonds",
    "driven",
    "direct",
    "debris",
    "gas",
    "scalars",
    "liquid",
    "basins",
    "waves",
    "afloat",
    "band",
    "air",
    "wet",
    "flows",
    "pouring",
    "vessels",
    "thick",
    "skin",
    "froth",
    "coupling",
    "layers",
    "kernels",
    "sound",
    "fuzz",
    "digests",
    "checkpoints",
)
#: what bakes whole shots, and what needs database, worker and browser
HOUSE = (
    "launch",
    "bake",
    "formats",
    "jobs",
    "trust",
    "guard",
    "web",
    "web_curves",
    "web_view",
    "browser_modules",
    "browser",
    "browser_curves",
    "browser_view",
)


#: a test that takes so long hangs [s]
HANGS = 1200
#: tests that are told at the end
SLOWEST = 10
_SLOW = re.compile(r"^ +([\d.]+) s  (\S+)$", re.MULTILINE)
_CLOSING = re.compile(r"^(\d+) passed, (\d+) failed(?:, (\d+) skipped)?$", re.MULTILINE)


class _Result(unittest.TextTestResult):
    """Notes how long each test took."""

    def __init__(self, *args, **options):
        super().__init__(*args, **options)
        self.took: list[tuple[float, str]] = []

    def startTest(self, test):  # noqa: N802
        self._began = time.monotonic()
        # one that hangs ends the run with its trace, rather than going on until somebody notices
        faulthandler.dump_traceback_later(HANGS, exit=True)
        super().startTest(test)

    def stopTest(self, test):  # noqa: N802
        super().stopTest(test)
        self.took.append((time.monotonic() - self._began, test.id()))


def run(names: list[str]) -> int:
    """Run modules in this process; return 0 only if every test passed."""
    suite = unittest.defaultTestLoader.loadTestsFromNames([f"tests.test_{n}" for n in names])
    warnings.simplefilter("error")
    # libraries warn about each other's future; only what concerns this code is an error
    for module in (
        "trimesh",
        "manifold3d",
        "pygltflib",
        "starlette",
        "fastapi",
        "numba",
        "selenium",
        "dataclasses_json",
        "marshmallow",
    ):
        warnings.filterwarnings("default", module=rf"{module}(\..*)?")
    warnings.filterwarnings("default", category=DeprecationWarning)
    result = unittest.TextTestRunner(verbosity=2, resultclass=_Result, warnings=None).run(suite)
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    skipped = len(result.skipped)
    assert isinstance(result, _Result)
    _tell(result.took, max(0, result.testsRun - failed - skipped), failed, skipped)
    return 1 if failed else 0


def _tell(took, passed, failed, skipped):
    print("the slowest:")
    for seconds, name in sorted(took, reverse=True)[:SLOWEST]:
        print(f"  {seconds:6.1f} s  {name}")
    print(f"{passed} passed, {failed} failed" + (f", {skipped} skipped" if skipped else ""), flush=True)


def run_beside(first: Iterable[str], second: Iterable[str]) -> int:
    """Run two lists of modules in a process each; return 0 only if every test passed."""
    with tempfile.TemporaryFile("w+") as kept:
        command = [sys.executable, "-m", "tests"]
        beside = subprocess.Popen([*command, *second], stdout=kept, stderr=subprocess.STDOUT)
        here = subprocess.Popen([*command, *first], stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True)
        lines = []
        assert here.stdout is not None
        for line in here.stdout:
            lines.append(line)
            print(line, end="", flush=True)
        codes = here.wait(), beside.wait()
        kept.seek(0)
        other = kept.read()
    print(other, end="")
    said = "".join(lines) + other
    counts = [tuple(int(n or 0) for n in m) for m in _CLOSING.findall(said)]
    took = [(float(seconds), name) for seconds, name in _SLOW.findall(said)]
    passed, failed, skipped = (sum(c) for c in zip(*counts)) if counts else (0, 0, 0)
    # one that was ended before it could close has failed as a whole
    failed += sum(1 for code in codes if code) if len(counts) < len(codes) or (any(codes) and not failed) else 0
    _tell(took, passed, failed, skipped)
    return 1 if failed or any(codes) else 0


def main(words: list[str]) -> int:
    """Run what is named, the fast ones, or all."""
    # what one process has baked the other reads
    with tempfile.TemporaryDirectory() as folder:
        os.environ.setdefault(FOLDER, folder)
        return _run(words)


def _run(words):
    if words == ["fast"]:
        return run_beside(*FAST)
    if not words:
        return run_beside((*FAST[0], *FAST[1], *CORE), HOUSE)
    return run(words)


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
