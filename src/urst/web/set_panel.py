"""The set panel: the shot's range, camera and cues, its pieces and the paths of what is driven."""

from collections.abc import Iterable
from typing import Any

from fastapi import APIRouter, Form, Request, Response
from sqlalchemy.orm import Session

from urst.db import shots
from urst.db.engine import session
from urst.errors import BadValue
from urst.kinds import registry
from urst.scene.pieces import SetPiece
from urst.scene.placing import bounds
from urst.scene.shapes import Ball, Box, BrickWall, Drum, Ground, Shape, Terrain, is_endless, is_sheet
from urst.scene.taking_part import MATTERS
from urst.scene.units import parse_number
from urst.scene.values import without_entry
from urst.shot import giving
from urst.shot.document import Shot
from urst.web import merge, recipe
from urst.web.changes import put, save
from urst.web.templates import page

router = APIRouter(prefix="/shots/{shot_id}")

_NEW_SHAPES: dict[str, Shape] = {
    "box": Box(),
    "brick wall": BrickWall(),
    "drum": Drum(),
    "ball": Ball(),
    "ground": Ground(),
    "terrain": Terrain(),
}
#: frames between the last key and one added after it
_NEXT_KEY = 12
#: more keys than this came with an animation and are not shown one by one
_FEW_KEYS = 40


def _panel(
    request: Request, kept: shots.Kept, number: int, fault: dict[str, Any] | None = None, *, changed: bool = False
) -> Response:
    shot = kept.shot
    number = min(max(number, 0), len(shot.pieces) - 1)
    piece = shot.pieces[number] if shot.pieces else None
    reply = page(
        request,
        "set.html",
        409 if fault and fault["conflict"] else 200,
        kept=kept,
        shot=shot,
        number=number,
        piece=piece,
        fault=fault,
        kinds=list(_NEW_SHAPES),
        whole=recipe.rows(shot, recipe.SHOT_QUESTIONS, shot),
        cameras=recipe.rows(shot, recipe.camera_questions(shot), shot),
        cues=recipe.rows(shot, recipe.cue_questions(shot), shot),
        values=recipe.rows(shot, recipe.value_questions(shot), shot),
        parts=list(zip(shot.taking_part, recipe.rows(shot, recipe.part_questions(shot), shot))),
        givable=[f for q in recipe.piece_questions(piece) for f in q.fields if f.path in giving.OF_PIECES]
        if piece
        else [],
        others=[p.name for p in shot.pieces if p is not piece],
        tags=sorted({t for p in shot.pieces for t in p.tags}),
        part_names=_without_row(shot),
        matters=MATTERS,
        questions=recipe.rows(piece, recipe.piece_questions(piece), shot, piece.name) if piece else [],
        keys=recipe.rows(piece, recipe.key_questions(piece), shot, piece.name)
        if piece and len(piece.keys) <= _FEW_KEYS
        else [],
        many=piece.keys if piece and piece.motion == "driven" and len(piece.keys) > _FEW_KEYS else (),
    )
    if changed:
        reply.headers["HX-Trigger"] = "shot-changed"
    return reply


def _without_row(shot: Shot) -> list[str]:
    """Pieces and tags that have no row of their own in who takes part."""
    names = dict.fromkeys([p.name for p in shot.pieces] + [t for p in shot.pieces for t in p.tags])
    return [n for n in names if n not in {t.of for t in shot.taking_part}]


def _piece(db: Session, kept: shots.Kept, number: int) -> tuple[int, SetPiece]:
    """The number and the piece that who asks means by a number."""
    number = merge.number(db, kept, ("pieces",), number)
    if not 0 <= number < len(kept.shot.pieces):
        raise BadValue(f"There is no piece no. {number + 1}: choose one of the list.")
    return number, kept.shot.pieces[number]


@router.get("/pieces/{number}")
def get_piece(request: Request, shot_id: str, number: int) -> Response:
    """The whole panel, with one piece."""
    with session() as db:
        return _panel(request, shots.get(db, shot_id), number)


