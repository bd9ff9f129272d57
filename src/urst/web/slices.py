"""Planes across baked frames, and what a probe tells of the place that it meets."""

from functools import lru_cache
from typing import Any

import numpy as np
from fastapi import APIRouter, HTTPException, Response
from fastapi.responses import JSONResponse
from scipy.ndimage import map_coordinates

from urst.drawn import codec
from urst.errors import BadValue
from urst.kinds import registry
from urst.web.store import store

router = APIRouter()

#: steps of a ray a cell, and cells along it that are looked at
_FINE, _FAR = 2, 4000


@lru_cache(maxsize=3)
def _frame(key: str, frame: int) -> tuple[dict[str, np.ndarray], dict[str, Any], Any]:
    """A frame with its grid and its kind; keys never change what they hold."""
    try:
        meta = store().read_static(key)[1]
    except ValueError as error:
        raise HTTPException(404, "There is no such result.") from error
    kind = registry.named(str(meta.get("kind")))
    if not kind.sliced:
        raise HTTPException(404, "Nothing of this result is shown on a plane.")
    return store().read_frame(key, frame)[0], meta, kind


@router.get("/data/{key}/slices/{frame}")
def plane(key: str, frame: int, of: str, axis: str, at: float) -> Response:
    """A plane across an axis at a place [m]: values (n, m) along the two others, where they are known, their bounds
    over all the frame."""
    arrays, meta, kind = _frame(key, frame)
    what = next((s for s in kind.sliced if s.name == of), None)
    if what is None or axis not in ("x", "y", "z"):
        raise BadValue(
            f"'{of}' across '{axis}' is not shown: choose {', '.join(s.name for s in kind.sliced)} across x, y or z."
        )
    across, origin, cell = "xyz".index(axis), np.array(meta["origin"]), float(meta["cell"])
    values, known = kind.cells(arrays, meta, of)
    n = int(np.floor((at - origin[across]) / cell))
    inside = 0 <= n < values.shape[across]
    most = float(values[known].max(initial=0.0)) if known.any() else 0.0
    take = lambda field: np.take(field, min(max(n, 0), values.shape[across] - 1), across)  # noqa: E731
    found = {"values": take(values).astype(np.float32), "known": (take(known) & inside).astype(np.uint8)}
    meta = {
        "shape": found["values"].shape,
        "low": origin.tolist(),
        "cell": cell,
        "axis": axis,
        "at": at,
        "most": _round(most),
        "labels": what.labels,
    }
    return Response(codec.encode(found, meta), media_type="application/octet-stream")


def _round(most: float) -> float:
    """The next of 1, 2 and 5 times a power of ten."""
    if most <= 0.0:
        return 1.0
    scale = 10.0 ** np.floor(np.log10(most))
    return float(next(s * scale for s in (1, 2, 5, 10) if s * scale >= most * (1 - 1e-6)))


@router.get("/data/{key}/probe/{frame}")
def probe(key: str, frame: int, eye: str, way: str, until: float = 1e9) -> Response:
    """What a ray first meets of a frame before it has gone a length [m]: the place and what is told of it; empty if it
    meets nothing."""
    try:
        start, ray = (np.array([float(x) for x in text.split(",")]) for text in (eye, way))
        if start.shape != (3,) or ray.shape != (3,) or not np.isfinite([*start, *ray]).all() or not ray.any():
            raise ValueError
    except ValueError as error:
        raise BadValue(f"eye '{eye}' and way '{way}' are no ray: write three numbers each, like 0,-5,2.") from error
    arrays, meta, kind = _frame(key, frame)
    distance = kind.probe_surface(arrays)
    if distance is None:
        return JSONResponse({})
    cell, shape = float(meta["cell"]), np.array(distance.shape)
    start, ray = (start - np.array(meta["origin"])) / cell, ray / np.linalg.norm(ray)
    with np.errstate(divide="ignore", invalid="ignore"):
        ends = np.sort(np.stack([-start / ray, (shape - start) / ray]), axis=0)
    first, last = max(0.0, float(np.nanmax(ends[0]))), min(float(np.nanmin(ends[1])), until / cell, _FAR)
    if last <= first:
        return JSONResponse({})
    along = np.arange(first, last, 1.0 / _FINE)
    away = map_coordinates(distance.astype(np.float32), (start + along[:, None] * ray - 0.5).T, order=1, mode="nearest")
    surface_distance = np.flatnonzero(away < 0.0)
    if not len(surface_distance):
        return JSONResponse({})
    place = start + along[surface_distance[0]] * ray
    readings = [{"label": t.label, "value": t.value, "unit": t.unit} for t in kind.probe(arrays, meta, place)]
    return JSONResponse({"away": float(along[surface_distance[0]] * cell), "readings": readings})
