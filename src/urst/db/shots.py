"""Keeping shots and their history."""

import json
import uuid
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import delete, func, select
from sqlalchemy.orm import Session

from urst.db.tables import RevisionRow, ShotRow
from urst.errors import BadValue, UrstError
from urst.shot.document import Shot, dumps, parse

#: revisions kept of each shot
HISTORY = 200


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
    fault: str = ""
    """why the document cannot be used; `shot` is then not to be looked at"""

    @property
    def name(self) -> str:
        """What it is called, also where it cannot be used."""
        return self.fault_name if self.fault else self.shot.name

    fault_name: str = ""


def add(session: Session, shot: Shot) -> str:
    """Keep a new shot; return its id."""
    row = ShotRow(id=str(uuid.uuid4()), revision=1)
    session.add(row)
    session.flush()
    session.add(RevisionRow(shot_id=row.id, number=1, document=shot.model_dump(mode="json"), what="made"))
    session.commit()
    return row.id


def get(session: Session, shot_id: str) -> Kept:
    """Return a shot.

    Raises
    ------
    BadValue
        If there is none with this id.
    """
    row = session.get(ShotRow, shot_id)
    if row is None:
        raise BadValue(f"There is no shot '{shot_id}': it may have been deleted; go back to the list of shots.")
    revision = session.get(RevisionRow, (shot_id, row.revision))
    first, last = session.execute(
        select(func.min(RevisionRow.number), func.max(RevisionRow.number)).where(RevisionRow.shot_id == shot_id)
    ).one()
    return Kept(row.id, parse(revision.document), row.revision, row.revision > first, row.revision < last, row.changed)


def every(session: Session) -> list[Kept]:
    """Return all shots, the latest changed first; one that cannot be used says why."""
    found = []
    for row in session.scalars(select(ShotRow).order_by(ShotRow.changed.desc())):
        try:
            found.append(get(session, row.id))
        except UrstError as error:
            found.append(Kept(row.id, None, row.revision, False, False, row.changed, str(error), _name(session, row)))
    return found


def _name(session, row):
    document = session.get(RevisionRow, (row.id, row.revision)).document
    name = document.get("name") if isinstance(document, dict) else None
    return name if isinstance(name, str) and name else "a shot that cannot be read"


def text(session: Session, shot_id: str) -> tuple[str, str]:
    """Return a shot's name and the text of its document; one that cannot be used is given as it is kept.

    Raises
    ------
    BadValue
        If there is none with this id.
    """
    row = session.get(ShotRow, shot_id)
    if row is None:
        raise BadValue(f"There is no shot '{shot_id}': it may have been deleted; go back to the list of shots.")
    try:
        shot = get(session, shot_id).shot
        return shot.name, dumps(shot)
    except UrstError:
        kept = session.get(RevisionRow, (shot_id, row.revision)).document
        return _name(session, row), json.dumps(kept, indent=1) + "\n"


def change(session: Session, shot_id: str, shot: Shot, what: str) -> None:
    """Put a new state of the document in force; what was undone before is dropped."""
    row = session.get(ShotRow, shot_id, with_for_update=True)
    if row is None:
        raise BadValue(f"There is no shot '{shot_id}': it may have been deleted; go back to the list of shots.")
    newer = RevisionRow.number > row.revision
    older = RevisionRow.number <= row.revision - HISTORY
    session.execute(delete(RevisionRow).where(RevisionRow.shot_id == shot_id, newer | older))
    row.revision += 1
    row.changed = func.now()
    session.add(RevisionRow(shot_id=shot_id, number=row.revision, document=shot.model_dump(mode="json"), what=what))
    session.commit()


def step(session: Session, shot_id: str, by: int) -> bool:
    """Move to the revision before (-1) or after (+1); return whether there was one."""
    row = session.get(ShotRow, shot_id, with_for_update=True)
    if row is None or session.get(RevisionRow, (shot_id, row.revision + by)) is None:
        return False
    row.revision += by
    session.commit()
    return True


def remove(session: Session, shot_id: str) -> None:
    """Delete a shot with its history and runs; what it baked stays in the store."""
    session.execute(delete(ShotRow).where(ShotRow.id == shot_id))
    session.commit()