@router.post("/whole/{number}")
def set_whole(request: Request, shot_id: str, number: int, path: str = Form(), value: str = Form("")) -> Response:
    """Change one field of the shot itself, while piece no. `number` is in view."""
    with session() as db:
        kept = shots.get(db, shot_id, to_change=True)
        questions = (
            *recipe.SHOT_QUESTIONS,
            *recipe.camera_questions(kept.shot),
            *recipe.cue_questions(kept.shot),
            *recipe.value_questions(kept.shot),
            *recipe.part_questions(kept.shot),
        )

        def also(data: dict[str, Any], before: Any, now: Any) -> None:
            if path.startswith(("values.", "cues.")) and path.endswith(".name"):
                data["uses"] = [u | {"value": now} if u["value"] == before else u for u in data["uses"]]
            if path.startswith("cameras.") and path.endswith(".name"):
                data["through"] = now

        kept, fault = put(db, kept, kept.shot, questions, (), path, value, also, owner="")
        return _panel(request, kept, number, fault, changed=not fault)


@router.post("/pieces/{number}")
def set_piece(request: Request, shot_id: str, number: int, path: str = Form(), value: str = Form("")) -> Response:
    """Change one field of a piece."""
    with session() as db:
        kept = shots.get(db, shot_id, to_change=True)
        number, piece = _piece(db, kept, number)

        def also(data: dict[str, Any], before: Any, now: Any) -> None:
            mine = data["pieces"][number]
            if path == "name":
                _rename(data, str(before), str(now))
            if path == "motion" and now == "driven" and not mine["keys"]:
                key = {"frame": kept.shot.start, "position": mine["position"], "rotation": mine["rotation"]}
                mine["keys"] = [key]

        questions = (*recipe.piece_questions(piece), *recipe.key_questions(piece))
        kept, fault = put(db, kept, piece, questions, ("pieces", number), path, value, also, owner=piece.name)
        return _panel(request, kept, number, fault, changed=not fault)


def _rename(data: dict[str, Any], before: str, now: str) -> None:
    """Follow a piece's new name wherever the document says the old one."""
    for layer in data["layers"]:
        layer["settings"] = registry.named(layer["kind"]).rename_references(layer["settings"], before, now)
    data["taking_part"] = [t | {"of": now} if t["of"] == before else t for t in data["taking_part"]]
    data["uses"] = [u | {"owner": now} if u["owner"] == before else u for u in data["uses"]]


@router.post("/add-piece")
def add_piece(request: Request, shot_id: str, kind: str = Form()) -> Response:
    """Add a piece of the set, in front of what stands there."""
    if kind not in _NEW_SHAPES:
        raise BadValue(f"'{kind}' is no set piece; there are {', '.join(_NEW_SHAPES)}.")
    with session() as db:
        kept = shots.get(db, shot_id, to_change=True)
        name = _free(kind.capitalize(), kept.shot.pieces)
        box = bounds(kept.shot, skip_fixed=True)
        place = (0.0, round(float(box[0][1]) - 1.5, 2), 0.0) if box else (0.0, 0.0, 0.0)
        data = kept.shot.model_dump(mode="json")
        shape = _NEW_SHAPES[kind]
        stands = is_endless(shape) or is_sheet(shape)
        piece = SetPiece(
            name=name, shape=shape, position=(0.0, 0.0, 0.0) if stands else place, motion="fixed" if stands else "loose"
        )
        data["pieces"].append(piece.model_dump(mode="json"))
        kept = save(db, kept, data, f"add {name}")
        return _panel(request, kept, len(kept.shot.pieces) - 1, changed=True)


@router.post("/pieces/{number}/remove")
def remove_piece(request: Request, shot_id: str, number: int) -> Response:
    """Take a piece out of the set; a piece that a layer breaks stays."""
    with session() as db:
        kept = shots.get(db, shot_id, to_change=True)
        number, piece = _piece(db, kept, number)
        name = piece.name
        data = kept.shot.model_dump(mode="json")
        del data["pieces"][number]
        data["taking_part"] = [t for t in data["taking_part"] if t["of"] != name]
        data["uses"] = [u for u in data["uses"] if u["owner"] != name]
        return _panel(request, save(db, kept, data, f"remove {name}"), number - 1, changed=True)


