"""Versions of a shot that are kept by name, and its earlier revisions."""

import re
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from urst.db import shots
from urst.db.tables import RevisionRow, VersionRow
from urst.errors import BadValue
from urst.shot.document import Shot, parse

_LONGEST_NAME = 80


def keep(session: Session, shot_id: str, name: str = "") -> int:
    """Keep the document as it stands; return the version's number."""
    name = _checked(name)
    # one after the other: two at once would take the same number
    shot = shots.get(session, shot_id, to_change=True).shot
    last = session.scalar(select(func.max(VersionRow.number)).where(VersionRow.shot_id == shot_id)) or 0
    row = VersionRow(shot_id=shot_id, number=last + 1, name=name, document=shot.model_dump(mode="json"))
    session.add(row)
    session.commit()
    return last + 1


def every(session: Session, shot_id: str) -> list[VersionRow]:
    """Return a shot's versions, the newest first."""
    return list(
        session.scalars(select(VersionRow).where(VersionRow.shot_id == shot_id).order_by(VersionRow.number.desc()))
    )


def rename(session: Session, shot_id: str, number: int, name: str) -> None:
    """Give a version another name."""
    _row(session, shot_id, number).name = _checked(name)
    session.commit()


def forget(session: Session, shot_id: str, number: int) -> None:
    """Take a version out of the list; what it baked stays in the store."""
    session.delete(_row(session, shot_id, number))
    session.commit()


def at(session: Session, shot_id: str, which: str) -> Shot:
    """Return the document at a version ('v3') or an earlier revision ('r12').

    Raises
    ------
    BadValue
        If there is none.
    """
    kind, number = which[:1], which[1:]
    table: Any = {"v": VersionRow, "r": RevisionRow}.get(kind)
    row = session.get(table, (shot_id, int(number))) if table and re.fullmatch("[0-9]{1,9}", number) else None
    if row is None:
        raise BadValue(f"There is no earlier state '{which}' of this shot: look at the list again.")
    return parse(row.document)


def _checked(name: str) -> str:
    name = name.strip()
    if len(name) > _LONGEST_NAME:
        raise BadValue(f"A version's name has at most {_LONGEST_NAME} letters; this one has {len(name)}.")
    return name


def _row(session: Session, shot_id: str, number: int) -> VersionRow:
    row = session.get(VersionRow, (shot_id, number)) if abs(number) < 2**31 else None
    if row is None:
        raise BadValue(f"There is no version {number} of this shot: look at the list again.")
    return row
