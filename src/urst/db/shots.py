"""Keeping shots and their history."""

import json
import uuid
from dataclasses import dataclass
from datetime import datetime
from typing import Any, NamedTuple

from sqlalchemy import Select, delete, func, literal_column, select, text
from sqlalchemy.orm import Session

from urst.core.remembered import Remembered
from urst.db import runs
from urst.db.tables import RevisionRow, ShotRow
from urst.errors import UrstError
from urst.shot.by_shot import weight
from urst.shot.document import Shot, dumps, parse

#: revisions kept of each shot
HISTORY = 200
#: documents that are kept in memory
_read = Remembered(100_000, lambda _, shot: weight(shot))


@dataclass(frozen=True)
class Kept:
    """A shot as it stands."""

    id: str
    shot: Any
    """the document, a Shot"""
    revision: int
    can_undo: bool
    can_redo: bool
    changed: datetime


def add(session: Session, shot: Shot, by: str = "") -> str:
    """Keep a new shot, made by somebody; return its id."""
    row = ShotRow(id=str(uuid.uuid4()), revision=1)
    session.add(row)
    session.flush()
    session.add(RevisionRow(shot_id=row.id, number=1, document=shot.model_dump(mode="json"), what="made", by=by))
    runs.notify(session, {"shot": row.id, "what": "document", "revision": 1})
    return row.id


class Stand(NamedTuple):
    """Which revision of a shot is in force, and what is another whenever the document kept under its number is."""

    id: str
    revision: int
    mark: str


_STANDS: Select = select(ShotRow.id, ShotRow.revision, literal_column("revisions.xmin::text")).join(
    RevisionRow, (RevisionRow.shot_id == ShotRow.id) & (RevisionRow.number == ShotRow.revision)
)


def stand(session: Session, shot_id: str) -> Stand:
    """Return how a shot stands.

    Raises
    ------
    BadValue
        If there is none with this id.
    """
    found = session.execute(_STANDS.where(ShotRow.id == shot_id)).first()
    if found is None:
        raise runs.no_shot(shot_id)
    return Stand(*found)


def stands(session: Session) -> list[Stand]:
    """Return how all shots stand, the latest changed first."""
    return [Stand(*x) for x in session.execute(_STANDS.order_by(ShotRow.changed.desc(), ShotRow.id))]


def get(session: Session, shot_id: str, *, to_change: bool = False) -> Kept:
    """Return a shot; one that is to be changed is kept from others until the session ends or commits.

    Raises
    ------
    BadValue
        If there is none with this id.
    """
    row = session.get(ShotRow, shot_id, with_for_update={"key_share": True} if to_change else None)
    if row is None:
        raise runs.no_shot(shot_id)
    first, last = session.execute(
        select(func.min(RevisionRow.number), func.max(RevisionRow.number)).where(RevisionRow.shot_id == shot_id)
    ).one()
    if first is None:
        # deleted since its row was read
        raise runs.no_shot(shot_id)
    shot = _parsed(session, shot_id, row.revision)
    return Kept(row.id, shot, row.revision, row.revision > first, row.revision < last, row.changed)


_MARK = text("SELECT xmin::text FROM revisions WHERE shot_id = :shot AND number = :number")


def _parsed(session: Session, shot_id: str, number: int) -> Shot:
    """The document of a revision, which is read once."""
    mark = session.scalar(_MARK, {"shot": shot_id, "number": number})
    return _read.get((shot_id, number, mark), lambda: parse(session.get_one(RevisionRow, (shot_id, number)).document))


def names(session: Session) -> dict[str, str]:
    """Return what every shot is called, by id, without reading its document whole."""
    current = (RevisionRow.shot_id == ShotRow.id) & (RevisionRow.number == ShotRow.revision)
    found = session.execute(select(ShotRow.id, RevisionRow.document["name"].astext).join(RevisionRow, current))
    return {shot_id: name or "a shot that cannot be read" for shot_id, name in found}


def _name(session: Session, row: ShotRow) -> str:
    document = session.get_one(RevisionRow, (row.id, row.revision)).document
    name = document.get("name") if isinstance(document, dict) else None
    return name if isinstance(name, str) and name else "a shot that cannot be read"


def document_text(session: Session, shot_id: str) -> tuple[str, str]:
    """Return a shot's name and the text of its document; one that cannot be used is given as it is kept.

    Raises
    ------
    BadValue
        If there is none with this id.
    """
    row = session.get(ShotRow, shot_id)
    if row is None:
        raise runs.no_shot(shot_id)
    try:
        shot = get(session, shot_id).shot
        return shot.name, dumps(shot)
    except UrstError:
        kept = session.get_one(RevisionRow, (shot_id, row.revision)).document
        return _name(session, row), json.dumps(kept, indent=1) + "\n"


def at(session: Session, shot_id: str, number: int) -> Shot | None:
    """Return a shot as it was at a revision, None if that is not kept any more."""
    return None if session.get(RevisionRow, (shot_id, number)) is None else _parsed(session, shot_id, number)


def seen(session: Session, shot_id: str, number: int) -> dict | None:
    """Return the document of a revision, None if it is not kept any more."""
    row = session.get(RevisionRow, (shot_id, number))
    return None if row is None else row.document


def change(session: Session, shot_id: str, shot: Shot, what: str, by: str = "") -> None:
    """Put a new state of the document, made by somebody, in force; what was undone before is dropped."""
    row = session.get(ShotRow, shot_id, with_for_update=True)
    if row is None:
        raise runs.no_shot(shot_id)
    newer = RevisionRow.number > row.revision
    older = RevisionRow.number <= row.revision - HISTORY
    # a number is never used again: pages that show what was undone are told from those that do not
    last = session.scalar(select(func.max(RevisionRow.number)).where(RevisionRow.shot_id == shot_id)) or 0
    session.execute(delete(RevisionRow).where(RevisionRow.shot_id == shot_id, newer | older))
    row.revision = last + 1
    row.changed = func.now()
    document = shot.model_dump(mode="json")
    session.add(RevisionRow(shot_id=shot_id, number=row.revision, document=document, what=what, by=by))
    runs.notify(session, {"shot": shot_id, "what": "document", "revision": row.revision})


@dataclass(frozen=True)
class Step:
    """A change that was undone or done again."""

    what: str
    by: str
    """who made it, empty if that is not known"""


def step(session: Session, shot_id: str, *, back: bool) -> Step | None:
    """Undo the last change, or do again what was undone last; return which, None if there is none."""
    row = session.get(ShotRow, shot_id, with_for_update=True)
    if row is None:
        return None
    number, mine = RevisionRow.number, RevisionRow.shot_id == shot_id
    side = (
        select(func.max(number)).where(mine, number < row.revision)
        if back
        else select(func.min(number)).where(mine, number > row.revision)
    )
    target = session.scalar(side)
    if target is None:
        return None
    changed = session.get_one(RevisionRow, (shot_id, row.revision if back else target))
    row.revision = target
    runs.notify(session, {"shot": shot_id, "what": "document", "revision": target})
    return Step(changed.what, changed.by)


def remove(session: Session, shot_id: str) -> None:
    """Delete a shot with its history and runs; what it baked stays in the store."""
    session.execute(delete(ShotRow).where(ShotRow.id == shot_id))
    session.commit()
