"""Compiling ahead: what is rehearsed, in which order, and that nothing is left to compile in a bake."""

import contextlib
import os
import shutil
import subprocess
import sys
import tempfile
import threading
import time
import unittest
from pathlib import Path
from unittest import mock

from urst.bake import kernels, runner
from urst.errors import Stopped
from urst.kinds.registry import KINDS
from urst.kinds.rehearsal import COUPLED, rehearsals
from urst.shot.document import parse
from urst.shot.plan import plan

ROOT = Path(__file__).parents[1]

#: run in a process of its own: rehearse all, bake shots that are used, tell which kernels had to be compiled anew
_NOTHING_NEW = """
import gc, tempfile
from numba.core.dispatcher import Dispatcher
from tests.baked import share
from tests.shots import tiny
from urst.bake import kernels, runner
from urst.demo import granary, smoke, sparks
from urst.kinds.rehearsal import rehearsals
from urst.shot.document import parse
from urst.store.store import Store

def known():
    return {(d.py_func.__module__, d.py_func.__qualname__, str(s)) for d in gc.get_objects() if isinstance(d,
    Dispatcher)
            and d.py_func.__module__.startswith("urst") for s in d.signatures}

with tempfile.TemporaryDirectory() as folder:
    for name in rehearsals():
        runner.bake(parse(rehearsals()[name].document), Store(folder))
    share(folder)
before = known()
coupled = granary.coupled(fragments=210, cell_size=0.6, end=15)
for shot in (tiny(), coupled, smoke.shot(), sparks.shot()):
    data = shot.model_dump(mode="json") | {"end": shot.start + 14}
    with tempfile.TemporaryDirectory() as folder:
        runner.bake(parse(data), Store(folder))
for what in sorted(known() - before):
    print(*what)
"""


class Rehearsals(unittest.TestCase):
    def test_every_kind_rehearses_and_so_do_layers_that_act_on_each_other(self):
        self.assertEqual(set(rehearsals()), {*KINDS, COUPLED})
        for name, rehearsal in rehearsals().items():
            shot = parse(rehearsal.document)
            called = {n for step in plan(shot) for n in runner.rehearsed(shot, step)}
            self.assertIn(name, called)
            self.assertEqual(called - {name}, set(rehearsal.after))

    def test_a_bake_after_them_has_nothing_left_to_compile(self):
        done = subprocess.run([sys.executable, "-c", _NOTHING_NEW], capture_output=True, text=True, cwd=ROOT)
        self.assertEqual((done.returncode, done.stderr[-2000:]), (0, ""))
        self.assertEqual(done.stdout, "")


#: starts a compiler in a process of its own, and tells its number
_STARTS = """
import os, subprocess, sys, time
command = [sys.executable, "-m", "urst.cli", "warm", "--under", str(os.getpid()), "flood"]
print(subprocess.Popen(command, stdout=subprocess.DEVNULL).pid, flush=True)
time.sleep(60)
"""


def _lives(pid):
    with contextlib.suppress(FileNotFoundError):
        return Path(f"/proc/{pid}/stat").read_text().rsplit(")", 1)[1].split()[0] != "Z"
    return False


#: a kernel, and the type that it takes, before and after that type moved to another module
_KERNEL = """
from urst.core.jit import serial
from urst.core.{holder} import Pair

@serial
def total(pair):
    return pair.a + pair.b

print(total(Pair({a}, 2.0)))
"""
_HOLDER = """
from typing import NamedTuple

class Pair(NamedTuple):
    a: float
    b: float
"""


