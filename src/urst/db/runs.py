"""Keeping runs, telling others of their progress, and indexing what they baked."""

import hashlib
import json

from sqlalchemy import delete, func, select, text
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.exc import IntegrityError
from sqlalchemy.orm import Session

from urst.db.tables import BakeRow, RunRow, WorkerRow
from urst.errors import BadValue
from urst.shot.document import Shot

#: the notification channel
CHANNEL = "urst_progress"

OPEN = ("queued", "running")

#: PostgreSQL's code for a reference to what is not there
_NO_SUCH = "23503"


def add(session: Session, shot_id: str, shot: Shot, layers: list[str], kind: str) -> RunRow:
    """Keep a new run with the document as it is now.

    Raises
    ------
    BadValue
        If just that is queued or running already.
    """
    document = shot.model_dump(mode="json")
    content = json.dumps([kind, sorted(layers), document], sort_keys=True)
    asked = hashlib.sha1(content.encode(), usedforsecurity=False).hexdigest()
    row = RunRow(shot_id=shot_id, document=document, layers=layers, kind=kind, asked=asked)
    session.add(row)
    try:
        session.commit()
    except IntegrityError as error:
        session.rollback()
        if getattr(error.orig, "sqlstate", "") == _NO_SUCH:
            raise no_shot(shot_id) from error
        raise BadValue("Just that is queued or under way already: stop it first, or let it end.") from error
    return row


def open_of(session: Session, shot_id: str) -> list[RunRow]:
    """Return the queued and running runs of a shot, oldest first."""
    return list(
        session.scalars(select(RunRow).where(RunRow.shot_id == shot_id, RunRow.state.in_(OPEN)).order_by(RunRow.id))
    )


def latest(session: Session, limit: int = 40) -> list[RunRow]:
    """Return the newest runs."""
    return list(session.scalars(select(RunRow).order_by(RunRow.id.desc()).limit(limit)))


def last_of(session: Session, shot_id: str) -> RunRow | None:
    """Return the newest run of a shot."""
    return session.scalars(select(RunRow).where(RunRow.shot_id == shot_id).order_by(RunRow.id.desc()).limit(1)).first()


#: a row's xmin is another after each change of it
_STAMP = text("""
    SELECT revision, (SELECT xmin::text FROM revisions WHERE shot_id = shots.id AND number = revision), (SELECT
    max(changed) FROM bakes),
           (SELECT string_agg(id || ' ' || xmin, ',' ORDER BY id) FROM runs
            WHERE shot_id = shots.id AND (state = ANY(:open) OR id = (SELECT max(id) FROM runs WHERE shot_id =
            shots.id)))
    FROM shots WHERE id = :shot
""")


#: a run is kept first and queued then; so much later it should be [s]
_GRACE = 10.0
_ORPHANS = text("""
    SELECT id FROM runs WHERE state = ANY(:open) AND created < now() - make_interval(secs => :grace) AND NOT EXISTS (
        SELECT 1 FROM procrastinate_jobs WHERE (args->>'run_id')::bigint = runs.id AND status IN ('todo', 'doing'))
    ORDER BY id
""")


def orphans(session: Session) -> list[int]:
    """Return the open runs that nothing in the queue will work off: a crash came between the two, or ended the job
    alone."""
    return list(session.scalars(_ORPHANS, {"open": list(OPEN), "grace": _GRACE}))


_URGENT = text("""
    SELECT EXISTS (SELECT 1 FROM procrastinate_jobs
        WHERE status = 'todo' AND priority > :than AND queue_name = ANY(:queues)
        AND (scheduled_at IS NULL OR scheduled_at <= now()))
""")


def more_urgent(session: Session, queues: list[str], than: int) -> bool:
    """Return whether work waits that goes before other work.

    Parameters
    ----------
    session : Session
    queues : list of str
        Where it may wait.
    than : int
        Priority of that other work.
    """
    return bool(session.scalar(_URGENT, {"queues": queues, "than": than}))


#: a worker that has not told of itself for so long is not counted on [s]
_THERE = 30.0


def note_worker(session: Session, name: str, memory: float, cores: int) -> None:
    """Put down what a worker has.

    Parameters
    ----------
    session : Session
    name : str
    memory : float [bytes]
    cores : int
    """
    row = {"name": name, "memory": memory, "cores": cores, "seen": func.now()}
    session.execute(insert(WorkerRow).values(**row).on_conflict_do_update(index_elements=["name"], set_=row))
    session.execute(delete(WorkerRow).where(WorkerRow.seen < func.now() - text("interval '1 day'")))
    session.commit()


def workers(session: Session) -> list[WorkerRow]:
    """Return the workers that are there, by name."""
    there = WorkerRow.seen > func.now() - text(f"interval '{_THERE} seconds'")
    return list(session.scalars(select(WorkerRow).where(there).order_by(WorkerRow.name)))


def no_shot(shot_id: str) -> BadValue:
    """Return what is raised where there is no shot with an id."""
    return BadValue(f"There is no shot '{shot_id}': it may have been deleted; go back to the list of shots.")


def stamp(session: Session, shot_id: str) -> tuple:
    """Return the revision of a shot that is in force, and what changes whenever its document does, its runs, or what
    is known of bakes.

    Raises
    ------
    BadValue
        If there is no such shot.
    """
    found = session.execute(_STAMP, {"shot": shot_id, "open": list(OPEN)}).first()
    if found is None:
        raise no_shot(shot_id)
    return tuple(found)


def request_stop(session: Session, run_id: int) -> None:
    """Ask a run to stop; one still waiting is stopped at once."""
    row = session.get(RunRow, run_id, with_for_update=True)
    if row is not None and row.state in OPEN:
        row.stop_requested = True
        if row.state == "queued":
            row.state, row.message, row.finished = "stopped", "stopped before it began", func.now()
        shot_id = row.shot_id
        session.commit()
        notify(session, {"shot": shot_id, "run": run_id, "what": "state"})


def notify(session: Session, message: dict) -> None:
    """Send a message to everyone who listens."""
    session.execute(text("SELECT pg_notify(:channel, :payload)"), {"channel": CHANNEL, "payload": json.dumps(message)})
    session.commit()


def index(session: Session, key: str, kind: str, frames: int, size: int, seconds: float) -> None:
    """Note what the store holds under a key."""
    row = {"key": key, "kind": kind, "frames": frames, "bytes": size, "seconds": seconds}
    update = {k: row[k] for k in ("frames", "bytes", "seconds")} | {"changed": func.now()}
    session.execute(insert(BakeRow).values(**row).on_conflict_do_update(index_elements=["key"], set_=update))
    session.commit()
