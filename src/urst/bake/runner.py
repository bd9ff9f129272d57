"""Running a plan: layer after layer, frame after frame, to disk.

What is on disk already is not baked again. A bake that was stopped or killed goes on from its last checkpoint and
writes the same bytes as one that never stopped.
"""

import logging
import time
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from urst.bake.work import Work
from urst.drawn import files
from urst.errors import BadValue, CacheDamaged, SolverFailed, Stopped, StoreFailed, StoreFull, UrstError
from urst.kinds.inputs import ReportProgress
from urst.kinds.rehearsal import COUPLED
from urst.shot import preflight
from urst.shot.document import Shot
from urst.shot.graph import group_of
from urst.shot.keys import layer_keys
from urst.shot.plan import Step, plan
from urst.store import machine
from urst.store.lease import Lease
from urst.store.store import Store

log = logging.getLogger("urst.bake")

#: frames between checkpoints
CHECKPOINT_EVERY = 8
#: free space that is never used up [bytes]
RESERVE = 256 * 1024 * 1024


@dataclass(frozen=True)
class Progress:
    """One frame is done."""

    layer: str
    key: str
    frame: int
    done: int
    total: int
    seconds: float
    gauges: dict[str, float]


Report = Callable[[Progress], None]
#: called before layers are begun, with what `kinds.rehearsal` calls their kernels, and what ends the wait by raising
Prepare = Callable[[list[str], Callable[[], None]], None]
ShouldStop = Callable[[], bool]


def pending(shot: Shot, store: Store, wanted: list[str] | None = None) -> list[Step]:
    """Return the steps of a plan that are not fresh, in order.

    Parameters
    ----------
    shot, store : Shot, Store
    wanted : list of str, optional
        Ids of layers; all if not given.
    """
    return [
        step
        for step in plan(shot, wanted)
        if not all(is_fresh(shot, store, layer_id, key) for layer_id, key in zip(step.layers, step.keys))
    ]


def bake(
    shot: Shot,
    store: Store,
    wanted: list[str] | None = None,
    *,
    report: Report = lambda progress: None,
    should_stop: ShouldStop = lambda: False,
    prepare: Prepare = lambda names, check_cancelled: None,
    report_progress: ReportProgress = lambda what, done, total: None,
) -> None:
    """Bake the wanted layers and whatever they read that is not fresh.

    Raises
    ------
    Stopped
        When `should_stop` said so; finished frames are kept.
    UrstError
        When a layer cannot be baked; finished frames are kept.
    """
    keys = layer_keys(shot)
    steps = plan(shot, wanted)
    _check_memory(shot, [x for step in steps for x in step.layers if not is_fresh(shot, store, x, keys[x])])
    for step in steps:
        try:
            _StepRun(shot, store, step, keys, report, should_stop, report_progress).run(prepare)
        except (UrstError, MemoryError) as error:
            raise _explained(error, shot, step) from error
        except OSError as error:
            raise StoreFailed(
                f"{_names(shot, step)} could not be baked: the disk says '{error.strerror or error}' of "
                f"{error.filename or store.root}. "
                "The finished frames are kept; look at the disk, then bake again."
            ) from error
        except Exception as error:
            log.exception("layer broke", extra={"action": "broke", "layers": list(step.layers)})
            raise SolverFailed(
                f"{_names(shot, step)} could not be baked: {_plain(error)}. The finished frames are kept; the log "
                "says more. "
                "Change what was changed last, or try another seed."
            ) from error


def _check_memory(shot: Shot, layers: list[str]) -> None:
    """Refuse what cannot fit before it takes the machine down."""
    for finding in preflight.memory(shot, machine.memory()[0]):
        if finding.layer and set(group_of(shot, finding.layer)) & set(layers):
            raise BadValue(f"{finding.title} {finding.why}")


def _explained(error: Any, shot: Shot, step: Step) -> UrstError:
    """What is raised for an error that already says what is wrong."""
    if not isinstance(error, MemoryError):
        return error
    return SolverFailed(f"There is not enough memory for {_names(shot, step)}: use larger cells or fewer parts.")


def _names(shot: Shot, step: Step) -> str:
    return " and ".join(f"'{shot.layer(x).name}'" for x in step.layers)


def _plain(error: Any) -> str:
    text = str(error).strip().splitlines()
    return f"{type(error).__name__}{f' ({text[0][:120]})' if text else ''}"


def rehearsed(shot: Shot, step: Step) -> list[str]:
    """Return the rehearsals that call the kernels of a step."""
    kinds = list(dict.fromkeys(shot.layer(x).kind for x in step.layers))
    return kinds if len(step.layers) == 1 else [*kinds, COUPLED]


def is_fresh(shot: Shot, store: Store, layer_id: str, key: str) -> bool:
    """Whether all of a layer is on disk and sound; what is damaged is removed."""
    moving = shot.kind_of(shot.layer(layer_id)).moving
    damaged = store.clear_damaged(key, shot.frames() if moving else ())
    if damaged:
        log.warning(
            "damaged files are baked again", extra={"action": "damaged", "layer": layer_id, "files": damaged[:8]}
        )
    if not store.has_static(key):
        return False
    if not moving:
        return True
    return set(shot.frames()) <= set(store.frames(key))


