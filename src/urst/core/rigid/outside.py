"""What acts on rigid bodies from outside, before each check: regions that pull, air that may blow."""

import numpy as np


def pull(solver, regions, dt: float) -> None:
    """Let regions pull at the bodies whose centres are in them; what sleeps in one wakes as it begins and ends.

    Parameters
    ----------
    solver : RigidSolver
    regions : sequence of Region
    dt : float [s]
    """
    bodies = solver.bodies
    now, before = (solver.clock.frame(t) for t in (solver.time, solver.time - dt))
    first = solver.time < solver.start_time + 0.5 * dt
    for r in regions:
        acts, did = r.acts(now), r.acts(before)
        inside = ((bodies.position >= np.array(r.low)) & (bodies.position <= np.array(r.high))).all(axis=1)
        inside &= solver.free()
        if acts != did or (first and acts):
            solver.wake_up(inside)
        if not acts:
            continue
        more = np.array(r.pull) - solver.gravity
        inside &= solver.lightness() > 0.0
        keep = np.exp(-r.damping * dt)
        bodies.velocity[inside] = keep * (bodies.velocity[inside] + dt * more)
        bodies.spin[inside] *= keep


def blow(solver, settings, dt: float) -> None:
    """Drag by air that may blow, as much as a convex body meets on the average of all turns (Cauchy: a quarter of its faces).

    Parameters
    ----------
    solver : RigidSolver
    settings : RigidSettings
    dt : float [s]
    """
    bodies = solver.bodies
    free = (solver.lightness() > 0.0)[:, None]
    against = np.array(settings.wind) - bodies.velocity
    rate = 0.5 * settings.air * settings.drag * 0.25 * solver.surface * np.linalg.norm(against, axis=1) / bodies.mass
    bodies.velocity[:] += np.where(free, against * (1.0 - np.exp(-dt * rate))[:, None], 0.0)
