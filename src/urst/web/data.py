"""Baked results as the stage takes them. An address that holds a content key never changes what it gives."""

import numpy as np
from fastapi import APIRouter, HTTPException, Response

from urst.core.geometry.surface import shading
from urst.core.materials import MATERIALS
from urst.db import shots
from urst.db.engine import session
from urst.shot import scene
from urst.web import blob
from urst.web.state import store

router = APIRouter()

_FOREVER = {"Cache-Control": "private, max-age=31536000, immutable"}


def _reply(arrays, meta=None, headers=None):
    return Response(blob.pack(arrays, meta), media_type="application/octet-stream", headers=headers)


def _checked(key):
    try:
        return store().folder(key)
    except ValueError as error:
        raise HTTPException(404, "There is no such result.") from error


def _surface(skin, body, inner):
    """Triangles corner by corner, with what shades them; normals in steps of 1/127."""
    normals, crease = shading(skin, body, inner)
    return {
        "skin": skin.astype(np.float32).reshape(-1, 3),
        "normal": np.round(127 * normals).astype(np.int8),
        "crease": crease,
        "inner": inner,
    }


@router.get("/data/{key}/static")
def static(key: str):
    """Fragments as the stage draws them: triangles corner by corner, and the body each belongs to."""
    _checked(key)
    arrays, meta = store().read_static(key)
    if "skin" not in arrays:
        return _reply({}, meta, _FOREVER)
    count = np.diff(arrays["skin_start"])
    body = np.repeat(np.arange(len(count), dtype=np.int32), count)
    out = _surface(arrays["skin"], body, arrays["inner"]) | {
        "body": body,
        "piece": arrays["piece"].astype(np.int32),
        "part": arrays["part"].astype(np.int32),
        "centre": arrays["centre"].astype(np.float32),
        "volume": arrays["volume"].astype(np.float32),
    }
    if "mass" in arrays:
        out |= {"mass": arrays["mass"].astype(np.float32), "motion": arrays["motion"].astype(np.int32)}
        pair = arrays["patch_pair"][arrays["bond"]]
        out["bond_pair"] = pair.astype(np.int32)
    return _reply(out, meta, _FOREVER)


@router.get("/data/{key}/frame/{frame}")
def frame(key: str, frame: int):
    """One frame, in the types the stage takes."""
    _checked(key)
    arrays, meta = store().read_frame(key, frame)
    if "density" in arrays:
        density = arrays["density"].astype(np.float32)
        most = float(density.max())
        # a square root keeps thin dust apart from none within eight bits
        level = np.sqrt(density / most) * 255.0 if most > 0 else density
        out = {"density": np.ascontiguousarray(level.astype(np.uint8).transpose(2, 1, 0))}
        return _reply(out, {"most": most}, _FOREVER)
    if "orientation" in arrays:
        names = ("position", "orientation", "velocity", "bond_alive", "bond_load")
        return _reply({n: arrays[n] for n in names}, {}, _FOREVER)
    chip = arrays["kind"] == 0
    out = {n: arrays[n][chip] for n in ("position", "size", "velocity")}
    out["puff"] = arrays["position"][~chip]
    return _reply(out, {}, _FOREVER)


@router.get("/shots/{shot_id}/set")
def set_pieces(shot_id: str):
    """The set at the first frame, for what is not baked yet."""
    with session() as db:
        shot = shots.get(db, shot_id).shot
    skins, bodies, pieces = [np.zeros((0, 3, 3))], [np.zeros(0, np.int32)], []
    for number, piece in enumerate(shot.pieces):
        for mesh in scene.placed(piece, shot):
            skins.append(mesh.vertices[mesh.triangles])
            bodies.append(np.full(len(mesh.triangles), len(pieces), np.int32))
            pieces.append(number)
    skin, body = np.concatenate(skins), np.concatenate(bodies)
    out = _surface(skin, body, np.zeros(len(body), np.uint8)) | {"body": body, "piece": np.array(pieces, np.int32)}
    return _reply(out, headers={"Cache-Control": "no-store"})


def set_meta(shot) -> dict:
    """What the stage must know of the set: names, colours, domains, camera."""
    return {
        "pieces": [
            {"name": p.name, "material": p.material, "motion": p.motion, "jointed": p.shape.kind == "brick wall"}
            | {"colour": MATERIALS[p.material].colour, "dust": MATERIALS[p.material].dust}
            for p in shot.pieces
        ],
        "domains": {
            x.id: {"low": x.settings.low, "cell": x.settings.cell_size, "shape": x.settings.shape()}
            for x in shot.layers
            if x.kind == "billow"
        },
        "camera": shot.camera.model_dump() | {"angle": scene.field_of_view(shot.camera.lens)},
        "broken": [p for x in shot.layers if x.kind == "break" for p in x.settings.pieces],
    }
