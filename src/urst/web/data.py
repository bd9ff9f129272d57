"""Baked results as the stage takes them. An address that holds a content key never changes what it gives."""

import struct
from functools import lru_cache

import numpy as np
from fastapi import APIRouter, HTTPException, Response
from fastapi.responses import FileResponse

from urst.core.bodies.fragments import Fragments, assemble, joined
from urst.core.geometry import rotation
from urst.core.geometry.convex import pack
from urst.core.preview import look
from urst.db import shots
from urst.db.engine import session
from urst.drawn import codec, files, representations
from urst.errors import BadMesh, BadValue
from urst.kinds import registry
from urst.scene import content
from urst.scene.materials import MATERIALS
from urst.scene.placing import bounds, field_of_view, path, solids
from urst.scene.shapes import is_endless, is_jointed
from urst.shot.keys import digest
from urst.web.store import store

router = APIRouter()

_ARRAYS = "application/octet-stream"
#: frames asked for at a time
_MOST_FRAMES = 32
_FOREVER = {"Cache-Control": "private, max-age=31536000, immutable"}


def _checked(key):
    try:
        return store().folder(key)
    except ValueError as error:
        raise HTTPException(404, "There is no such result.") from error


@router.get("/data/{key}/static")
def static(key: str):
    """What does not change over time of a result: fragments as the stage draws them, where a volume lies."""
    _checked(key)
    return FileResponse(files.static_file(store(), key), media_type=_ARRAYS, headers=_FOREVER)


@lru_cache(maxsize=4096)
def _kind(key):
    """The kind of layer a key's result is of: it never changes, so it is read once."""
    return registry.named(store().read_static(key)[1]["kind"])


@router.get("/data/{key}/frames/{first}-{last}")
def frames(key: str, first: int, last: int, level: int = 0):
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
def set_pieces(shot_id: str, of: str = ""):
    """The set at the first frame, for what no layer carries along, and the paths of what is driven."""
    with session() as db:
        shot = shots.get(db, shot_id).shot
    key = set_key(shot)
    path = files.set_file(
        store(), key, lambda: codec.encode(representations.skins(assemble_seen(shot)) | _paths(shot), {})
    )
    # asked for by the key of what it shows, it never changes
    return FileResponse(path, media_type=_ARRAYS, headers=_FOREVER if of == key else {"Cache-Control": "no-store"})


def set_key(shot) -> str:
    """Return the content key of the set as the stage draws it: what stands where, and what is driven along which path."""
    pieces = [content.stance(p, shot) for p in shot.pieces]
    return digest({"set": pieces, "clock": content.clock(shot), "end": shot.end})


def _paths(shot):
    """Which pieces are driven (d,), and how each has moved since the first frame: shift and quaternion, (frames, d, 7).

    A point c of the piece at the first frame is then at q c + shift.
    """
    driven = [i for i, p in enumerate(shot.pieces) if p.motion == "driven"]
    if not driven:
        return {}
    clock, rows = shot.clock(), []
    for piece in (shot.pieces[i] for i in driven):
        at = path(piece)
        home, home_turn = at(shot.start)
        for f in shot.frames():
            position, turn = at(clock.full_speed(clock.seconds(f)))
            moved = rotation.turns(turn) * rotation.turns(home_turn).inv()
            rows.append([*(position - moved.apply(home)), *rotation.quaternions(moved)])
    table = np.array(rows, np.float32).reshape(len(driven), -1, 7)
    return {"driven": np.array(driven, np.int32), "path": np.ascontiguousarray(table.transpose(1, 0, 2))}


def assemble_seen(shot) -> Fragments:
    """Return all pieces as bodies; one that is no sound solid is drawn as it is, about the origin."""
    kept = []
    for number, piece in enumerate(shot.pieces):
        for solid in solids(number, piece, shot):
            try:
                kept.append(assemble([solid]))
            except BadMesh:
                kept.append(_as_it_is(solid))
    return joined(kept) if kept else assemble([])


def _as_it_is(solid) -> Fragments:
    mesh = solid.mesh
    empty = pack([])
    return Fragments(
        piece=np.array([solid.piece]), part=np.array([solid.part]), centre=np.zeros((1, 3)), volume=np.zeros(1),
        inertia=np.zeros((1, 3, 3)), hulls=empty._replace(vertex_start=np.zeros(2, np.int64), face_start=np.zeros(2, np.int64), edge_start=np.zeros(2, np.int64)),
        skin=mesh.vertices[mesh.triangles].astype(np.float32).reshape(-1, 3, 3),
        skin_start=np.array([0, len(mesh.triangles)], np.int64), inner=np.zeros(len(mesh.triangles), np.uint8),
    )  # fmt: skip


def set_meta(shot) -> dict:
    """What the stage must know of the set: names, colours, who is seen when, domains, camera."""
    rows = [shot.part_of(p) for p in shot.pieces]
    box = bounds(shot)
    return {
        "start": shot.start,
        "set": set_key(shot),
        "pieces": [
            {"name": p.name, "material": p.material, "motion": p.motion, "jointed": is_jointed(p.shape)}
            | {"position": p.keys[0].position if p.motion == "driven" else p.position}
            | {
                "colour": MATERIALS[p.material].colour,
                "dust": MATERIALS[p.material].dust,
                "endless": is_endless(p.shape),
            }
            | {"seen": r.seen, "since": r.since, "until": r.until}
            for p, r in zip(shot.pieces, rows)
        ],
        "casts": {x.id: shot.kind_of(x).cast(shot, x) for x in shot.layers},
        "matter": {x.id: _look(shot.kind_of(x).matter(shot, x) or next(iter(shot.pieces), None)) for x in shot.layers},
        "domains": {
            x.id: {"low": x.settings.low, "cell": x.settings.cell_size, "shape": x.settings.shape()}
            for x in shot.layers
            if shot.kind_of(x).representation == "volume"
        },
        "bounds": [list(map(float, c)) for c in box] if box else None,
        "look": {"extinction": look.EXTINCTION, "dimming": look.DIMMING, "chip": look.CHIP},
        "camera": shot.camera.model_dump() | {"angle": field_of_view(shot.camera.lens)},
        "cameras": [c.name for c in shot.cameras],
        "picture": shot.picture.model_dump(),
    }


def _look(piece):
    found = MATERIALS[piece.material if piece else "stone"]
    return {"colour": found.colour, "dust": found.dust}
