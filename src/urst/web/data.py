"""Baked results as the stage takes them. An address that holds a content key never changes what it gives."""

from functools import lru_cache

import numpy as np
from fastapi import APIRouter, HTTPException, Response

from urst.core.bodies.fragments import Fragments, assemble, joined
from urst.core.bodies.shown import owners, shaded
from urst.core.geometry import rotation
from urst.core.geometry.convex import pack
from urst.core.preview import look
from urst.db import shots
from urst.db.engine import session
from urst.errors import BadMesh
from urst.kinds import registry
from urst.scene.materials import MATERIALS
from urst.scene.placing import bounds, field_of_view, path, solids
from urst.scene.shapes import is_endless, is_jointed
from urst.web import blob
from urst.web.store import store

router = APIRouter()

_FOREVER = {"Cache-Control": "private, max-age=31536000, immutable"}


def _reply(arrays, meta=None, headers=None):
    return Response(blob.pack(arrays, meta), media_type="application/octet-stream", headers=headers)


def _checked(key):
    try:
        return store().folder(key)
    except ValueError as error:
        raise HTTPException(404, "There is no such result.") from error


def _surface(fragments: Fragments):
    """Triangles corner by corner, with what shades them; normals in steps of 1/127; and the bodies they belong to."""
    normals, crease = shaded(fragments)
    return {
        "skin": fragments.skin.astype(np.float32).reshape(-1, 3),
        "normal": np.round(127 * normals).astype(np.int8),
        "crease": crease,
        "inner": fragments.inner,
        "body": owners(fragments),
        "piece": fragments.piece.astype(np.int32),
        "part": fragments.part.astype(np.int32),
        "shade": look.shade(fragments.part).astype(np.float32),
        "centre": fragments.centre.astype(np.float32),
        "volume": fragments.volume.astype(np.float32),
    }


@router.get("/data/{key}/static")
def static(key: str):
    """What does not change over time of a result: fragments as the stage draws them, where a volume lies."""
    _checked(key)
    arrays, meta = store().read_static(key)
    if "skin" not in arrays:
        return _reply({}, meta, _FOREVER)
    out = _surface(Fragments.from_arrays(arrays))
    if "mass" in arrays:
        out |= {"mass": arrays["mass"].astype(np.float32), "motion": arrays["motion"].astype(np.int32)}
        out["bond_pair"] = arrays["patch_pair"][arrays["bond"]].astype(np.int32)
    return _reply(out, meta, _FOREVER)


def _bodies(arrays):
    names = ("position", "orientation", "velocity", "bond_alive", "bond_load")
    return {n: arrays[n] for n in names if n in arrays}, {}


def _points(arrays):
    return {n: arrays[n] for n in ("position", "size", "velocity", "puff") if n in arrays}, {}


def _volume(arrays):
    density = arrays["density"].astype(np.float32)
    most = float(density.max())
    # a square root keeps thin dust apart from none within eight bits
    level = np.sqrt(density / most) * 255.0 if most > 0 else density
    return {"density": np.ascontiguousarray(level.astype(np.uint8).transpose(2, 1, 0))}, {"most": most}


#: by what the stage draws of a frame
_ENCODE = {"bodies": _bodies, "points": _points, "volume": _volume}


@lru_cache(maxsize=4096)
def _kind(key):
    """The kind of layer a key's result is of: it never changes, so it is read once."""
    return registry.named(store().read_static(key)[1]["kind"])


@router.get("/data/{key}/frame/{frame}")
def frame(key: str, frame: int):
    """One frame, in the types the stage takes."""
    _checked(key)
    arrays = store().read_frame(key, frame)[0]
    kind = _kind(key)
    if kind.representation not in _ENCODE:
        raise HTTPException(404, "The stage draws nothing of this result.")
    return _reply(*_ENCODE[kind.representation](kind.drawn(arrays)), _FOREVER)


@router.get("/shots/{shot_id}/set")
def set_pieces(shot_id: str):
    """The set at the first frame, for what no layer carries along, and the paths of what is driven."""
    with session() as db:
        shot = shots.get(db, shot_id).shot
    found = assemble_seen(shot)
    return _reply(_surface(found) | _paths(shot), headers={"Cache-Control": "no-store"})


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
