"""The worker: takes bakes from the queue, one at a time, and reports as it goes.

A lost database connection does not stop a bake: frames go to disk all the same, and what could not be told is told
once the database is back.
"""

import asyncio
import contextlib
import logging
import os
import platform
import time
from collections.abc import Iterable, Iterator
from typing import Any

import procrastinate
from sqlalchemy import func
from sqlalchemy.exc import DBAPIError

from urst.bake.kernels import Compiler
from urst.bake.runner import Progress, bake, pending, rehearsed
from urst.db import runs
from urst.db.engine import address, session
from urst.db.tables import RunRow
from urst.errors import Stopped, UrstError, Yielded
from urst.handover.export import export
from urst.handover.forms import folder
from urst.handover.pictures import keep_card
from urst.jobs.queue import (
    SIZES,
    TASK,
    URGENT,
    USUAL,
    deferrer,
    lock,
    queue_for,
    queue_name,
    queues_within,
)
from urst.logs import set_up
from urst.scene import library
from urst.shot.document import Shot, parse
from urst.shot.forecast import forecast
from urst.shot.graph import group_of
from urst.shot.plan import Step
from urst.store import machine
from urst.store.meshes import Meshes
from urst.store.store import Store

log = logging.getLogger("urst.worker")

#: a run whose worker ends without a frame done is begun so many times
TRIES = 3
#: seconds between looks at whether a run should stop
LOOK_EVERY = 0.2
#: seconds without a heartbeat after which a worker counts as dead
DEAD_AFTER = 20.0

compiler = Compiler()


def memory() -> float:
    """Return how much memory this worker may use: what URST_MEMORY_GB says, else all that the machine has [bytes]."""
    return float(os.environ.get("URST_MEMORY_GB") or 0.0) * 1e9 or machine.memory()[0]


def listening() -> list[str]:
    """Return the queues that this worker listens to: those whose work fits into its memory."""
    return queues_within(memory())


queue = procrastinate.App(connector=procrastinate.PsycopgConnector(conninfo=address()))


class RunReporter:
    """Everything one run tells the database."""

    def __init__(self, run_id: int, store: Store) -> None:
        self.run_id, self.store = run_id, store
        self.shot_id = ""
        self.kinds: dict[str, str] = {}
        self._looked, self._stop = 0.0, False
        self.yields = False
        """whether it gives way to more urgent work"""
        self._spent: dict[str, float] = {}

    @contextlib.contextmanager
    def _tolerant(self, what: str) -> Iterator[Any]:
        try:
            yield
        except DBAPIError as error:
            log.warning("database lost", extra={"action": what, "run": self.run_id, "cause": str(error.orig)})

    def should_stop(self) -> bool:
        """Look now and then whether somebody asked to stop, or more urgent work waits.

        Raises
        ------
        Yielded
            If it does.
        """
        if time.monotonic() - self._looked > LOOK_EVERY:
            self._looked = time.monotonic()
            with self._tolerant("look"), session() as db:
                row = db.get(RunRow, self.run_id)
                self._stop = row is None or row.stop_requested
                if not self._stop and self.yields and runs.more_urgent(db, listening(), USUAL):
                    raise Yielded("It gives way to a draft that somebody waits for, and goes on after that.")
        return self._stop

    def report(self, p: Progress) -> None:
        """Tell that a frame is done."""
        self._spent[p.key] = self._spent.get(p.key, 0.0) + p.seconds
        state = {
            "layer": p.layer,
            "key": p.key,
            "frame": p.frame,
            "done": p.done,
            "total": p.total,
            "seconds": round(self._spent[p.key] / max(1, p.done), 3),
        }
        with self._tolerant("report"), session() as db:
            row = db.get(RunRow, self.run_id)
            if row is not None:
                row.progress, row.tries = state, 1
            db.commit()
            runs.notify(db, state | {"shot": self.shot_id, "run": self.run_id, "what": "frame", "gauges": p.gauges})
            if p.done == p.total or p.done % 16 == 0:
                usage = self.store.usage(p.key)
                seconds = (self.store.seconds_per_frame(p.key) or 0.0) * usage.frames
                runs.index(db, p.key, self.kinds[p.layer], usage.frames, usage.bytes, seconds)

    def compiling(self, name: str, done: int, total: int) -> None:
        """Tell which kernels are waited for."""
        self.preparing(f"compiling {name}, once", done, total)

    def preparing(self, what: str, done: int, total: int) -> None:
        """Tell what is done before the first frame."""
        self._report({"doing": what, "done": done, "total": total})

    def report_step(self, name: str, done: int, total: int) -> None:
        """Tell how far a hand-over has come."""
        self._report({"layer": name, "done": done, "total": total})

    def _report(self, progress: dict) -> None:
        with self._tolerant("report"), session() as db:
            row = db.get(RunRow, self.run_id)
            if row is not None:
                row.progress = progress
            db.commit()
            runs.notify(db, {"shot": self.shot_id, "run": self.run_id, "what": "state"})

    def progressed(self) -> None:
        """Put down that the run's worker did something, so that it may be tried again as often."""
        with self._tolerant("report"), session() as db:
            row = db.get(RunRow, self.run_id)
            if row is not None:
                row.tries = 0
            db.commit()

    def waits(self, message: str) -> None:
        """Put down that the run waits in the queue again."""
        with self._tolerant("report"), session() as db:
            row = db.get(RunRow, self.run_id)
            if row is not None:
                row.state, row.message, row.tries = "queued", message, 0
            db.commit()
            runs.notify(db, {"shot": self.shot_id, "run": self.run_id, "what": "state"})

    def close(self, state: str, message: str = "") -> None:
        """Put down how the run ended; tries for a minute if the database is away."""
        for _ in range(60):
            try:
                with session() as db:
                    row = db.get(RunRow, self.run_id)
                    if row is not None:
                        row.state, row.message, row.finished = state, message, func.now()
                    db.commit()
                    runs.notify(db, {"shot": self.shot_id, "run": self.run_id, "what": "state"})
                return
            except DBAPIError:
                time.sleep(1.0)
        log.error("could not put down the end of a run", extra={"action": "close", "run": self.run_id, "state": state})


