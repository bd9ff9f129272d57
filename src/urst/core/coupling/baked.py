"""A solver that a baked gas drags along: it is acted on and does not act back."""

from typing import Any

import numpy as np

from urst.core.coupling.drag import BodyDrag, PointDrag
from urst.core.coupling.wetted import Wetted
from urst.core.rigid.solver import RigidSolver


class Dragged:
    """A rigid or debris solver in gases that are on disk.

    Parameters
    ----------
    solver : RigidSolver or DebrisSolver
    airs : list of (gas, strength)
        Each gas has `field(time)`; a strength of 1 is physical.
    """

    def __init__(self, solver: Any, airs: list):
        self.solver, self.airs = solver, airs
        self.drag = BodyDrag(solver) if isinstance(solver, RigidSolver) else PointDrag(solver)

    def __getattr__(self, name):
        return getattr(self.solver, name)

    def step(self, dt: float) -> None:
        """Let the gases act, then advance by `dt` seconds."""
        for air, strength in self.airs:
            field = air.field(self.solver.time)
            if isinstance(self.drag, BodyDrag):
                self.drag.act(field, dt, np.ones(len(self.solver.radius)), on_bodies=strength, on_field=0.0)
            else:
                self.drag.act(field, dt, on_points=strength, on_field=0.0)
        self.solver.step(dt)


def inner(solver: Any) -> Any:
    """Return the solver itself where gases drag it along or liquids carry it."""
    while isinstance(solver, (Dragged, Wetted)):
        solver = solver.solver
    return solver