@dataclass(frozen=True)
class _StepRun:
    """One step of a plan on its way to disk."""

    shot: Shot
    store: Store
    step: Step
    keys: dict[str, str]
    report: Report
    should_stop: ShouldStop
    report_progress: ReportProgress

    @property
    def members(self) -> list[tuple[str, str]]:
        """Layers and their keys."""
        return list(zip(self.step.layers, self.step.keys))

    @property
    def state_key(self) -> str:
        """The key under which the step's state lies: that of its first layer."""
        return self.step.keys[0]

    def check_cancelled(self) -> None:
        """Raise if somebody asked to stop; `should_stop` may itself raise `Yielded`."""
        if self.should_stop():
            raise Stopped("The bake was stopped; its finished frames are kept and it can go on from there.")

    def run(self, prepare: Prepare) -> None:
        """Bake what is not fresh of it."""
        if self._is_fresh():
            return
        self.check_cancelled()
        prepare(rehearsed(self.shot, self.step), self.check_cancelled)
        _check_disk(self.store)
        with self.store.claim(self.state_key, self.check_cancelled) as lease:
            # another may have baked it meanwhile, for this shot or another
            if not self._is_fresh():
                self._bake(lease)

    def _is_fresh(self) -> bool:
        return all([is_fresh(self.shot, self.store, layer_id, key) for layer_id, key in self.members])

    def _bake(self, lease: Lease) -> None:
        started = time.perf_counter()
        work = self._work()
        self._write_static(work)
        if work.moving:
            work, at = self._resumed(work)
            present = {key: set(self.store.frames(key)) for key in self.step.keys}
            for frame in range(at + 1, self.shot.end + 1):
                lease.check()
                try:
                    self.check_cancelled()
                except Stopped:
                    # whoever goes on need not do again what has been done
                    if frame > at + 1:
                        self.store.write_checkpoint(self.state_key, frame - 1, work.snapshot())
                    raise
                self._frame(work, frame, present)
            return
        seconds = time.perf_counter() - started
        for layer_id, key in self.members:
            gauges = work.prepared[layer_id].meta.get("gauges", {})
            self._done(Progress(layer_id, key, self.shot.start, 1, 1, seconds, gauges))

    def _work(self) -> Work:
        return Work(self.shot, self.store, self.step.layers, self.keys, self.check_cancelled, self.report_progress)

    def _done(self, progress: Progress) -> None:
        self.store.note_time(progress.key, progress.frame, progress.seconds)
        self.report(progress)

    def _write_static(self, work: Work) -> None:
        for layer_id, key in self.members:
            if not self.store.has_static(key):
                prepared = work.prepared[layer_id]
                self.store.write_static(key, prepared.static, prepared.meta)
                files.keep_static(self.store, key, prepared.static, prepared.meta)

    def _resumed(self, work: Work) -> tuple[Work, int]:
        """Return the work with the latest state that all frames up to it are sound of, and the frame of that."""
        present = [set(self.store.frames(key)) for key in self.step.keys]
        none = sound = self.shot.start - 1
        while all(sound + 1 in frames for frames in present):
            sound += 1
        checkpoint = self.store.read_checkpoint(self.state_key, min(sound, self.shot.end))
        if checkpoint is None:
            return work, none
        frame, state = checkpoint
        try:
            work.restore(frame, state)
        except CacheDamaged as error:
            # the state or an input frame went bad: begin anew, as if there were no checkpoint
            log.warning("checkpoint refused", extra={"action": "restore", "key": self.state_key, "cause": str(error)})
            return self._work(), none
        return work, frame

    def _frame(self, work: Work, frame: int, present: dict[str, set[int]]) -> None:
        """Advance to a frame and write what is not there yet."""
        _check_disk(self.store)
        started, shot, store = time.perf_counter(), self.shot, self.store
        results = work.first() if frame == shot.start else work.next(frame)
        for layer_id, key in self.members:
            arrays, gauges = results[layer_id]
            if frame not in present[key]:
                files.keep_frame(store, shot.kind_of(shot.layer(layer_id)), key, frame, arrays)
                store.write_frame(key, frame, arrays, {"frame": frame, "gauges": gauges})
        done, total = frame - shot.start + 1, len(shot.frames())
        if done % CHECKPOINT_EVERY == 0 or frame == shot.end:
            store.write_checkpoint(self.state_key, frame, work.snapshot())
        seconds = time.perf_counter() - started
        for layer_id, key in self.members:
            self._done(Progress(layer_id, key, frame, done, total, seconds, results[layer_id][1]))


def _check_disk(store: Store) -> None:
    free = store.free_bytes()
    if free < RESERVE:
        raise StoreFull(
            f"Only {free / 1e6:.0f} MB are free where the store lies, and {RESERVE / 1e6:.0f} MB are kept clear: "
            "free some space, then bake again; the finished frames are kept."
        )
