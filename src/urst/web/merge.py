"""What others have changed since a page was drawn: entries of lists are found again by what they are, not by where
they stood, and a setting that somebody else has changed too is not changed unseen."""

from typing import Any

from sqlalchemy.orm import Session

from urst.db import shots
from urst.errors import Conflict
from urst.web import request_context

#: what tells entries of a list from each other, the first of these that they have
_NAMES = (("id",), ("name",), ("of",), ("first", "second"), ("finding", "layer"), ("frame",), ("piece",))
_GONE = "What you were about to change has been taken away in the meantime: look at the list again."


def number(db: Session, kept: shots.Kept, place: tuple, number: int) -> int:
    """Return where an entry of one of the document's lists stands now that who asks saw at a number.

    place : where the list lies in the document as it is now

    Raises
    ------
    Conflict
        If it is not there any more.
    """
    return _found(db, kept, place, number)[0]


def unchanged(db: Session, kept: shots.Kept, place: tuple, number: int) -> int:
    """Return the same for an entry that is to be taken away: nobody may have changed it either."""
    found, changed = _found(db, kept, place, number)
    if changed:
        raise Conflict("What you were about to take away has been changed in the meantime: look at it again.")
    return found


def _found(db: Session, kept: shots.Kept, place: tuple[Any, ...], number: int) -> tuple[int, bool]:
    """Where an entry stands now, and whether it is another than it was."""
    then, now = _both(db, kept, place)
    if then is None or not isinstance(now, list) or not 0 <= number < len(then):
        return number, False
    found = _counterpart(then, now, number)
    return found, then[number] != now[found]


def path(db: Session, kept: shots.Kept, place: tuple, path: str) -> tuple[str, bool]:
    """Return a setting's path as it is now, and whether somebody else has changed it since who asks saw it.

    place : where that lies in the document as it is now which the path goes on from

    Raises
    ------
    Conflict
        If it is not there any more.
    """
    then, now = _both(db, kept, place)
    if then is None:
        return path, False
    out = []
    for step in path.split("."):
        if isinstance(now, list) and isinstance(then, list) and step.isdigit() and int(step) < len(then):
            at = _counterpart(then, now, int(step))
            then, now = then[int(step)], now[at]
            out.append(str(at))
        else:
            then, now = (x.get(step) if isinstance(x, dict) else None for x in (then, now))
            out.append(step)
    return ".".join(out), then != now


def _both(db: Session, kept: shots.Kept, place: tuple[Any, ...]) -> tuple[Any, Any]:
    """What lies at a place of the document as it was seen and as it is now; None for the first if it is the same
    document."""
    number = request_context.seen()
    if number is None or number == kept.revision:
        return None, None
    seen = shots.at(db, kept.id, number)
    if seen is None:
        raise Conflict("So much has changed in the meantime that your change cannot be placed: look at the shot again.")
    then: Any = seen.model_dump(mode="json")
    now: Any = kept.shot.model_dump(mode="json")
    for step in place:
        at = _counterpart(now, then, step) if isinstance(step, int) else step
        then, now = then[at], now[step]
    return then, now


def _counterpart(of: list[dict[str, Any]], others: list[dict[str, Any]], number: int) -> int:
    """Where the same entry stands in another state of a list."""
    mine = _name(of[number])
    rank = [_name(x) for x in of[:number]].count(mine)
    found = [i for i, x in enumerate(others) if _name(x) == mine]
    if len(found) <= rank:
        raise Conflict(_GONE)
    return found[rank]


def _name(entry: dict[str, Any]) -> tuple[str, ...] | str:
    if isinstance(entry, dict):
        for names in _NAMES:
            if all(n in entry for n in names):
                return tuple(str(entry[n]) for n in names)
    return repr(entry)
