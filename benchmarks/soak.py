"""Hours of faults: documents and meshes with something wrong in them, and kills at random places, until told to end.

usage: ./urst soak [MINUTES] [SEED]

Prints a summary; with `--keep` it stands in docs/reliability.md afterwards.
"""

import contextlib
import hashlib
import os
import random
import signal
import subprocess
import sys
import tempfile
import time
from datetime import date
from pathlib import Path

from benchmarks.house import ROOT, House
from tests.shots import falling_box
from urst.shot.document import dumps

#: documents and meshes in one round, and kills of a bake
DOCUMENTS, MESHES, KILLS = 1000, 100, 10
#: what the summary stands between
_BEGIN, _END = "<!-- soak -->", "<!-- end of soak -->"


def _digests(folder: Path) -> dict[str, str]:
    files = sorted(p for p in folder.rglob("*.urf") if not p.name.startswith("."))
    return {p.relative_to(folder).as_posix(): hashlib.sha256(p.read_bytes()).hexdigest() for p in files}


def _fuzz(seed: int) -> list[str]:
    """The fuzz of the tests with other numbers."""
    env = os.environ | {
        "URST_FUZZ_SEED": str(seed),
        "URST_FUZZ_DOCUMENTS": str(DOCUMENTS),
        "URST_FUZZ_MESHES": str(MESHES),
    }
    words = [sys.executable, "-m", "unittest", "tests.test_fuzz.Documents", "tests.test_fuzz.Meshes"]
    done = subprocess.run(words, cwd=ROOT, env=env, capture_output=True, text=True)
    return [] if done.returncode == 0 else [f"seed {seed}: {done.stderr[-1500:]}"]


def _bake(path: Path, out: Path) -> subprocess.Popen:
    words = [sys.executable, "-m", "urst.cli", "bake", str(path), "--out", str(out)]
    return subprocess.Popen(
        words, cwd=ROOT, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True
    )


class Bakes:
    """A bake that is killed again and again, against one that never was."""

    def __init__(self, folder: Path):
        self.folder, self.shot = folder, folder / "box.shot.json"
        self.shot.write_text(dumps(falling_box(24)))
        whole = _bake(self.shot, folder / "whole")
        began = time.monotonic()
        whole.wait()
        self.took, self.digests = time.monotonic() - began, _digests(folder / "whole")

    def killed(self, rng: random.Random) -> list[str]:
        """Kill a bake a few times at random places, then let it end."""
        out = self.folder / f"killed{rng.random()}"
        for _ in range(KILLS):
            bake = _bake(self.shot, out)
            time.sleep(rng.uniform(0.0, self.took))
            with contextlib.suppress(ProcessLookupError):
                os.killpg(bake.pid, signal.SIGKILL)
            bake.wait()
        _bake(self.shot, out).wait()
        left, found = [p.name for p in out.rglob("*.part")], _digests(out)
        faults = [f"left behind: {left}"] if left else []
        return faults + [f"differs: {n}" for n in self.digests if found.get(n) != self.digests[n]]


def soak(minutes: float, seed: int) -> dict:
    """Run so long; return the counts and what went wrong."""
    rng, began = random.Random(seed), time.monotonic()
    told = {
        "documents": 0,
        "meshes": 0,
        "kills of bakes": 0,
        "kills of server, worker, database and launcher": 0,
        "faults": [],
    }
    with tempfile.TemporaryDirectory(ignore_cleanup_errors=True) as name:
        folder = Path(name)
        folder.chmod(0o755)
        bakes, house = Bakes(folder), House(folder / "house")
        try:
            while time.monotonic() - began < 60.0 * minutes:
                told["faults"] += _fuzz(rng.randrange(2**31))
                told["documents"] += DOCUMENTS
                told["meshes"] += MESHES
                told["faults"] += bakes.killed(rng)
                told["kills of bakes"] += KILLS
                for _ in range(4):
                    house.start()
                    if not house.answers(120.0):
                        told["faults"].append("it did not answer within two minutes")
                        break
                    what = house.kill(rng)
                    told["kills of server, worker, database and launcher"] += 1
                    time.sleep(rng.uniform(0.0, 2.0))
                    house.start()
                    if not house.answers(120.0):
                        told["faults"].append(f"killed the {what}: it did not answer again")
                        break
                counts = {k: v for k, v in told.items() if k != "faults"}
                print(f"{(time.monotonic() - began) / 60:.1f} min: {counts}, {len(told['faults'])} faults", flush=True)
        finally:
            house.stop()
    return told | {"minutes": round((time.monotonic() - began) / 60.0, 1), "seed": seed}


def summary(told: dict) -> str:
    """Say what a run has found."""
    counts = ", ".join(f"{v:,} {k}" for k, v in told.items() if k not in ("faults", "minutes", "seed"))
    lines = [
        f"{date.today()}, {told['minutes']:g} minutes, seed {told['seed']}: {counts}; {len(told['faults'])} faults."
    ]
    return "\n".join(lines + [f"- {x.splitlines()[0]}" for x in told["faults"][:20]])


def main(words: list[str]) -> int:
    """Run the soak; keep its summary if asked to."""
    numbers = [w for w in words if w != "--keep"]
    told = soak(
        float(numbers[0]) if numbers else 60.0, int(numbers[1]) if len(numbers) > 1 else random.randrange(2**31)
    )
    text = summary(told)
    print(text)
    for fault in told["faults"]:
        print(fault, file=sys.stderr)
    if "--keep" in words:
        path = ROOT / "docs" / "reliability.md"
        before, rest = path.read_text().split(_BEGIN)
        path.write_text(f"{before}{_BEGIN}\n{text}\n{_END}{rest.split(_END)[1]}")
    return 1 if told["faults"] else 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
