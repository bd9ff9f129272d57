"""The set panel: the shot's range, camera and cues, its pieces and the paths of what is driven."""

from fastapi import APIRouter, Form, Request

from urst.db import shots
from urst.db.engine import session
from urst.errors import BadValue
from urst.shot import scene
from urst.shot.document import Ball, Box, BrickWall, Drum, SetPiece
from urst.web import recipe
from urst.web.changes import put, save
from urst.web.templates import page

router = APIRouter(prefix="/shots/{shot_id}")

_NEW_SHAPES = {"box": Box(), "brick wall": BrickWall(), "drum": Drum(), "ball": Ball()}
#: frames between the last key and one added after it
_NEXT_KEY = 12


def _panel(request, kept, number, fault=None, *, changed=False):
    shot = kept.shot
    number = min(max(number, 0), len(shot.pieces) - 1)
    piece = shot.pieces[number] if shot.pieces else None
    reply = page(
        request, "set.html", kept=kept, shot=shot, number=number, piece=piece, fault=fault, kinds=list(_NEW_SHAPES),
        whole=recipe.rows(shot, recipe.SHOT_QUESTIONS, shot),
        cues=recipe.rows(shot, recipe.cue_questions(shot), shot),
        questions=recipe.rows(piece, recipe.piece_questions(piece), shot) if piece else [],
        keys=recipe.rows(piece, recipe.key_questions(piece), shot) if piece else [],
    )  # fmt: skip
    if changed:
        reply.headers["HX-Trigger"] = "shot-changed"
    return reply


def _piece(kept, number):
    if not 0 <= number < len(kept.shot.pieces):
        raise BadValue(f"There is no piece no. {number + 1}: choose one of the list.")
    return kept.shot.pieces[number]


@router.get("/pieces/{number}")
def get_piece(request: Request, shot_id: str, number: int):
    """The whole panel, with one piece."""
    with session() as db:
        return _panel(request, shots.get(db, shot_id), number)


@router.post("/whole/{number}")
def set_whole(request: Request, shot_id: str, number: int, path: str = Form(), value: str = Form("")):
    """Change one field of the shot itself, while piece no. `number` is in view."""
    with session() as db:
        kept = shots.get(db, shot_id)
        questions = (*recipe.SHOT_QUESTIONS, *recipe.cue_questions(kept.shot))
        kept, fault = put(db, kept, kept.shot, questions, (), path, value)
        return _panel(request, kept, number, fault, changed=not fault)


@router.post("/pieces/{number}")
def set_piece(request: Request, shot_id: str, number: int, path: str = Form(), value: str = Form("")):
    """Change one field of a piece."""
    with session() as db:
        kept = shots.get(db, shot_id)
        piece = _piece(kept, number)

        def also(data, before, now):
            mine = data["pieces"][number]
            if path == "name":
                # layers name the pieces they break
                for layer in data["layers"]:
                    if layer["kind"] == "break":
                        broken = layer["settings"]["pieces"]
                        layer["settings"]["pieces"] = [now if p == before else p for p in broken]
            if path == "motion" and now == "driven" and not mine["keys"]:
                key = {"frame": kept.shot.start, "position": mine["position"], "rotation": mine["rotation"]}
                mine["keys"] = [key]

        questions = (*recipe.piece_questions(piece), *recipe.key_questions(piece))
        kept, fault = put(db, kept, piece, questions, ("pieces", number), path, value, also)
        return _panel(request, kept, number, fault, changed=not fault)


@router.post("/add-piece")
def add_piece(request: Request, shot_id: str, kind: str = Form()):
    """Add a piece of the set, in front of what stands there."""
    if kind not in _NEW_SHAPES:
        raise BadValue(f"'{kind}' is no set piece; there are {', '.join(_NEW_SHAPES)}.")
    with session() as db:
        kept = shots.get(db, shot_id)
        taken = {p.name for p in kept.shot.pieces}
        name = next(n for i in range(1, 10_000) if (n := f"{kind.capitalize()} {i}") not in taken)
        box = scene.bounds(kept.shot, skip_fixed=True)
        place = (0.0, round(float(box[0][1]) - 1.5, 2), 0.0) if box else (0.0, 0.0, 0.0)
        data = kept.shot.model_dump(mode="json")
        data["pieces"].append(SetPiece(name=name, shape=_NEW_SHAPES[kind], position=place).model_dump(mode="json"))
        kept = save(db, kept, data, f"add {name}")
        return _panel(request, kept, len(kept.shot.pieces) - 1, changed=True)


@router.post("/pieces/{number}/remove")
def remove_piece(request: Request, shot_id: str, number: int):
    """Take a piece out of the set; a piece that a layer breaks stays."""
    with session() as db:
        kept = shots.get(db, shot_id)
        name = _piece(kept, number).name
        data = kept.shot.model_dump(mode="json")
        del data["pieces"][number]
        return _panel(request, save(db, kept, data, f"remove {name}"), number - 1, changed=True)


@router.post("/pieces/{number}/keys")
def add_key(request: Request, shot_id: str, number: int):
    """Add a key after the last, where that one stands."""
    with session() as db:
        kept = shots.get(db, shot_id)
        if _piece(kept, number).motion != "driven":
            raise BadValue("Only a driven piece has keys: set its motion to driven first.")
        data = kept.shot.model_dump(mode="json")
        keys = data["pieces"][number]["keys"]
        keys.append(keys[-1] | {"frame": keys[-1]["frame"] + _NEXT_KEY})
        return _panel(request, save(db, kept, data, "add a key"), number, changed=True)


@router.post("/pieces/{number}/keys/{key}/remove")
def remove_key(request: Request, shot_id: str, number: int, key: int):
    """Take a key out of a path; the last one stays."""
    with session() as db:
        kept = shots.get(db, shot_id)
        if not 0 <= key < len(_piece(kept, number).keys):
            raise BadValue(f"There is no key no. {key + 1}: look at the list again.")
        data = kept.shot.model_dump(mode="json")
        del data["pieces"][number]["keys"][key]
        return _panel(request, save(db, kept, data, "remove a key"), number, changed=True)


@router.post("/cues")
def add_cue(shot_id: str, frame: int = Form()):
    """Name a moment."""
    with session() as db:
        kept = shots.get(db, shot_id)
        taken = {c.name for c in kept.shot.cues}
        name = next(n for i in range(1, 10_000) if (n := f"cue {i}") not in taken)
        data = kept.shot.model_dump(mode="json")
        data["cues"].append({"name": name, "frame": frame})
        save(db, kept, data, f"add {name}")
    return {"cue": name}


@router.post("/cues/{number}/remove")
def remove_cue(request: Request, shot_id: str, number: int):
    """Take a cue away."""
    with session() as db:
        kept = shots.get(db, shot_id)
        data = kept.shot.model_dump(mode="json")
        if not 0 <= number < len(data["cues"]):
            raise BadValue(f"There is no cue no. {number + 1}: look at the list again.")
        del data["cues"][number]
        return _panel(request, save(db, kept, data, "remove a cue"), 0, changed=True)


@router.post("/camera")
def set_camera(shot_id: str, eye: str = Form(), target: str = Form()):
    """Put the shot's camera where the stage is seen from."""
    with session() as db:
        kept = shots.get(db, shot_id)
        data = kept.shot.model_dump(mode="json")
        for name, text in (("eye", eye), ("target", target)):
            data["camera"][name] = recipe.read(kept.shot, recipe.SHOT_QUESTIONS, f"camera.{name}", text)
        save(db, kept, data, "camera from the view")
    return {"camera": data["camera"]["name"]}
