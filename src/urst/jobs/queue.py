"""The queue as the web sees it: putting work in, without loading what does the work."""

from functools import lru_cache

import procrastinate

from urst.db import runs
from urst.db.engine import address, session
from urst.shot.document import Shot

TASK, QUEUE = "run", "bakes"


def lock(run: int) -> str:
    """What keeps a run from being queued twice."""
    return f"run {run}"


@lru_cache
def _queue() -> procrastinate.App:
    app = procrastinate.App(connector=procrastinate.SyncPsycopgConnector(conninfo=address()))
    app.open()
    return app


def submit(shot_id: str, shot: Shot, what: list[str], kind: str = "bake") -> int:
    """Queue the bake of some layers of a shot as it is now, or the hand-over of some formats; return the run's
    number."""
    with session() as db:
        run = runs.add(db, shot_id, shot, what, kind)
        number = run.id
        _queue().configure_task(TASK, queue=QUEUE, queueing_lock=lock(number)).defer(run_id=number)
        runs.notify(db, {"shot": shot_id, "run": number, "what": "state"})
    return number
