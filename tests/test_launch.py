"""The starter: commands, refusals, and that checkouts do not collide."""

import os
import socket
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

ROOT = Path(__file__).parent.parent
sys.path.insert(0, str(ROOT))

from launch import place, processes  # noqa: E402


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

    def test_a_taken_port_is_not_taken_again(self):
        with socket.socket() as other:
            other.bind(("127.0.0.1", 0))
            other.listen()
            taken = other.getsockname()[1]
            self.assertNotEqual(place.free_port(taken), taken)

    def test_a_number_used_again_is_not_mistaken_for_the_process(self):
        self.assertEqual(processes._born(os.getpid()), processes._born(os.getpid()))
        self.assertIsNone(processes._born(2**30))


if __name__ == "__main__":
    unittest.main()
