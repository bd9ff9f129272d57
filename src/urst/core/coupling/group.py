"""Solvers stepped together on one clock."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from urst.core.checkpoint import State, part_of
from urst.core.coupling.exchange import Exchange
from urst.core.coupling.ports import Output, Outputs, Reader

#: fraction of a step by which time may be cut too long, so that rounding makes no step more
_SLACK = 1e-9


@dataclass
class Member:
    """One solver of a group."""

    name: str
    solver: Any
    readers: Sequence[Reader] = ()
    """what others of the group follow of it"""
    before_step: Sequence[Callable[[float], None]] = ()
    """called before each of its steps with its length [s]: what acts on it from baked layers"""

    followed: tuple[Outputs, Outputs, float, float] | None = None
    """what its readers were last updated with"""

    def outputs(self) -> Outputs:
        """Return what readers follow, as it is now; nothing if nobody does."""
        return self.solver.outputs() if self.readers and isinstance(self.solver, Output) else {}

    def update_readers(self, before: Outputs, start: float, dt: float) -> None:
        """Tell readers how it moved.

        Parameters
        ----------
        before : dict of arrays
            Its outputs at the start.
        start, dt : float [s]
        """
        if self.readers:
            self._update(before, self.outputs(), start, dt)

    def _update(self, *span) -> None:
        self.followed = span
        for reader in self.readers:
            reader.update(*span)

    def snapshot(self) -> State:
        """Return the state of the solver, and what its readers were last updated with."""
        state = {f"solver/{k}": v for k, v in self.solver.snapshot().items()}
        if self.followed:
            before, after, start, dt = self.followed
            state |= {f"before/{k}": v for k, v in before.items()} | {f"after/{k}": v for k, v in after.items()}
            state["span"] = np.array([start, dt])
        return state

    def restore(self, state: State) -> None:
        """Take up a state that `snapshot` returned.

        Parameters
        ----------
        state : dict of arrays
        """
        # solvers that look at what they follow must find it where it was
        if "span" in state:
            self._update(part_of(state, "before"), part_of(state, "after"), *map(float, state["span"]))
        self.solver.restore(part_of(state, "solver"))


class Group:
    """Solvers that take from each other, and act on each other through exchanges.

    A span of time is cut into rounds, as many as the most patient solver needs steps, or one that leads, if there is
    any: then it is seen anew after each round how long the next may be. In each round each solver is stepped over the
    round in its own steps, the exchanges that go with it acting before each, in their order; then what it passes on
    is brought up to date.

    Parameters
    ----------
    members : list of Member
        What is read comes before what reads it.
    exchanges : list of (name, Exchange)
        With the member whose gauges they belong to.
    """

    def __init__(self, members: list[Member], exchanges: list[tuple[str, Exchange]]) -> None:
        self.members, self.exchanges = members, exchanges
        self.steps = {m.name: 0 for m in members}

    def advance(self, time: float, dt: float) -> None:
        """Advance all from `time` by `dt` seconds.

        Parameters
        ----------
        time, dt : float [s]
        """
        leaders = [x.leads for _, x in self.exchanges if x.leads is not None]
        self.steps = {m.name: 0 for m in self.members}
        if not leaders:
            rounds = min(self._count(m.solver, dt) for m in self.members)
            for n in range(rounds):
                self._round(time + n * dt / rounds, dt / rounds, leaders)
            return
        done = 0.0
        while done < dt:
            left = dt - done
            rounds = max(self._count(s, left) for s in leaders)
            self._round(time + done, left / rounds, leaders)
            done = dt if rounds == 1 else done + left / rounds

    def _round(self, time: float, h: float, leaders: list[Any]) -> None:
        for _, exchange in self.exchanges:
            exchange.begin(h)
        for member in self.members:
            solver, before = member.solver, member.outputs()
            count = 1 if any(solver is s for s in leaders) else self._count(solver, h)
            for _ in range(count):
                for _, exchange in self.exchanges:
                    if exchange.goes_with is solver:
                        exchange.act(h / count)
                for act in member.before_step:
                    act(h / count)
                solver.step(h / count)
            self.steps[member.name] += count
            member.update_readers(before, time, h)

    @staticmethod
    def _count(solver: Any, dt: float) -> int:
        return max(1, int(np.ceil(dt / solver.stable_dt() - _SLACK)))

    def frames(self) -> dict[str, dict[str, np.ndarray]]:
        """Return what the frame of each member keeps."""
        return {m.name: m.solver.frame() for m in self.members}

    def gauges(self) -> dict[str, dict[str, float]]:
        """Return what is measured of each member and of the exchanges."""
        found = {m.name: m.solver.gauges() | {"substeps": float(self.steps[m.name])} for m in self.members}
        for name, exchange in self.exchanges:
            for gauge, value in exchange.gauges().items():
                found[name][gauge] = max(value, found[name].get(gauge, 0.0))
        return found

    def snapshot(self) -> State:
        """Return the state of all."""
        return {f"{name}/{k}": v for name, part in self._parts() for k, v in part.snapshot().items()}

    def restore(self, state: State) -> None:
        """Take up a state that `snapshot` returned.

        Parameters
        ----------
        state : dict of arrays
        """
        for name, part in self._parts():
            part.restore(part_of(state, name))

    def _parts(self) -> list[tuple[str, Any]]:
        members = [(f"member{n}", m) for n, m in enumerate(self.members)]
        return members + [(f"exchange{n}", x) for n, (_, x) in enumerate(self.exchanges)]
