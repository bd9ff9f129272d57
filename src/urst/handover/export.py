"""Handing over a baked shot in open formats."""

from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np

from urst.core.preview.colour import linear
from urst.drawn.representations import REPRESENTATIONS
from urst.errors import BadValue
from urst.formats import gltf, movie, surfaces, usd, vdb
from urst.formats.gauges import write_gauges
from urst.handover.baked import Baked, colours
from urst.handover.forms import FORMS
from urst.handover.pictures import pictures
from urst.handover.played import played
from urst.shot.document import Shot
from urst.store.store import Store

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

    Parameters
    ----------
    shot : Shot
    store, out : Path
        Where the results lie, and the folder to write to.
    what : list of str, optional
        Names of `FORMS`; all if not given.
    should_stop, report : callable
        Asked often; told (name, done, total).

    Raises
    ------
    BadValue
        For an unknown format.
    CacheDamaged
        If a frame is missing from the store.
    """
    wanted = what or list(FORMS)
    unknown = [w for w in wanted if w not in FORMS]
    if unknown:
        raise BadValue(f"'{unknown[0]}' is not a format to hand over; there are {', '.join(FORMS)}.")
    baked = Baked(shot, Store(store), should_stop)
    out.mkdir(parents=True, exist_ok=True)
    files = []
    for done, name in enumerate(wanted):
        report(name, done, len(wanted))
        if name == "movie":
            files += _movie(baked, out)
        else:
            for layer in baked.handed_over_as(name):
                files += _WRITERS[name](baked, layer, out)
    report("all", len(wanted), len(wanted))
    return files


def _usd(baked: Baked, layer: Any, out: Path) -> list[Path]:
    fragments, pieces = baked.fragments(layer)
    path = out / f"{layer.id}.usd"
    path.unlink(missing_ok=True)
    names = [p.name for p in pieces]
    usd.write_fragments(path, fragments, names, colours(pieces), baked.frames(layer), baked.span, baked.shot.rate)
    return [path]


def _points(baked: Baked, layer: Any, out: Path) -> list[Path]:
    path = out / f"{layer.id}.usd"
    path.unlink(missing_ok=True)
    usd.write_points(path, baked.frames(layer), baked.span, baked.shot.rate)
    return [path]


def _gltf(baked: Baked, layer: Any, out: Path) -> list[Path]:
    fragments, pieces = baked.fragments(layer)
    path = out / f"{layer.id}.glb"
    names = [p.name for p in pieces]
    gltf.write_fragments(
        path, fragments, names, colours(pieces), baked.frames(layer), baked.shot.rate, baked.shot.start
    )
    return [path]


def _froth(baked: Baked, layer: Any, out: Path) -> list[Path]:
    path = out / f"{layer.id}.usd"
    path.unlink(missing_ok=True)
    sorts = [name for name, _ in baked.shot.kind_of(layer).sorts]
    usd.write_points(path, baked.frames(layer), baked.span, baked.shot.rate, sorts)
    return [path]


def _surface(baked: Baked, layer: Any, out: Path) -> list[Path]:
    path = out / f"{layer.id}.usd"
    path.unlink(missing_ok=True)
    usd.write_surface(path, baked.frames(layer), baked.span, baked.shot.rate, linear(baked.matter(layer).colour))
    return [path]


def _meshes(ending: str) -> Callable[..., Any]:
    def write(baked: Baked, layer: Any, out: Path) -> list[Path]:
        folder, files = out / layer.id, []
        folder.mkdir(exist_ok=True)
        for frame, arrays in baked.frames(layer):
            files.append(folder / f"{layer.id}.{frame:06d}.{ending}")
            surfaces.write_mesh(files[-1], arrays)
        return files

    return write


def _levels(baked: Baked, layer: Any, out: Path) -> list[Path]:
    if "levels" not in layer.keeps:
        return []
    return _grids(baked, layer, out, lambda arrays: {"levels": arrays["levels"]})


def _vdb(baked: Baked, layer: Any, out: Path) -> list[Path]:
    return _grids(baked, layer, out, _channels)


def _channels(arrays: dict[str, np.ndarray]) -> dict[str, np.ndarray]:
    """The scalars of a frame by name, and its velocity in cell centres where that is kept."""
    found = {n: x for n, x in arrays.items() if not n.startswith("velocity_")}
    if "velocity_x" in arrays:
        faces = [arrays[f"velocity_{a}"].astype(np.float32) for a in "xyz"]
        sides = [
            [np.moveaxis(u, axis, 0)[part] for part in (slice(1, None), slice(-1))] for axis, u in enumerate(faces)
        ]
        found["velocity"] = np.stack(
            [np.moveaxis(0.5 * (a + b), 0, axis) for axis, (a, b) in enumerate(sides)], axis=-1
        )
    return found


def _grids(baked: Baked, layer: Any, out: Path, pick: Callable[..., Any]) -> list[Path]:
    """One file a frame with the grids that `pick` returns of it."""
    folder = out / layer.id
    folder.mkdir(exist_ok=True)
    meta = baked.static(layer)[1]
    jobs, files = [], []
    for frame in baked.shot.frames():
        baked.check()
        path = folder / f"{layer.id}.{frame:06d}.vdb"
        jobs.append((pick(baked.store.read_frame(baked.keys[layer.id], frame)[0]), path))
        files.append(path)
        if len(jobs) == _AT_ONCE or frame == baked.shot.end:
            vdb.write(jobs, meta["origin"], meta["cell"])
            jobs = []
    return files


def _csv(baked: Baked, layer: Any, out: Path) -> list[Path]:
    rows = baked.store.read_gauges(baked.keys[layer.id])
    if not baked.shot.kind_of(layer).moving:
        rows = {baked.shot.start: baked.static(layer)[1].get("gauges", {})}
    if not rows:
        return []
    path = out / f"{layer.id}.gauges.csv"
    write_gauges(path, rows)
    return [path]


def _movie(baked: Baked, out: Path) -> list[Path]:
    if not any(baked.drawn_as(r) for r in REPRESENTATIONS):
        return []
    path = out / "preview.mp4"
    movie.write_movie(path, pictures(baked, frames=played(baked.shot)), baked.shot.rate)
    return [path]


_WRITERS = {
    "usd": _usd,
    "points": _points,
    "gltf": _gltf,
    "froth": _froth,
    "surface": _surface,
    "ply": _meshes("ply"),
    "obj": _meshes("obj"),
    "glb": _meshes("glb"),
    "levels": _levels,
    "vdb": _vdb,
    "csv": _csv,
}
