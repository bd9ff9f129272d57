"""The starter: commands, refusals, and that checkouts do not collide."""

import contextlib
import json
import os
import signal
import socket
import subprocess
import sys
import tempfile
import unittest
import urllib.request
from pathlib import Path

ROOT = Path(__file__).parent.parent
sys.path.insert(0, str(ROOT))

from launch import place, processes  # noqa: E402
from tests.live import wait_for  # noqa: E402


class Starter(unittest.TestCase):
    def run_urst(self, *words, data):
        env = os.environ | {"URST_DATA": str(data)}
        return subprocess.run(
            [sys.executable, str(ROOT / "urst"), *words], capture_output=True, text=True, env=env, timeout=60
        )

    def test_help_and_an_unknown_command(self):
        with tempfile.TemporaryDirectory() as data:
            self.assertIn("./urst COMMAND", self.run_urst("--help", data=data).stdout)
            unknown = self.run_urst("dance", data=data)
            self.assertEqual(unknown.returncode, 2)
            self.assertIn("demo", unknown.stderr)

    def test_stop_where_nothing_runs(self):
        with tempfile.TemporaryDirectory() as data:
            done = self.run_urst("stop", data=data)
            self.assertEqual((done.returncode, done.stdout), (0, "urst: nothing was running\n"))

    def test_a_folder_that_cannot_be_used_is_named_in_one_sentence(self):
        with tempfile.NamedTemporaryFile() as file:
            for data in (file.name, "/proc/nowhere/urst"):
                done = self.run_urst("stop", data=data)
                self.assertEqual((done.returncode, done.stderr), (1, ""))
                self.assertIn(f"urst: '{data}' cannot be the folder of what is kept", done.stdout)
                self.assertEqual(done.stdout.count("\n"), 1)

    def test_a_taken_port_is_not_taken_again(self):
        with socket.socket() as other:
            other.bind(("127.0.0.1", 0))
            other.listen()
            taken = other.getsockname()[1]
            self.assertNotEqual(place.free_port(taken), taken)

    def test_a_number_used_again_is_not_mistaken_for_the_process(self):
        self.assertEqual(processes._born(os.getpid()), processes._born(os.getpid()))
        self.assertIsNone(processes._born(2**30))


class Watched(unittest.TestCase):
    """What is started is watched: whatever is killed comes back, or goes with the launcher."""

    def setUp(self):
        folder = tempfile.TemporaryDirectory(ignore_cleanup_errors=True)
        self.addCleanup(folder.cleanup)
        # where the database's own user may go
        os.chmod(folder.name, 0o755)
        self.data = Path(folder.name)
        self.env = os.environ | {"URST_DATA": str(self.data)}
        self.addCleanup(self.urst, "stop")

    def urst(self, *words):
        return subprocess.run(
            [sys.executable, str(ROOT / "urst"), *words], env=self.env, capture_output=True, text=True
        )

    def start(self):
        log = open(self.data / "start.log", "ab")
        self.addCleanup(log.close)
        words = [sys.executable, str(ROOT / "urst"), "start"]
        starter = subprocess.Popen(words, env=self.env, stdout=log, stderr=log, start_new_session=True)
        self.addCleanup(starter.wait)
        self.addCleanup(starter.kill)
        record = wait_for(self.record, "the start", 120)
        wait_for(lambda: self.answers(record["port"]), "an answer", 60)
        return starter, record

    def record(self):
        with contextlib.suppress(OSError, ValueError):
            return json.loads((self.data / "running.json").read_text())
        return None

    def answers(self, port, path="/"):
        with contextlib.suppress(OSError):
            return urllib.request.urlopen(f"http://127.0.0.1:{port}{path}", timeout=5).status == 200
        return False

    def alive(self, record):
        return [x for x in record["children"] if processes._born(x["pid"]) == x["born"]]

    def test_killed_parts_come_back_and_a_killed_launcher_leaves_nothing_behind(self):
        starter, record = self.start()
        port = record["port"]
        self.assertIn("already running", self.urst("start").stdout)
        # the database, as a crash ends it
        postmaster = int((self.data / "postgres" / "postmaster.pid").read_text().split()[0])
        os.kill(postmaster, signal.SIGKILL)
        wait_for(lambda: not self.answers(port), "the database to be missed", 20)
        wait_for(lambda: self.answers(port), "the database to come back", 60)
        # server and worker
        for child in record["children"]:
            os.kill(child["pid"], signal.SIGKILL)
        after = wait_for(
            lambda: (
                (r := self.record())
                and not {x["pid"] for x in r["children"]} & {x["pid"] for x in record["children"]}
                and r
            ),
            "both to be started again",
            60,
        )
        wait_for(lambda: self.answers(port), "an answer again", 60)
        self.assertEqual(len(self.alive(after)), 2)
        # where memory runs out the kernel ends the worker, not the pages or the database
        server, worker = (Path(f"/proc/{x['pid']}/oom_score_adj") for x in after["children"])
        wait_for(lambda: int(worker.read_text()) > int(server.read_text()), "the worker to give way", 60)
        # the launcher itself
        starter.kill()
        wait_for(lambda: not self.alive(after), "its children to end", 30)
        _, again = self.start()
        self.assertEqual(again["port"], port)
        self.assertIn("stopped", self.urst("stop").stdout)
        self.assertFalse(self.alive(again))


if __name__ == "__main__":
    unittest.main()
