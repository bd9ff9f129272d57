"""Changes of a document from the pages: each is one revision, or none if it does not fit."""

import re
from collections.abc import Callable

from sqlalchemy.orm import Session

from urst.db import shots
from urst.errors import BadValue
from urst.shot.document import parse
from urst.web import recipe

#: how a setting is told to take a named value: = name, = name x 2
_TAKES = re.compile(r"^\s*=\s*(?P<name>.+?)\s*(?:[x×*]\s*(?P<factor>[-+]?[\d.]+(?:e[-+]?\d+)?))?\s*$", re.IGNORECASE)


def put(
    db: Session, kept: shots.Kept, model, questions, place: tuple, path: str, value: str,
    also: Callable[[dict, object, object], None] = lambda data, before, now: None, owner: str = "",
) -> tuple[shots.Kept, dict | None]:  # fmt: skip
    """Put a typed value into the document; return the shot as it then is, and what was wrong if it stayed as it was.

    model, questions : what the value belongs to, and the questions whose fields may be changed
    place : where the model lies in the document
    also : what else a change of the value brings with it, given the document's data, the old and the new value
    owner : who may take named values there
    """
    try:
        data = kept.shot.model_dump(mode="json")
        at = data
        *parents, last = (*place, *path.split("."))
        for name in parents:
            at = at[int(name)] if isinstance(at, list) else at[name]
        others = [u for u in data["uses"] if (u["owner"], u["path"]) != (owner, path)]
        if owner and value.strip().startswith("="):
            data["uses"] = [*others, _use(kept.shot, model, questions, owner, path, value)]
        else:
            data["uses"] = others if owner else data["uses"]
            before, at[last] = at[last], recipe.read(model, questions, path, value)
            also(data, before, at[last])
        return save(db, kept, data, f"{path} {value}"), None
    except BadValue as error:
        return kept, {"path": path, "value": value, "message": str(error)}


def _use(shot, model, questions, owner, path, text):
    match = _TAKES.match(text)
    if not match:
        raise BadValue(f"'{text.strip()}' names no value; write = and a name, such as = strength, or = strength x 2.")
    value = next((v for v in shot.values if v.name == match["name"]), None)
    if value is None:
        names = ", ".join(v.name for v in shot.values) or "none yet; add one in the set panel"
        raise BadValue(f"The shot has no value '{match['name']}'; it has {names}.")
    field = next((f for q in recipe.spread(model, questions) for f in q.fields if f.path == path), None)
    if field is None:
        raise BadValue(f"'{path}' is no setting that can be changed here.")
    if not recipe.fits(field, value.unit):
        raise BadValue(
            f"{field.label}: '{value.name}' is in {value.unit or 'no unit'}, which does not fit {field.si or 'a plain number'}."
        )
    return {"owner": owner, "path": path, "value": value.name, "factor": float(match["factor"] or 1.0)}


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
    shots.change(db, kept.id, shot, what)
    return shots.get(db, kept.id)
