"""Changes of a document from the pages: each is one revision, or none if it does not fit."""

from collections.abc import Callable

from sqlalchemy.orm import Session

from urst.db import shots
from urst.errors import BadValue
from urst.shot.document import parse
from urst.web import recipe


def put(
    db: Session, kept: shots.Kept, model, questions, place: tuple, path: str, value: str,
    also: Callable[[dict, object, object], None] = lambda data, before, now: None,
) -> tuple[shots.Kept, dict | None]:  # fmt: skip
    """Put a typed value into the document; return the shot as it then is, and what was wrong if it stayed as it was.

    model, questions : what the value belongs to, and the questions whose fields may be changed
    place : where the model lies in the document
    also : what else a change of the value brings with it, given the document's data, the old and the new value
    """
    try:
        read = recipe.read(model, questions, path, value)
        data = kept.shot.model_dump(mode="json")
        at = data
        *parents, last = (*place, *path.split("."))
        for name in parents:
            at = at[int(name)] if isinstance(at, list) else at[name]
        before, at[last] = at[last], read
        also(data, before, read)
        return save(db, kept, data, f"{path} {value}"), None
    except BadValue as error:
        return kept, {"path": path, "value": value, "message": str(error)}


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
