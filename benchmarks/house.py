"""The whole application in a folder of its own: launcher, database, server and worker, to be measured and killed."""

import contextlib
import json
import os
import random
import signal
import subprocess
import sys
import time
import urllib.request
from pathlib import Path

ROOT = Path(__file__).parent.parent


class House:
    """Server, worker, database and launcher, of which any is killed at any time."""

    def __init__(self, folder: Path):
        folder.mkdir()
        folder.chmod(0o755)
        self.data, self.env = folder, os.environ | {"URST_DATA": str(folder)}
        self.launcher: subprocess.Popen | None = None

    def start(self) -> None:
        """Start what does not run."""
        if self.launcher is None or self.launcher.poll() is not None:
            log = open(self.data / "start.log", "ab")
            words = [sys.executable, str(ROOT / "urst"), "start"]
            self.launcher = subprocess.Popen(words, env=self.env, stdout=log, stderr=log, start_new_session=True)
            log.close()

    def record(self) -> dict | None:
        """What the launcher has written down, if that is of one that runs."""
        with contextlib.suppress(OSError, ValueError):
            found = json.loads((self.data / "running.json").read_text())
            if self.launcher and found["pid"] == self.launcher.pid:
                return found
        return None

    @property
    def base(self) -> str:
        """Where it is reached."""
        return f"http://127.0.0.1:{self.record()['port']}"

    def answers(self, seconds: float) -> bool:
        """Whether the list of shots is told within so long."""
        deadline = time.monotonic() + seconds
        while time.monotonic() < deadline:
            record = self.record()
            if record:
                with contextlib.suppress(OSError):
                    if urllib.request.urlopen(f"http://127.0.0.1:{record['port']}/", timeout=5).status == 200:
                        return True
            time.sleep(0.2)
        return False

    def peak(self) -> float:
        """The most memory the server has had [MB]."""
        status = Path(f"/proc/{self.record()['children'][0]['pid']}/status").read_text()
        return int(status.split("VmHWM:")[1].split()[0]) / 1e3

    def kill(self, rng: random.Random) -> str:
        """Kill one of them; return which."""
        record, what = self.record(), rng.choice(("server", "worker", "database", "launcher"))
        pids = {
            "launcher": self.launcher.pid,
            "server": record["children"][0]["pid"],
            "worker": record["children"][1]["pid"],
        }
        with contextlib.suppress(OSError, ValueError):
            pids["database"] = int((self.data / "postgres" / "postmaster.pid").read_text().split()[0])
        with contextlib.suppress(ProcessLookupError, KeyError):
            os.kill(pids[what], signal.SIGKILL)
        if what == "launcher":
            self.launcher.wait()
        return what

    def stop(self) -> None:
        """End all of it."""
        subprocess.run([sys.executable, str(ROOT / "urst"), "stop"], env=self.env, capture_output=True)
        if self.launcher and self.launcher.poll() is None:
            self.launcher.kill()
