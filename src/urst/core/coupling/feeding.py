"""What a solver passes on to those of its group that take something of it."""

from typing import Any

from urst.core.coupling.baked import inner
from urst.core.debris.settings import PUFF
from urst.core.debris.solver import DebrisSolver
from urst.core.rigid.solver import RigidSolver


class Feeding:
    """One solver and its readers."""

    def __init__(self, solver: Any, readers: list):
        self.solver = inner(solver)
        self.readers = readers

    def before(self) -> Any:
        """Return what must be known of it before it is stepped."""
        return self.solver.poses() if self.readers and isinstance(self.solver, RigidSolver) else None

    def passed(self, before: Any, start: float, dt: float) -> None:
        """Tell the readers how it moved from `start` for `dt` seconds.

        Parameters
        ----------
        before
            What `before` returned.
        start, dt : float [s]
        """
        if isinstance(self.solver, RigidSolver):
            after = self.solver.poses() if self.readers else None
            for reader in self.readers:
                reader.span(before, after, start, dt)
                if reader.parted is not None:
                    reader.parted = self.solver.bonds.alive == 0
        elif isinstance(self.solver, DebrisSolver):
            points = self.solver.points
            puff = points.kind == PUFF
            for reader in self.readers:
                reader.take(points.position[puff], points.velocity[puff], points.age[puff], start + dt)
