"""Hours of faults: documents and meshes with something wrong in them, and kills at random places, until stopped.

usage: ./urst soak [MINUTES] [SEED]

Prints a summary; with `--keep` it stands in docs/reliability.md afterwards.
"""

import contextlib
import hashlib
import os
import random
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from datetime import date
from pathlib import Path

import httpx

from benchmarks.house import ROOT, House
from tests import fuzz_requests
from tests.shots import falling_box, tiny
from urst.demo import basin
from urst.shot.document import dumps, parse
from urst.shot.keys import layer_keys
from urst.shot.plan import plan

#: documents, meshes and requests in one round, kills of each of three bakes, and of parts of the house
DOCUMENTS, MESHES, REQUESTS, KILLS, HOUSE_KILLS = 1000, 100, 400, 4, 4
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


def _bounds() -> list[str]:
    """Every rehearsal with every index of every kernel checked: a write out of bounds says where it is."""
    # compiled kernels are kept apart from the unchecked ones
    with tempfile.TemporaryDirectory() as folder:
        env = os.environ | {"NUMBA_BOUNDSCHECK": "1", "NUMBA_CACHE_DIR": folder}
        every = "from urst.bake.kernels import rehearse; from urst.kinds.rehearsal import rehearsals; "
        words = [sys.executable, "-c", f"{every}[rehearse(name) for name in rehearsals()]"]
        done = subprocess.run(words, cwd=ROOT, env=env, capture_output=True, text=True)
    return [] if done.returncode == 0 else [f"bounds: {(done.stdout + done.stderr)[-1500:]}"]


def _bake(path: Path, out: Path) -> subprocess.Popen:
    words = [sys.executable, "-m", "urst.cli", "bake", str(path), "--out", str(out)]
    return subprocess.Popen(
        words, cwd=ROOT, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True
    )


class Bakes:
    """Bakes that are killed again and again, against ones that never were."""

    def __init__(self, folder: Path):
        self.folder, self.shots = folder, {"box": falling_box(24), "granary": tiny(end=10), "basin": _basin()}
        self.whole: dict[str, dict[str, str]] = {}
        self.took: dict[str, float] = {}
        for name, shot in self.shots.items():
            (folder / f"{name}.shot.json").write_text(dumps(shot))
            began = time.monotonic()
            _bake(folder / f"{name}.shot.json", folder / f"whole {name}").wait()
            self.took[name], self.whole[name] = time.monotonic() - began, _digests(folder / f"whole {name}")

    def killed(self, rng: random.Random) -> list[str]:
        """Kill each a few times at random places, then let it end."""
        faults = []
        for name in self.shots:
            out, path = self.folder / f"killed{rng.random()}", self.folder / f"{name}.shot.json"
            for _ in range(KILLS):
                bake = _bake(path, out)
                time.sleep(rng.uniform(0.0, self.took[name]))
                with contextlib.suppress(ProcessLookupError):
                    os.killpg(bake.pid, signal.SIGKILL)
                bake.wait()
            _bake(path, out).wait()
            faults += [f"{name}: left behind: {p.name}" for p in out.rglob("*.part")]
            faults += [f"{name}: differs: {x}" for x in differing(self.whole[name], _digests(out))]
            shutil.rmtree(out)
        return faults


def _basin():
    """Every kind of layer, as coarse as can be."""
    return parse(basin.shot(fragments=40, cell_size=0.3, end=6).model_dump(mode="json"))


def differing(wanted: dict[str, str], found: dict[str, str]) -> list[str]:
    """Return the files that are not as they should be; what else is there is no matter."""
    return [name for name, digest in wanted.items() if found.get(name) != digest]


class Queue:
    """A bake that the house is asked for, whichever part of it is killed meanwhile."""

    def __init__(self, house: House, bakes: Bakes, folder: Path):
        self.house, self.bakes, self.folder = house, bakes, folder

    def ask(self, rng: random.Random) -> None:
        """Ask for a shot that was never baked there."""
        data = self.bakes.shots[rng.choice(list(self.bakes.shots))].model_dump(mode="json")
        # heavier by a hair: everything is baked anew
        data["gravity"][2] -= rng.uniform(0.0, 0.01)
        self.shot = parse(data)
        with httpx.Client(base_url=self.house.base, timeout=60) as client:
            reply = client.post("/shots/import", files={"file": ("shot.json", dumps(self.shot).encode())})
            self.place = str(reply.headers["location"])
            client.post(f"{self.place}/bake/{self.shot.layers[-1].id}").raise_for_status()

    def ended(self, seconds: float) -> list[str]:
        """Wait for its end; return what of it is not as if nothing had been killed."""
        deadline, state = time.monotonic() + seconds, {}
        while time.monotonic() < deadline:
            self.house.start()
            with contextlib.suppress(httpx.HTTPError, TypeError, ValueError):
                state = httpx.get(f"{self.house.base}{self.place}/state", timeout=30).json()
                if state["layers"][-1]["state"] == "fresh" and not state["runs"]:
                    break
                if not state["runs"]:
                    # given up after three workers were killed before its first frame
                    httpx.post(f"{self.house.base}{self.place}/bake/{self.shot.layers[-1].id}", timeout=30)
            time.sleep(0.5)
        else:
            return [f"a queued bake did not end in {seconds:g} s: {state.get('runs')} {state.get('last')}"[:1500]]
        path, out = self.folder / "queued.shot.json", self.folder / "queued"
        path.write_text(dumps(self.shot))
        _bake(path, out).wait()
        asked = {layer_keys(self.shot)[x] for step in plan(self.shot, [self.shot.layers[-1].id]) for x in step.layers}
        wanted = {name: digest for name, digest in _digests(out).items() if name.split("/")[1] in asked}
        found = differing(wanted, _digests(self.house.data / "store"))
        shutil.rmtree(out)
        return [f"queued {self.shot.name}: differs: {name}" for name in found]