@queue.task(name=TASK, pass_context=True)
def work_off(context: Any, run_id: int, urgent: bool = False, step_key: str = "") -> None:
    """Do the next step of what a run asks for, and put the one after it into the queue.

    Parameters
    ----------
    context : JobContext
    run_id : int
    urgent : bool
        Whether it goes before all that is not.
    step_key : str
        The content key of the step that this job is about; empty where it is not known yet.
    """
    store = Store(os.environ["URST_STORE"])
    library.use(Meshes(store.root))
    reporter = RunReporter(run_id, store)
    reporter.yields = not urgent
    begun = _begin(reporter)
    if begun is None:
        return
    shot, what, kind = begun
    log.info("run begins", extra={"action": "begin", "run": run_id, "kind": kind, "what": what, "key": step_key})
    try:
        if kind == "bake":
            left = _bake_next(shot, store, what, step_key, reporter)
        else:
            out = folder(store.root, reporter.shot_id)
            export(shot, store.root, out, what, should_stop=reporter.should_stop, report=reporter.report_step)
            left = []
    except Yielded as yielded:
        log.info("run yields", extra={"action": "yield", "run": run_id})
        reporter.waits(str(yielded))
        _queue_step(shot, run_id, urgent, next(iter(pending(shot, store, what)), None) if kind == "bake" else None)
    except Stopped:
        reporter.close("stopped", "stopped; finished frames are kept")
    except UrstError as error:
        log.warning("run failed", extra={"action": "fail", "run": run_id, "cause": str(error)})
        reporter.close("failed", str(error))
    except Exception:
        log.exception("run broke", extra={"action": "broke", "run": run_id})
        reporter.close(
            "failed", "The work broke on a fault of Urst's own; the worker's log says where. Finished frames are kept."
        )
    else:
        if left:
            _queue_step(shot, run_id, urgent, left[0])
            return
        if kind == "bake":
            _keep_card(shot, store)
        log.info("run ends", extra={"action": "end", "run": run_id})
        reporter.close("done")


def _begin(reporter: RunReporter) -> tuple[Shot, list[str], str] | None:
    """Note that a run is worked on; return its shot, what is asked of it and its kind, None if it is over."""
    with session() as db:
        row = db.get(RunRow, reporter.run_id)
        if row is None or row.state in ("stopped", "done", "failed"):
            return None
        what, kind, reporter.shot_id = list(row.layers), row.kind, row.shot_id
        try:
            shot = parse(row.document)
        except UrstError as error:
            # it may have been queued by an earlier version, which took more
            reporter.close("failed", str(error))
            return None
        reporter.kinds = {layer.id: layer.kind for layer in shot.layers}
        row.state, row.worker = "running", f"{platform.node()} {os.getpid()}"
        row.started = row.started or func.now()
        row.tries += 1
        tries = row.tries
        db.commit()
        runs.notify(db, {"shot": reporter.shot_id, "run": reporter.run_id, "what": "state"})
    if tries > TRIES:
        log.error("run given up", extra={"action": "give up", "run": reporter.run_id, "tries": TRIES})
        reporter.close("failed", _given_up(shot, what if kind == "bake" else []))
        return None
    return shot, what, kind


