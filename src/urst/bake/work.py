"""One step of a plan on its way to disk: one layer, or several that are stepped together."""

from typing import Any

from urst.core.coupling.exchanges import exchange
from urst.core.coupling.group import Group, Member
from urst.kinds.inputs import CheckCancelled, Inputs, ReportProgress
from urst.kinds.kind import Arrays
from urst.kinds.prepared import PreparedLayer
from urst.shot.document import Shot
from urst.store.store import Store

#: arrays and gauges of a frame, by layer id
Results = dict[str, tuple[Arrays, dict[str, float]]]


class Work:
    """The layers of a step, set up.

    Parameters
    ----------
    shot, store : Shot, Store
    layers : tuple of str
        Ids; what is read comes before what reads it.
    keys : dict
        Content keys by layer id.
    check_cancelled : callable
        Called often within long work; raises to end it.
    report_progress : callable
        Called with what is done before the first frame, how much of it is, and how much there is.
    """

    def __init__(
        self,
        shot: Shot,
        store: Store,
        layers: tuple[str, ...],
        keys: dict[str, str],
        check_cancelled: CheckCancelled,
        report_progress: ReportProgress = lambda what, done, total: None,
    ) -> None:
        self.shot, self.clock = shot, shot.clock()
        self.prepared: dict[str, PreparedLayer] = {}
        for name in layers:
            layer = shot.layer(name)
            kind = shot.kind_of(layer)
            self.prepared[name] = kind.prepare(
                Inputs(shot, layer, store, keys, self.prepared, check_cancelled, report_progress)
            )
            self.prepared[name].meta["kind"] = kind.name
        moving = {n: b for n, b in self.prepared.items() if b.solver is not None}
        self.group = (
            Group([Member(n, b.solver, b.readers, b.before_step) for n, b in moving.items()], self._exchanges(moving))
            if moving
            else None
        )
        self.check_cancelled = check_cancelled

    def _exchanges(self, moving: dict[str, Any]) -> list[tuple[str, Any]]:
        readers = {id(b.solver): b.readers for b in moving.values()}
        found = []
        for c in self.shot.couplings:
            if c.first in moving and c.second in moving:
                first, second = moving[c.first].solver, moving[c.second].solver
                found.append((c.second, exchange(first, second, readers, c.forth, c.back)))
        return found

    @property
    def moving(self) -> bool:
        """Whether there are frames at all."""
        return self.group is not None

    def first(self) -> Results:
        """Return the first frame."""
        for prepared in self.prepared.values():
            prepared.settle()
        return self._results()

    def next(self, frame: int) -> Results:
        """Advance to `frame` and return it."""
        assert self.group is not None
        self.check_cancelled()
        for prepared in self.prepared.values():
            for feed in prepared.feeds:
                feed.load(frame)
        dt = self.clock.dt(frame)
        self.group.advance(self.clock.seconds(frame) - dt, dt)
        return self._results()

    def _results(self) -> dict[str, Any]:
        assert self.group is not None
        frames, gauges = self.group.frames(), self.group.gauges()
        return {name: (frames[name], gauges[name]) for name in frames}

    def snapshot(self) -> Arrays:
        """Return the state after the last frame."""
        assert self.group is not None
        return self.group.snapshot()

    def restore(self, frame: int, state: Arrays) -> None:
        """Take up the state after `frame`."""
        assert self.group is not None
        if frame > self.shot.start:
            for prepared in self.prepared.values():
                for feed in prepared.feeds:
                    feed.load(frame)
        self.group.restore(state)
