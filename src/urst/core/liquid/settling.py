"""How a liquid comes to rest before a shot starts."""

from collections.abc import Callable

import numpy as np

from urst.core.liquid.solver import LiquidSolver


def settle(solver: LiquidSolver, seconds: float, report_progress: Callable[[float], None] = lambda done: None) -> None:
    """Let a liquid come to rest, with all that moves held still.

    Parameters
    ----------
    solver : LiquidSolver
    seconds : float [s]
    report_progress : callable
        Called with what is done of it [s].
    """
    done = 0.0
    while done < seconds - 1e-9:
        report_progress(done)
        dt = min(solver.stable_dt(), seconds - done)
        solver.fit()
        solver.solve_pressure(dt, held=True)
        solver.move(dt, solver.time)
        done += dt


def press_at_rest(solver: LiquidSolver) -> None:
    """Find the pressure there is before anything moves, and change nothing else.

    Parameters
    ----------
    solver : LiquidSolver
    """
    flow, pockets = solver.velocity, solver.pockets
    solver.velocity = [np.zeros_like(u) for u in flow]
    if len(solver.position):
        solver.solve_pressure(solver.least_dt, held=True)
    solver.velocity, solver.pockets, solver.pressure_step = flow, pockets, None