@router.post("/pieces/{number}/move")
def move_piece(
    shot_id: str, number: int, x: float = Form(0.0), y: float = Form(0.0), z: float = Form(0.0)
) -> dict[str, Any]:
    """Move a piece by so many metres, a driven one with its whole path."""
    with session() as db:
        kept = shots.get(db, shot_id, to_change=True)
        number, found = _piece(db, kept, number)
        name = found.name
        data = kept.shot.model_dump(mode="json")
        piece = data["pieces"][number]
        for place in (piece, *piece["keys"]):
            place["position"] = [float(f"{a + d:.9g}") for a, d in zip(place["position"], (x, y, z))]
        save(db, kept, data, f"move {name}")
    return {"moved": name}


@router.post("/pieces/{number}/give")
def give_to_pieces(
    request: Request, shot_id: str, number: int, path: str = Form(), to: list[str] = Form(())
) -> Response:
    """Give a property of a piece to others, named or by tag."""
    with session() as db:
        kept = shots.get(db, shot_id, to_change=True)
        number, piece = _piece(db, kept, number)
        shot = giving.given_piece(kept.shot, piece.name, path, to)
        kept = save(db, kept, shot.model_dump(mode="json"), f"give {path}")
        return _panel(request, kept, number, changed=True)


@router.post("/pieces/{number}/keys")
def add_key(request: Request, shot_id: str, number: int) -> Response:
    """Add a key after the last, where that one stands."""
    with session() as db:
        kept = shots.get(db, shot_id, to_change=True)
        number, piece = _piece(db, kept, number)
        if piece.motion != "driven":
            raise BadValue("Only a driven piece has keys: set its motion to driven first.")
        data = kept.shot.model_dump(mode="json")
        keys = data["pieces"][number]["keys"]
        keys.append(keys[-1] | {"frame": keys[-1]["frame"] + _NEXT_KEY})
        return _panel(request, save(db, kept, data, "add a key"), number, changed=True)


@router.post("/pieces/{number}/keys/{key}/remove")
def remove_key(request: Request, shot_id: str, number: int, key: int) -> Response:
    """Take a key out of a path; the last one stays."""
    with session() as db:
        kept = shots.get(db, shot_id, to_change=True)
        number, piece = _piece(db, kept, number)
        key = merge.unchanged(db, kept, ("pieces", number, "keys"), key)
        if not 0 <= key < len(piece.keys):
            raise BadValue(f"There is no key no. {key + 1}: look at the list again.")
        data = kept.shot.model_dump(mode="json")
        del data["pieces"][number]["keys"][key]
        data["uses"] = without_entry(data["uses"], data["pieces"][number]["name"], "keys", key)
        return _panel(request, save(db, kept, data, "remove a key"), number, changed=True)


@router.post("/cues")
def add_cue(shot_id: str, frame: int = Form()) -> dict[str, Any]:
    """Name a moment."""
    with session() as db:
        kept = shots.get(db, shot_id, to_change=True)
        name = _free("cue", kept.shot.cues)
        data = kept.shot.model_dump(mode="json")
        data["cues"].append({"name": name, "frame": frame})
        save(db, kept, data, f"add {name}")
    return {"cue": name}


@router.post("/cues/{number}/remove")
def remove_cue(request: Request, shot_id: str, number: int) -> Response:
    """Take a cue away."""
    return _without(request, shot_id, "cue", "cues", number)


def _without(request: Request, shot_id: str, what: str, place: str, number: int) -> Response:
    """Take one entry out of a list of the document."""
    with session() as db:
        kept = shots.get(db, shot_id, to_change=True)
        number = merge.unchanged(db, kept, (place,), number)
        data = kept.shot.model_dump(mode="json")
        if not 0 <= number < len(data[place]):
            raise BadValue(f"There is no {what} no. {number + 1}: look at the list again.")
        gone = data[place].pop(number)
        if place in ("values", "cues"):
            data["uses"] = [u for u in data["uses"] if u["value"] != gone["name"]]
        data["uses"] = without_entry(data["uses"], "", place, number)
        return _panel(request, save(db, kept, data, f"remove a {what}"), 0, changed=True)


