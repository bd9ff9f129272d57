"""Handing over a baked shot in open formats."""

from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np

from urst.core.fracture.fragments import Fragments
from urst.core.geometry import rotation
from urst.core.materials import MATERIALS
from urst.errors import BadValue, Stopped
from urst.formats import gltf, movie, usd, vdb
from urst.formats.gauges import write_gauges
from urst.shot import scene
from urst.shot.document import Shot
from urst.shot.keys import layer_keys
from urst.store.store import Store

WHAT = ("usd", "points", "gltf", "vdb", "csv", "movie")

#: volumes handed to one child process
_AT_ONCE = 24


class _Baked:
    """The layers of a baked shot, ready to be read frame by frame."""

    def __init__(self, shot: Shot, store: Store, should_stop: Callable[[], bool]):
        self.shot, self.store, self.should_stop = shot, store, should_stop
        self.keys = layer_keys(shot)
        self.span = (shot.start, shot.end)

    def of(self, kind: str) -> list:
        return [x for x in self.shot.layers if x.kind == kind]

    def frames(self, layer) -> Iterator[tuple[int, dict[str, np.ndarray]]]:
        for frame in self.shot.frames():
            if self.should_stop():
                raise Stopped("The hand-over was stopped; whole files are kept.")
            yield frame, self.store.read_frame(self.keys[layer.id], frame)[0]

    def fragments(self, layer):
        arrays, meta = self.store.read_static(self.keys[layer.id])
        # imported here, since the renderer's kernels are not needed for most formats
        from urst.core.preview.renderer import linear

        return Fragments.from_arrays(arrays), meta["pieces"], [linear(MATERIALS[m].colour) for m in meta["materials"]]


def export(
    shot: Shot,
    store: Path | str,
    out: Path,
    what: list[str] | None = None,
    *,
    should_stop: Callable[[], bool] = lambda: False,
    report: Callable[[str, int, int], None] = lambda name, done, total: None,
) -> list[Path]:
    """Write the wanted formats of every layer they fit; return the files.

    usd: fragments and motion; points: debris as USD; gltf: fragments and motion; vdb: dust, a file a frame;
    csv: gauges; movie: a preview seen through the shot's camera.

    Raises
    ------
    BadValue
        For an unknown format.
    CacheDamaged
        If a frame is missing from the store.
    """
    wanted = what or list(WHAT)
    unknown = [w for w in wanted if w not in WHAT]
    if unknown:
        raise BadValue(f"'{unknown[0]}' is not a format to hand over; there are {', '.join(WHAT)}.")
    baked = _Baked(shot, Store(store), should_stop)
    out.mkdir(parents=True, exist_ok=True)
    files = []
    for done, name in enumerate(wanted):
        report(name, done, len(wanted))
        files += _WRITERS[name](baked, out)
    report("all", len(wanted), len(wanted))
    return files


def _usd(baked, out):
    files = []
    for layer in baked.of("fall"):
        fragments, names, colours = baked.fragments(layer)
        path = out / f"{layer.id}.usd"
        usd.write_fragments(_fresh(path), fragments, names, colours, baked.frames(layer), baked.span, baked.shot.rate)
        files.append(path)
    return files


def _points(baked, out):
    files = []
    for layer in baked.of("shed"):
        path = out / f"{layer.id}.usd"
        usd.write_points(_fresh(path), baked.frames(layer), baked.span, baked.shot.rate)
        files.append(path)
    return files


def _fresh(path):
    path.unlink(missing_ok=True)
    return path


def _gltf(baked, out):
    files = []
    for layer in baked.of("fall"):
        fragments, names, colours = baked.fragments(layer)
        path = out / f"{layer.id}.glb"
        gltf.write_fragments(path, fragments, names, colours, baked.frames(layer), baked.shot.rate, baked.shot.start)
        files.append(path)
    return files


def _vdb(baked, out):
    files = []
    for layer in baked.of("billow"):
        folder = out / layer.id
        folder.mkdir(exist_ok=True)
        jobs = []
        for frame, arrays in baked.frames(layer):
            path = folder / f"{layer.id}.{frame:06d}.vdb"
            jobs.append((arrays["density"].astype(np.float32), path))
            files.append(path)
            if len(jobs) == _AT_ONCE or frame == baked.shot.end:
                vdb.write_density(jobs, layer.settings.low, layer.settings.cell_size)
                jobs = []
    return files


def _csv(baked, out):
    files = []
    for layer in baked.shot.layers:
        rows = baked.store.read_gauges(baked.keys[layer.id])
        if layer.kind == "break":
            rows = {baked.shot.start: baked.store.read_static(baked.keys[layer.id])[1].get("gauges", {})}
        if rows:
            path = out / f"{layer.id}.gauges.csv"
            write_gauges(path, rows)
            files.append(path)
    return files


def _movie(baked, out):
    if not baked.of("fall"):
        return []
    path = out / "preview.mp4"
    movie.write_movie(path, pictures(baked.shot, baked.store, baked.should_stop), baked.shot.rate)
    return [path]


def pictures(
    shot: Shot, store: Store, should_stop=lambda: False, *, frames=None, size=(960, 540)
) -> Iterator[np.ndarray]:
    """Render frames of a baked shot through its camera, (h, w, 3) uint8 each."""
    from urst.core.preview.renderer import View, linear, render

    baked = _Baked(shot, store, should_stop)
    fall = baked.of("fall")[0]
    fragments, _, colours = baked.fragments(fall)
    count = np.diff(fragments.skin_start)
    body = np.repeat(np.arange(len(count)), count)
    wobble = 1.0 + 0.34 * ((fragments.part * 0.61803) % 1.0 - 0.5)
    tint = np.array(colours)[fragments.piece[body]] * wobble[body, None]
    tint = np.where(fragments.inner[:, None] == 1, np.minimum(1.35 * tint + 0.03, 1.0), tint)
    camera = shot.camera
    view = View(camera.eye, camera.target, scene.field_of_view(camera.lens), *size)
    shed, billow = baked.of("shed")[:1], baked.of("billow")[:1]
    broken = [p for p in shot.pieces if any(x.kind == "break" and p.name in x.settings.pieces for x in shot.layers)]
    source = (broken or list(shot.pieces))[0]
    chip_colour, albedo = 1.15 * linear(MATERIALS[source.material].colour), linear(MATERIALS[source.material].dust)
    skin = fragments.skin.astype(float)
    for frame in frames or shot.frames():
        if should_stop():
            raise Stopped("The hand-over was stopped; whole files are kept.")
        pose = store.read_frame(baked.keys[fall.id], frame)[0]
        turned = rotation.matrix(pose["orientation"].astype(float))
        triangles = np.einsum("tij,tkj->tki", turned[body], skin) + pose["position"][body][:, None].astype(float)
        points = dust = None
        if shed:
            p = store.read_frame(baked.keys[shed[0].id], frame)[0]
            chip = p["kind"] == 0
            points = (p["position"][chip], p["size"][chip], chip_colour)
        if billow:
            s = billow[0].settings
            density = store.read_frame(baked.keys[billow[0].id], frame)[0]["density"].astype(float)
            dust = (density, s.low, s.cell_size, albedo)
        yield render(view, triangles, tint, points=points, dust=dust)


_WRITERS = {"usd": _usd, "points": _points, "gltf": _gltf, "vdb": _vdb, "csv": _csv, "movie": _movie}
