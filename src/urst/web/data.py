"""Baked results as the stage takes them. An address that holds a content key never changes what it gives."""

import struct
from collections.abc import Callable
from functools import lru_cache
from pathlib import Path
from typing import Any

import numpy as np
from fastapi import APIRouter, HTTPException, Response
from fastapi.responses import FileResponse

from urst.core.air import DUST_EXTINCTION
from urst.core.curves.varies import along
from urst.core.preview import look
from urst.db import shots
from urst.db.engine import session
from urst.drawn import codec, files, sets
from urst.errors import BadValue
from urst.kinds import registry
from urst.kinds.kind import Kind
from urst.kinds.offers.liquid import LIQUID
from urst.scene.materials import MATERIALS
from urst.scene.placing import bounds, field_of_view
from urst.scene.shapes import is_endless, is_jointed
from urst.shot.document import Shot
from urst.shot.keys import digest
from urst.web.store import store

router = APIRouter()

_ARRAYS = "application/octet-stream"
#: frames asked for at a time
_MOST_FRAMES = 32
_FOREVER = {"Cache-Control": "private, max-age=31536000, immutable"}


def _checked(key: str) -> Path:
    try:
        return store().folder(key)
    except ValueError as error:
        raise HTTPException(404, "There is no such result.") from error


@router.get("/data/{key}/static")
def static(key: str) -> Response:
    """What does not change over time of a result: fragments as the stage draws them, where a volume lies."""
    _checked(key)
    return FileResponse(files.static_file(store(), key), media_type=_ARRAYS, headers=_FOREVER)


@lru_cache(maxsize=4096)
def _kind(key: str) -> Kind:
    """The kind of layer a key's result is of: it never changes, so it is read once."""
    return registry.named(str(store().read_static(key)[1].get("kind")))


@router.get("/data/{key}/frames/{first}-{last}")
def frames(key: str, first: int, last: int, level: int = 0) -> Response:
    """Some frames in a row: of each its number and its size, 4 bytes each, then its arrays.

    level : 0 for all there is, more for coarser
    """
    _checked(key)
    kind = _kind(key)
    if kind.representation is None:
        raise HTTPException(404, "The stage draws nothing of this result.")
    if not 0 <= last - first < _MOST_FRAMES or not 0 <= level < 8:
        raise BadValue(
            f"frames {first} to {last} at level {level}: ask for 1 to {_MOST_FRAMES} in a row, level 0 to 7."
        )
    parts = []
    for frame in range(first, last + 1):
        data = files.frame_file(store(), kind, key, frame, level).read_bytes()
        parts += [struct.pack("<iI", frame, len(data)), data]
    return Response(b"".join(parts), media_type=_ARRAYS, headers=_FOREVER)


@router.get("/shots/{shot_id}/set")
def set_pieces(shot_id: str, of: str = "") -> Response:
    """The shapes of the set as the stage draws them; where they stand is told apart."""
    return _made(shot_id, of, lambda shot: digest(sets.geometry_content(shot)), sets.geometry)


@router.get("/shots/{shot_id}/paths")
def set_paths(shot_id: str, of: str = "") -> Response:
    """The paths of what is driven."""
    return _made(shot_id, of, lambda shot: digest(sets.paths_content(shot)), sets.paths)


def _made(shot_id: str, of: str, key_of: Callable[..., Any], make: Callable[..., Any]) -> Response:
    """A file under the key of its content; asked for by that key it never changes."""
    with session() as db:
        shot = shots.get(db, shot_id).shot
    key = key_of(shot)
    headers = _FOREVER if of == key else {"Cache-Control": "no-store"}
    try:
        path = files.set_file(store(), key, lambda: codec.encode(make(shot), {}))
    except OSError:
        # it is seen all the same, and made anew each time
        return Response(codec.encode(make(shot), {}), media_type=_ARRAYS, headers=headers)
    return FileResponse(path, media_type=_ARRAYS, headers=headers)


def set_meta(shot: Shot) -> dict:
    """What the stage must know of the set: names, colours, who is seen when, domains, camera."""
    rows = [shot.part_of(p) for p in shot.pieces]
    box = bounds(shot)
    return {
        "start": shot.start,
        "played": None if shot.played == 1.0 else along(shot.played, np.array(shot.frames(), float)).tolist(),
        "set": digest(sets.geometry_content(shot)),
        "paths": digest(sets.paths_content(shot)),
        "pieces": [
            {"name": p.name, "material": p.material, "motion": p.motion, "jointed": is_jointed(p.shape)}
            | {"position": p.keys[0].position if p.motion == "driven" else p.position}
            | {
                "colour": MATERIALS[p.material].colour,
                "dust": MATERIALS[p.material].dust,
                "endless": is_endless(p.shape),
            }
            | {"seen": r.seen, "since": r.since, "until": r.until}
            | where
            for p, r, where in zip(shot.pieces, rows, sets.stances(shot))
        ],
        "casts": {x.id: shot.kind_of(x).cast(shot, x) for x in shot.layers},
        "matter": {x.id: look_of(shot, x) for x in shot.layers},
        "domains": {x.id: grid.model_dump() for x in shot.layers if (grid := shot.kind_of(x).grid(x)) is not None},
        # under an open sea there is no ground to measure on
        "sea": any(shot.facts(x, LIQUID).sea for x in shot.layers if LIQUID in shot.kind_of(x).offers),
        "shades": {x.id: _shades(shot, x) for x in shot.layers if shot.kind_of(x).representation == "volume"},
        "sorts": {x.id: shot.kind_of(x).sorts for x in shot.layers if shot.kind_of(x).sorts},
        "sliced": {
            x.id: [{"name": s.name, "title": s.title, "unit": s.unit} for s in shot.kind_of(x).sliced]
            for x in shot.layers
            if shot.kind_of(x).sliced
        },
        "bounds": [list(map(float, c)) for c in box] if box else None,
        "look": {"extinction": DUST_EXTINCTION, "dimming": look.DIMMING, "chip": look.CHIP},
        "camera": shot.camera.model_dump() | {"angle": field_of_view(shot.camera.lens)},
        "cameras": [c.name for c in shot.cameras],
        "picture": shot.picture.model_dump(),
    }


def _shades(shot: Shot, layer: Any) -> list[dict[str, Any]]:
    """How each concentration of a layer's volume looks."""
    dust = look_of(shot, layer)["dust"]
    found = shot.kind_of(layer).shades(shot, layer)
    return [{"name": s.name, "colour": s.colour or dust, "extinction": s.extinction} for s in found]


def look_of(shot: Shot, layer: Any) -> dict[str, Any]:
    """Return colours of a layer's matter and of its dust, and its tint where it has one."""
    usual = MATERIALS[shot.pieces[0].material if shot.pieces else "stone"]
    found = shot.kind_of(layer).matter(shot, layer) or usual
    tint = shot.kind_of(layer).tint(shot, layer)
    return {"colour": found.colour, "dust": found.dust} | (tint._asdict() if tint else {})