@router.post("/values")
def add_value(request: Request, shot_id: str) -> Response:
    """Add a named value."""
    with session() as db:
        kept = shots.get(db, shot_id, to_change=True)
        data = kept.shot.model_dump(mode="json")
        data["values"].append({"name": _free("value", kept.shot.values), "value": 1.0})
        return _panel(request, save(db, kept, data, "add a value"), 0, changed=True)


@router.post("/values/{number}/remove")
def remove_value(request: Request, shot_id: str, number: int) -> Response:
    """Take a named value away; settings that took it keep the number."""
    return _without(request, shot_id, "value", "values", number)


@router.post("/taking-part")
def add_part(request: Request, shot_id: str, of: str = Form()) -> Response:
    """Give a piece or a tag a row in who takes part."""
    with session() as db:
        kept = shots.get(db, shot_id, to_change=True)
        data = kept.shot.model_dump(mode="json")
        data["taking_part"].append({"of": of})
        return _panel(request, save(db, kept, data, f"{of} takes part"), 0, changed=True)


@router.post("/taking-part/{number}/remove")
def remove_part(request: Request, shot_id: str, number: int) -> Response:
    """Take a row away: the piece stops all, is always there, and is seen."""
    return _without(request, shot_id, "row", "taking_part", number)


@router.post("/camera")
def set_camera(shot_id: str, eye: str = Form(), target: str = Form(), new: bool = Form(False)) -> dict[str, Any]:
    """Put the camera that is seen through, or a new one, where the stage is seen from."""
    with session() as db:
        kept = shots.get(db, shot_id, to_change=True)
        data = kept.shot.model_dump(mode="json")
        number = kept.shot.cameras.index(kept.shot.camera)
        if new:
            data["cameras"].append(dict(data["cameras"][number]))
            number = len(data["cameras"]) - 1
            data["through"] = data["cameras"][number]["name"] = _free("camera", kept.shot.cameras)
        for name, text in (("eye", eye), ("target", target)):
            data["cameras"][number][name] = [parse_number(x, "m", name) for x in text.split(",")]
        save(db, kept, data, "camera from the view")
    return {"camera": data["through"]}


@router.post("/seen")
def set_seen(shot_id: str, path: str = Form(), value: str = Form("")) -> dict[str, Any]:
    """Change the picture or which camera it is taken through, from the view."""
    with session() as db:
        kept = shots.get(db, shot_id, to_change=True)
        questions = (*recipe.SHOT_QUESTIONS, *recipe.camera_questions(kept.shot))
        if not path.startswith("picture.") and path != "through":
            raise BadValue(f"'{path}' is nothing that is changed from the view.")
        _, fault = put(db, kept, kept.shot, questions, (), path, value, owner="")
        if fault:
            raise BadValue(fault["message"])
    return {path: value}


@router.post("/cameras/remove")
def remove_camera(request: Request, shot_id: str) -> Response:
    """Take the camera away that is seen through; the one before it is seen through then."""
    with session() as db:
        kept = shots.get(db, shot_id, to_change=True)
        data = kept.shot.model_dump(mode="json")
        if len(data["cameras"]) == 1:
            raise BadValue("A shot keeps at least one camera: add another before this one goes.")
        at = kept.shot.cameras.index(kept.shot.camera)
        del data["cameras"][at]
        data["through"] = data["cameras"][max(0, at - 1)]["name"]
        return _panel(request, save(db, kept, data, "remove a camera"), 0, changed=True)


def _free(stem: str, taken: Iterable[Any]) -> str:
    names = {x.name for x in taken}
    return next(n for i in range(1, 10_000) if (n := f"{stem} {i}") not in names)