def _asked(house: House, rng: random.Random) -> list[str]:
    """Requests of any kind, on a shot of their own."""
    with httpx.Client(base_url=house.base, timeout=60) as client:
        shot_id = str(client.post("/shots/new").headers["location"]).split("/shots/")[1].split("?")[0]
        faults = fuzz_requests.tried(house.base, {"shot_id": [shot_id]}, rng, REQUESTS)
        client.post(f"/shots/{shot_id}/delete")
    return faults


def _killed(house: House, rng: random.Random) -> list[str]:
    """Kill one of what makes up the house, and look whether it answers again."""
    house.start()
    if not house.answers(120.0):
        return ["it did not answer within two minutes"]
    what = house.kill(rng)
    time.sleep(rng.uniform(0.0, 2.0))
    house.start()
    return [] if house.answers(120.0) else [f"killed the {what}: it did not answer again"]


def soak(minutes: float, seed: int) -> dict:
    """Run so long; return the counts and what went wrong."""
    rng, began = random.Random(seed), time.monotonic()
    done = dict.fromkeys(
        (
            "documents",
            "meshes",
            "requests",
            "kills of bakes",
            "kills of server, worker, database and launcher",
            "queued bakes",
        ),
        0,
    )
    faults = _bounds()
    printed = 0
    with tempfile.TemporaryDirectory(ignore_cleanup_errors=True) as name:
        folder = Path(name)
        folder.chmod(0o755)
        bakes, house = Bakes(folder), House(folder / "house")
        queue = Queue(house, bakes, folder)
        try:
            while time.monotonic() - began < 60.0 * minutes:
                faults += _fuzz(rng.randrange(2**31)) + bakes.killed(rng)
                house.start()
                if house.answers(120.0):
                    faults += _asked(house, rng)
                    queue.ask(rng)
                    for _ in range(HOUSE_KILLS):
                        faults += _killed(house, rng)
                    faults += queue.ended(300.0)
                else:
                    faults.append("it did not start within two minutes")
                counts = DOCUMENTS, MESHES, REQUESTS, KILLS * len(bakes.shots), HOUSE_KILLS, 1
                done = {k: v + n for (k, v), n in zip(done.items(), counts)}
                print(f"{(time.monotonic() - began) / 60:.1f} min: {done}, {len(faults)} faults", flush=True)
                for fault in faults[printed:]:
                    print(f"  {fault}", flush=True)
                printed = len(faults)
        finally:
            house.stop()
    return done | {"faults": faults, "minutes": round((time.monotonic() - began) / 60.0, 1), "seed": seed}


def summary(findings: dict) -> str:
    """Say what a run has found."""
    counts = ", ".join(f"{v:,} {k}" for k, v in findings.items() if k not in ("faults", "minutes", "seed"))
    lines = [
        f"{date.today()}, {findings['minutes']:g} minutes, seed {findings['seed']}: {counts}; "
        f"{len(findings['faults'])} faults."
    ]
    return "\n".join(lines + [f"- {x.splitlines()[0]}" for x in findings["faults"][:20]])


def main(words: list[str]) -> int:
    """Run the soak; keep its summary if asked to."""
    numbers = [w for w in words if w != "--keep"]
    findings = soak(
        float(numbers[0]) if numbers else 60.0, int(numbers[1]) if len(numbers) > 1 else random.randrange(2**31)
    )
    text = summary(findings)
    print(text)
    if "--keep" in words:
        path = ROOT / "docs" / "reliability.md"
        before, rest = path.read_text().split(_BEGIN)
        path.write_text(f"{before}{_BEGIN}\n{text}\n{_END}{rest.split(_END)[1]}")
    return 1 if findings["faults"] else 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
