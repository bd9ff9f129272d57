"""The queue as the web sees it: putting work in, without loading what does the work.

A run is worked off step by step: each step of its plan is a job of its own, under the step's content key, so that the
same is never baked twice at once, and more urgent work comes in between. A job waits in a queue of its size: workers
listen to the sizes that fit into their memory.
"""

from functools import lru_cache

import procrastinate

from urst.db import runs
from urst.db.engine import address, session
from urst.shot.document import Shot
from urst.shot.forecast import forecast
from urst.shot.plan import Step

TASK = "run"
#: priorities: what somebody waits for at the screen goes first
USUAL, URGENT = 0, 10
#: sizes of work by the memory it takes at most [GB]; the last takes whatever there is
SIZES = (2, 4, 8, 16, 32, 64, 128)


def queue_name(size: int) -> str:
    """Return the name of the queue for work of a size [GB]."""
    return f"bakes-{size}"


def queues_within(memory: float) -> list[str]:
    """Return the queues whose work fits into some memory; the smallest always, or nothing would be done.

    Parameters
    ----------
    memory : float [bytes]
    """
    return [queue_name(s) for n, s in enumerate(SIZES) if n == 0 or s * 1e9 <= memory]


def queue_for(shot: Shot, step: Step | None, most: float = float("inf")) -> str:
    """Return the queue of a step.

    Parameters
    ----------
    shot : Shot
    step : Step, optional
        None for work that is no bake.
    most : float
        Memory of the largest worker there is; what is forecast to take more is for that one to refuse [bytes].
    """
    need = sum(forecast(shot, x).memory for x in step.layers) if step else 0.0
    fit = [s for n, s in enumerate(SIZES) if n == 0 or s * 1e9 <= most]
    return queue_name(next((s for s in fit if need <= s * 1e9), fit[-1]))


def lock(run: int) -> str:
    """What keeps a run from being queued twice."""
    return f"run {run}"


@lru_cache
def deferrer() -> procrastinate.App:
    """Return what puts jobs into the queue, without running any."""
    app = procrastinate.App(connector=procrastinate.SyncPsycopgConnector(conninfo=address()))
    app.open()
    return app


def submit(shot_id: str, shot: Shot, what: list[str], kind: str = "bake", *, urgent: bool = False) -> int:
    """Queue the bake of some layers of a shot as it is now, or the hand-over of some formats; return the run's number.

    Parameters
    ----------
    shot_id : str
    shot : Shot
    what : list of str
        Ids of layers, or formats.
    kind : str
        `bake` or `handover`.
    urgent : bool
        Whether it goes before all that is not.

    Raises
    ------
    BadValue
        If just that is queued or running already.
    """
    with session() as db:
        run = runs.add(db, shot_id, shot, what, kind)
        number = run.id
        # the first job looks which steps there are; it takes no memory to speak of
        deferrer().configure_task(
            TASK,
            queue=queue_name(SIZES[0]),
            queueing_lock=lock(number),
            priority=URGENT if urgent else USUAL,
        ).defer(run_id=number, urgent=urgent)
        runs.notify(db, {"shot": shot_id, "run": number, "what": "state"})
    return number
