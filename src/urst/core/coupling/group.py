"""Solvers stepped together on one clock."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from urst.core.coupling.exchange import Exchange
from urst.core.coupling.ports import Output, Reader

#: share of a step by which time may be cut too long, so that rounding makes no step more
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

    def outputs(self) -> Any:
        """Return what readers follow, as it is now; None if nobody does."""
        return self.solver.outputs() if self.readers and isinstance(self.solver, Output) else None


class Group:
    """Solvers that take from each other, and act on each other through exchanges.

    A span of time is cut into rounds, as many as the most patient solver needs steps, or one that leads, if there is any:
    then it is seen anew after each round how long the next may be. In each round each solver is stepped over the round in its
    own steps, the exchanges that go with it acting before each, in their order; then what it passes on is brought up to date.

    Parameters
    ----------
    members : list of Member
        What is read comes before what reads it.
    exchanges : list of (name, Exchange)
        With the member whose gauges they belong to.
    """

    def __init__(self, members: list[Member], exchanges: list[tuple[str, Exchange]]):
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

    def _round(self, time, h, leaders):
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
            if member.readers:
                after = member.outputs()
                for reader in member.readers:
                    reader.update(before, after, time, h)

    @staticmethod
    def _count(solver, dt):
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

    def snapshot(self) -> dict[str, np.ndarray]:
        """Return the state of all."""
        state = {f"{n}.{k}": v for n, m in enumerate(self.members) for k, v in m.solver.snapshot().items()}
        return state | {f"exchange.{n}": x.snapshot() for n, (_, x) in enumerate(self.exchanges)}

    def restore(self, state: dict[str, np.ndarray]) -> None:
        """Take up a state."""
        for n, member in enumerate(self.members):
            member.solver.restore({k.split(".", 1)[1]: v for k, v in state.items() if k.startswith(f"{n}.")})
        for n, (_, exchange) in enumerate(self.exchanges):
            exchange.restore(state[f"exchange.{n}"])