def _bake_next(shot: Shot, store: Store, what: list[str], step_key: str, reporter: RunReporter) -> list[Step]:
    """Bake the first step that is not fresh, if this job is about it; return the steps that are then left."""
    steps = pending(shot, store, what)
    if not steps or steps[0].keys[0] != step_key:
        reporter.progressed()
        return steps
    # what this bake needs comes first; the rest is compiled while it runs
    compiler.ask(n for step in steps for n in rehearsed(shot, step))
    bake(
        shot,
        store,
        list(steps[0].layers),
        report=reporter.report,
        should_stop=reporter.should_stop,
        prepare=lambda names, check_cancelled: compiler.wait(names, reporter.compiling, check_cancelled),
        report_progress=reporter.preparing,
    )
    reporter.progressed()
    return pending(shot, store, what)


def _queue_step(shot: Shot, run_id: int, urgent: bool, step: Step | None) -> None:
    """Put a step of a run into the queue; the same key is worked on once at a time."""
    key = step.keys[0] if step else None
    for _ in range(60):
        try:
            with session() as db:
                most = max((w.memory for w in runs.workers(db)), default=memory())
            deferrer().configure_task(
                TASK,
                queue=queue_for(shot, step, max(most, memory())),
                queueing_lock=lock(run_id),
                lock=key,
                priority=URGENT if urgent else USUAL,
            ).defer(run_id=run_id, urgent=urgent, step_key=key or "")
            return
        except procrastinate.exceptions.AlreadyEnqueued:
            return
        except (procrastinate.exceptions.ConnectorException, DBAPIError):
            time.sleep(1.0)
    log.error("could not queue a step", extra={"action": "queue", "run": run_id, "key": key})


def _given_up(shot: Shot, what: Iterable[str]) -> str:
    """Why a run is not tried again."""
    need = max((sum(forecast(shot, x).memory for x in group_of(shot, layer)) for layer in what), default=0.0)
    total, free = machine.memory()
    need_text = (
        f"it is forecast to take {need / 1e9:.1f} GB, and {free / 1e9:.1f} of {total / 1e9:.1f} GB are free"
        if what
        else f"{free / 1e9:.1f} of {total / 1e9:.1f} GB are free"
    )
    return (
        f"Its worker was ended {TRIES} times without a frame done, most likely for want of memory: {need_text}. "
        "Use larger cells or fewer fragments, or close other programs, and bake again."
    )


def _keep_card(shot: Shot, store: Store) -> None:
    """A picture for the list of shots; a bake without one is a bake all the same."""
    try:
        keep_card(shot, store)
    except UrstError as error:
        log.warning("no card", extra={"action": "card", "cause": str(error)})


async def _revive() -> None:
    """Put jobs of dead workers back into the queue, and runs that have no job."""
    while True:
        try:
            await asyncio.to_thread(_note)
            for job in await queue.job_manager.get_stalled_jobs(seconds_since_heartbeat=DEAD_AFTER):
                log.warning("job of a dead worker goes back", extra={"action": "revive", "job": job.id})
                await queue.job_manager.retry_job(job)
            for run_id in await asyncio.to_thread(_orphans):
                log.warning("run without a job goes back", extra={"action": "revive", "run": run_id})
                with contextlib.suppress(procrastinate.exceptions.AlreadyEnqueued):
                    await queue.configure_task(
                        TASK, queue=queue_name(SIZES[0]), queueing_lock=lock(run_id)
                    ).defer_async(run_id=run_id)
        except (procrastinate.exceptions.ConnectorException, DBAPIError) as error:
            log.warning("database lost", extra={"action": "revive", "cause": str(error)})
        await asyncio.sleep(5.0)


def _note() -> None:
    with session() as db:
        runs.note_worker(db, f"{platform.node()} {os.getpid()}", memory(), os.cpu_count() or 1)


def _orphans() -> list[int]:
    with session() as db:
        return runs.orphans(db)


async def _work() -> None:
    async with queue.open_async():
        watch = asyncio.create_task(_revive())
        try:
            await queue.run_worker_async(
                queues=listening(),
                concurrency=1,
                update_heartbeat_interval=4.0,
                stalled_worker_timeout=DEAD_AFTER,
                fetch_job_polling_interval=2.0,
                shutdown_graceful_timeout=3.0,
                delete_jobs="never",
            )
        finally:
            watch.cancel()


def run() -> int:
    """Work until told to end."""
    set_up()
    machine.give_way()
    compiler.ask()
    log.info("worker ready", extra={"action": "ready", "store": os.environ.get("URST_STORE", ""), "pid": os.getpid()})
    while True:
        try:
            asyncio.run(_work())
            return 0
        except procrastinate.exceptions.ConnectorException as error:
            log.warning("database lost, trying again", extra={"action": "reconnect", "cause": str(error)})
            time.sleep(2.0)
