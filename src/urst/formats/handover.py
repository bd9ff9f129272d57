"""Handing over a baked shot in open formats."""

from collections.abc import Callable
from pathlib import Path

import numpy as np

from urst.errors import BadValue
from urst.formats import gltf, movie, usd, vdb
from urst.formats.baked import Baked
from urst.formats.gauges import write_gauges
from urst.formats.pictures import pictures
from urst.shot.document import Shot
from urst.store.store import Store

WHAT = ("usd", "points", "gltf", "vdb", "csv", "movie")

#: volumes handed to one child process
_AT_ONCE = 24


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
    baked = Baked(shot, Store(store), should_stop)
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
    movie.write_movie(path, pictures(baked), baked.shot.rate)
    return [path]


_WRITERS = {"usd": _usd, "points": _points, "gltf": _gltf, "vdb": _vdb, "csv": _csv, "movie": _movie}