class Kept(unittest.TestCase):
    def run_kernel(self, folder, holder, a):
        core = Path(folder, "urst", "core")
        core.joinpath(f"{holder}.py").write_text(_HOLDER)
        core.joinpath("total.py").write_text(_KERNEL.format(holder=holder, a=a))
        command = "import urst.core.total; from urst.core import kernel_cache; kernel_cache.forget_old()"
        done = subprocess.run(
            [sys.executable, "-c", command],
            cwd=folder,
            env=os.environ | {"PYTHONPATH": folder},
            capture_output=True,
            text=True,
        )
        self.assertEqual(done.returncode, 0, done.stderr)
        return float(done.stdout), sorted(f.name for f in core.glob("__pycache__/total.*.nb?"))

    def test_kernels_of_an_older_source_are_neither_read_nor_kept(self):
        with tempfile.TemporaryDirectory() as folder:
            core = Path(folder, "urst", "core")
            core.mkdir(parents=True)
            for package in (core.parent, core):
                (package / "__init__.py").touch()
            for name in ("jit.py", "kernel_cache.py"):
                shutil.copy(ROOT / "src" / "urst" / "core" / name, core)
            value, kept = self.run_kernel(folder, "holder", 1.0)
            self.assertEqual((value, len(kept)), (3.0, 2))
            self.assertEqual(self.run_kernel(folder, "holder", 1.0), (value, kept))
            (core / "holder.py").unlink()
            value, later = self.run_kernel(folder, "keeper", 5.0)
            self.assertEqual((value, len(later)), (7.0, 2))
            self.assertFalse(set(kept) & set(later))


class Parents(unittest.TestCase):
    def test_what_compiles_ends_with_the_worker_that_started_it_however_that_ends(self):
        with tempfile.TemporaryDirectory() as folder:
            env = os.environ | {"NUMBA_CACHE_DIR": folder}
            words = [sys.executable, "-c", _STARTS]
            with subprocess.Popen(words, stdout=subprocess.PIPE, text=True, cwd=ROOT, env=env) as parent:
                child = int(parent.stdout.readline())
                time.sleep(3.0)
                self.assertTrue(_lives(child))
                parent.kill()
            deadline = time.monotonic() + 20.0
            while _lives(child) and time.monotonic() < deadline:
                time.sleep(0.1)
            self.assertFalse(_lives(child))


class Child:
    """Stands for a process that compiles; ends when it is told to."""

    alive = 0
    most = 0
    begun: list[str] = []
    fails: set[str] = set()

    def __init__(self, command, **_):
        self.name, self.returncode = command[-1], None
        Child.begun.append(self.name)
        Child.alive += 1
        Child.most = max(Child.most, Child.alive)

    def poll(self):
        if self.returncode is None:
            self.returncode = int(self.name in Child.fails)
            Child.alive -= 1
            if not self.returncode:
                made.add(self.name)
        return self.returncode

    def terminate(self):
        pass


made: set[str] = set()


class Order(unittest.TestCase):
    def setUp(self):
        made.clear()
        Child.alive = Child.most = 0
        Child.begun, Child.fails = [], set()
        for target, stand_in in (("compiled", lambda name: name in made), ("_LOOK", 0.001)):
            patch = mock.patch.object(kernels, target, stand_in)
            patch.start()
            self.addCleanup(patch.stop)
        patch = mock.patch.object(kernels.subprocess, "Popen", Child)
        patch.start()
        self.addCleanup(patch.stop)

    def test_what_is_waited_for_comes_first_two_at_a_time(self):
        compiler, told = kernels.Compiler(), []
        compiler.ask()
        compiler.wait(["billow"], lambda *news: told.append(news))
        compiler.wait(rehearsals(), lambda *news: told.append(news))
        self.assertEqual(set(Child.begun), set(rehearsals()))
        self.assertEqual(len(Child.begun), len(set(Child.begun)))
        self.assertLessEqual(Child.most, kernels.ABREAST)
        for name, rehearsal in rehearsals().items():
            for first in rehearsal.after:
                self.assertLess(Child.begun.index(first), Child.begun.index(name))
        self.assertEqual(told[0][0], "Billow")
        self.assertTrue(all(0 <= done <= total <= len(rehearsals()) for _, done, total in told))

    def test_what_fails_to_compile_ahead_holds_nothing_up(self):
        Child.fails = {"fall"}
        with self.assertLogs("urst.kernels", "WARNING"):
            kernels.Compiler().wait(rehearsals(), lambda *news: None)
        self.assertNotIn("fall", made)
        self.assertIn("shed", made)

    def test_a_wait_can_be_ended(self):
        trapped = threading.Event()
        with mock.patch.object(Child, "poll", lambda self: None if not trapped.is_set() else 0):

            def check_cancelled():
                raise Stopped("stopped")

            with self.assertRaises(Stopped):
                kernels.Compiler().wait(["break"], lambda *news: None, check_cancelled)
            trapped.set()


if __name__ == "__main__":
    unittest.main()
