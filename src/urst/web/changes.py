"""Changes of a document from the pages: each is one revision, or none if it does not fit."""

import re
from collections.abc import Callable
from typing import Any

from pydantic import BaseModel
from sqlalchemy.orm import Session

from urst.db import shots
from urst.errors import BadValue, Conflict
from urst.kinds.questions import Field, Question
from urst.shot.document import Shot, parse
from urst.web import curve_text, merge, recipe, request_context

#: how a setting is told to take a named value or a cue: = name, = name x 2, = cue + 3
_TAKES = re.compile(
    r"^\s*=\s*(?P<name>.+?)\s*(?:[x×*]\s*(?P<factor>[-+]?(?:\d+\.?\d*|\.\d+)(?:e[-+]?\d+)?))?\s*(?:(?P<sign>[-+−])\s*(?P<plus>\d+(?:\.\d+)?))?\s*$",
    re.IGNORECASE,
)


def put(
    db: Session,
    kept: shots.Kept,
    model: Any,
    questions: tuple[Question, ...],
    place: tuple,
    path: str,
    value: str,
    also: Callable[[dict, object, object], None] = lambda data, before, now: None,
    owner: str | None = None,
) -> tuple[shots.Kept, dict | None]:
    """Put a typed value into the document; return the shot as it then is, and what was wrong if it stayed as it was.

    A setting that somebody else has changed since the page was drawn stays as they have it, and both values are told.

    model, questions : what the value belongs to, and the questions whose fields may be changed
    place : where the model lies in the document
    also : what else a change of the value brings with it, given the document's data, the old and the new value
    owner : who may take named values there
    """
    try:
        path, other = merge.path(db, kept, place, path)
        _field(model, questions, path)
        data = kept.shot.model_dump(mode="json")
        at = data
        *parents, last = [*map(str, place), *path.split(".")]
        for name in parents:
            at = at[int(name)] if isinstance(at, list) else at[name]
        mine = lambda u: u["owner"] == owner and (u["path"] == path or u["path"].startswith(f"{path}.points."))  # noqa: E731
        data["uses"] = [u for u in data["uses"] if not mine(u)]
        if owner is not None and value.strip().startswith("="):
            data["uses"].append(_use(kept.shot, model, questions, owner, path, value))
        elif (
            owner is not None and curve_text.is_curve(value) and (varies := recipe.varying(recipe.find(model, path)[0]))
        ):
            at[last], uses = curve_text.read(_field(model, questions, path), varies, kept.shot, value)
            data["uses"] += [u | {"owner": owner, "path": f"{path}.{u['path']}"} for u in uses]
        else:
            before, at[last] = at[last], recipe.read(model, questions, path, value)
            also(data, before, at[last])
        if other and parse(data) != kept.shot:
            field = _field(model, questions, path)
            raise Conflict(
                f"{field.label}: in the meantime it has been made {recipe.shown(model, questions, kept.shot, path)} "
                f"elsewhere; you put {value.strip()}. "
                "Put it once more if yours is to stand."
            )
        return save(db, kept, data, f"{path} {value}"), None
    except (BadValue, Conflict) as error:
        return kept, {"path": path, "value": value, "message": str(error), "conflict": isinstance(error, Conflict)}


def _use(
    shot: Shot, model: BaseModel, questions: tuple[Question, ...], owner: str, path: str, text: str
) -> dict[str, Any]:
    match, plain = _TAKES.match(text), text.strip().removeprefix("=").strip()
    if owner == "" and path.startswith(("values.", "cues.")):
        raise BadValue("A named value and a cue stand by themselves: write a number.")
    named = {v.name for v in shot.values} | {c.name for c in shot.cues}
    name = plain if plain in named or not match else match["name"]
    if not name:
        raise BadValue(f"'{text.strip()}' names no value; write = and a name, such as = strength, or = strength x 2.")
    field = _field(model, questions, path)
    use = {"owner": owner, "path": path, "value": name}
    if name != plain and match:
        plus = f"{match['sign'] or '+'}{match['plus'] or 0}".replace("−", "-")
        use |= {"factor": float(match["factor"] or 1.0), "plus": float(plus)}
    value = next((v for v in shot.values if v.name == name), None)
    if value is None and name not in named:
        cues = [c.name for c in shot.cues] if field.si == "frame" else []
        names = ", ".join([*(v.name for v in shot.values), *cues])
        raise BadValue(f"The shot has no value '{name}'; it has {names or 'none yet; add one in the set panel'}.")
    if value is None and field.si != "frame":
        raise BadValue(
            f"{field.label}: '{name}' is a cue; only frames follow a cue, and the points of a curve over frames."
        )
    if value and not recipe.fits(field, value.unit):
        raise BadValue(
            f"{field.label}: '{value.name}' is in {value.unit or 'no unit'}, which does not fit "
            f"{field.si or 'a plain number'}."
        )
    return use


def _field(model: Any, questions: tuple[Question, ...], path: str) -> Field:
    field = next((f for q in recipe.spread(model, questions) for f in q.fields if f.path == path), None)
    if field is None:
        raise BadValue(f"'{path}' is no setting that can be changed here.")
    return field


def save(db: Session, kept: shots.Kept, data: dict, what: str) -> shots.Kept:
    """Put a changed document in force; one that says the same as before makes no revision.

    Raises
    ------
    BadValue
        If it is not a shot.
    """
    shot = parse(data)
    if shot == kept.shot:
        return kept
    shots.change(db, kept.id, shot, what, request_context.by())
    return shots.get(db, kept.id)
