"""What the application promises, measured on the whole of it: many readers, two editors, bad files, chips against
plates.

Reader and application share the machine, so what is told includes the reader's own work.
"""

import http.client
import tempfile
import threading
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import httpx
import numpy as np

from benchmarks.house import House
from tests.shots import falling_box, tiny
from tests.test_debris import Contact
from tests.test_guard import claiming, glb
from urst.bake import runner
from urst.shot.document import dumps
from urst.store.store import Store

SHOTS, READERS, ROUNDS = 100, 20, 10
#: what is looked at ahead of readers is done after so long [s]
_REST = 8.0
#: of a chip's and a plate's speed [m/s], as many as are thrown
_THROWN = ((15.0, 0.0), (900.0, 0.0), (0.0, 6.0), (0.0, 60.0), (15.0, 30.0))

#: what was measured, the figure, its unit, and what is asked of it
Reading = tuple[str, float, str, str]


def trust() -> Iterator[Reading]:
    """Yield one after the other."""
    yield from _chips()
    with tempfile.TemporaryDirectory(ignore_cleanup_errors=True) as name:
        folder = Path(name)
        folder.chmod(0o755)
        house = House(folder / "house")
        try:
            house.start()
            if not house.answers(120.0):
                raise RuntimeError("the application did not start; its log says why")
            with httpx.Client(base_url=house.base, timeout=120) as client:
                ids = _filled(house, client)
                yield from _readers(house, ids)
                yield from _editors(house, client, ids[0])
                yield from _queued(house, ids[4])
                yield from _files(house, client, ids[2], folder)
        finally:
            house.stop()


def _chips():
    contact = Contact()
    for thickness in (0.002, 0.05):
        for chip, plate in _THROWN:
            passed = contact.through(thickness, chip, plate)
            yield (
                f"chips at {chip:g} m/s, a plate of {1000 * thickness:g} mm at {plate:g} m/s: pass",
                100 * passed,
                "%",
                "0",
            )


def _filled(house, client):
    """A hundred shots, of which every second one is baked."""
    baked, ids = falling_box(24), []
    runner.bake(baked, Store(house.data / "store"))
    for n in range(SHOTS):
        text = dumps(baked if n % 2 else tiny(seed=n)).encode()
        reply = client.post("/shots/import", files={"file": (f"{n}.shot.json", text)})
        ids.append(str(reply.headers["location"]).split("/shots/")[1].split("?")[0])
    return ids


def _readers(house, ids):
    paths = {"the list": lambda k: "/", "the state of a shot": lambda k: f"/shots/{ids[k % SHOTS]}/state"}
    for when in ("just after all were imported", "later"):
        for name, path in paths.items():
            seconds = np.array(_at_once(house.base, path))
            for percentile in (50, 95):
                figure = 1000 * float(np.percentile(seconds, percentile))
                asked = "200" if percentile == 95 else ""
                yield f"{name}, {SHOTS} shots, {READERS} readers, {when}: {percentile} % within", figure, "ms", asked
        time.sleep(_REST)


def _at_once(base, path):
    """How long each of many requests took that so many readers ask for."""

    def read(reader):
        # the plainest reader there is: its work is told as the application's
        found, client = [], http.client.HTTPConnection(base.removeprefix("http://"), timeout=120)
        for k in range(ROUNDS):
            began = time.perf_counter()
            client.request("GET", path(reader + READERS * k))
            reply = client.getresponse()
            reply.read()
            found.append(time.perf_counter() - began)
            if reply.status != 200:
                raise RuntimeError(f"{path(reader + READERS * k)}: {reply.status}")
        client.close()
        return found

    with ThreadPoolExecutor(READERS) as pool:
        return [s for part in pool.map(read, range(READERS)) for s in part]


def _editors(house, client, shot_id):
    """Two that change two settings of a layer at the same time, again and again."""
    lost = 0
    for k in range(40):
        wanted = {"steps": str(4 + k % 2), "top_speed": str(40 + k)}
        both = threading.Barrier(2)

        def put(change, both=both):
            with httpx.Client(base_url=house.base, timeout=60) as mine:
                both.wait()
                return mine.post(f"/shots/{shot_id}/recipe/fall", data={"path": change[0], "value": change[1]})

        with ThreadPoolExecutor(2) as pool:
            list(pool.map(put, wanted.items()))
        settings = client.get(f"/shots/{shot_id}/file").json()["layers"][1]["settings"]
        lost += any(float(settings[path]) != float(value) for path, value in wanted.items())
    yield "rounds of two edits at once in which one is lost, of 40", lost, "", "0"


def _queued(house, shot_id):
    """The same asked for eight times at once, of a shot that is not baked yet."""
    with ThreadPoolExecutor(8) as pool:
        replies = list(pool.map(lambda _: httpx.post(f"{house.base}/shots/{shot_id}/bake/fall", timeout=60), range(8)))
    yield "runs of a bake asked for eight times at once", sum(r.status_code == 200 for r in replies), "", "1"
    httpx.post(f"{house.base}/shots/{shot_id}/stop", timeout=60)


def _files(house, client, shot_id, folder):
    """Small files that ask for much, and a large one; the list is read meanwhile."""
    for name, what, data in _bad():
        path = folder / name
        path.write_bytes(data)
        took, ended = [0.0], threading.Event()

        def send(path=path, took=took, ended=ended):
            began = time.perf_counter()
            with open(path, "rb") as file:
                client.post(f"/shots/{shot_id}/meshes", files={"file": (path.name, file)})
            took[0] = time.perf_counter() - began
            ended.set()

        sender = threading.Thread(target=send)
        sender.start()
        slowest = 0.0
        while not ended.is_set():
            began = time.perf_counter()
            httpx.get(f"{house.base}/alive", timeout=120)
            slowest = max(slowest, time.perf_counter() - began)
            ended.wait(0.05)
        sender.join()
        yield f"{what}: answered after", took[0], "s", "90"
        yield "  the slowest other page meanwhile", 1000 * slowest, "ms", ""
    yield "memory of the server afterwards, at most", house.peak(), "MB", ""


def _bad():
    yield "claims.glb", "5 kB that claim 60 million points", glb(claiming(60_000_000), bytes(5000))
    yield "nodes.glb", "20,000 nodes of one mesh", glb(claiming(3, nodes=20_000), bytes(36))
    rng = np.random.default_rng(1)
    corners = rng.uniform(0, 1, (20_001, 1, 3)) + rng.uniform(0, 0.004, (20_001, 3, 3))
    corners[0] = [(-500, -500, 0), (500, -500, 0), (0, 900, 0.5)]
    record = np.zeros(len(corners), [("normal", "<f4", 3), ("corners", "<f4", (3, 3)), ("more", "<u2")])
    record["corners"] = corners
    yield "huge.stl", "one huge triangle among 20,000", bytes(80) + len(record).to_bytes(4, "little") + record.tobytes()
    n = 1100
    at = np.stack(np.meshgrid(np.arange(n), np.arange(n), indexing="ij"), -1).reshape(-1, 2)
    lines = [f"v {x / 7:.6f} {y / 7:.6f} {0.1 * ((x * y) % 7):.6f}" for x, y in at.tolist()]
    corner = (np.arange(n - 1)[:, None] * n + np.arange(n - 1)[None]).ravel() + 1
    lines += [f"f {a} {a + n} {a + n + 1} {a + 1}" for a in corner.tolist()]
    yield "large.obj", "89 MB of OBJ", "\n".join(lines).encode().ljust(89_000_000, b"\n")
