"""How bodies and bonds take up gravity before a shot starts."""

from collections.abc import Callable

import numpy as np

from urst.core.bodies.mobility import ABSENT, DRIVEN, FIXED, LOOSE
from urst.core.rigid.solver import RigidSolver

#: fraction of velocity and spin lost a second while settling [1/s]
_DAMPING = 6.0
#: what a contact pushes this much upwards, as a fraction, it carries
_LIFTS = 0.1


def settle(solver: RigidSolver, seconds: float, check_cancelled: Callable[[], None] = lambda: None) -> None:
    """Let bodies and bonds take up gravity: nothing driven moves, nothing snaps.

    What is thrown, and what hangs with nothing below it, stays where and as it was put. What bonds hold to something
    fixed, or what stands by itself, is brought to equilibrium at once. Whatever bonds join is stopped each time its
    kinetic energy has passed a peak (kinetic damping, Cundall 1976), so that it comes to rest within few swings.

    Parameters
    ----------
    solver : RigidSolver
    seconds : float [s]
    check_cancelled : callable
        Called between steps; what it raises ends the work.
    """
    if seconds <= 0.0:
        return
    drive, solver.drive = solver.drive, None
    bodies, clusters = solver.bodies, solver.clusters
    velocity, spin = bodies.velocity.copy(), bodies.spin.copy()
    kind = bodies.kind.copy()
    held = (np.abs(velocity) + np.abs(spin)).max(axis=1) > 0
    held |= ~_supported(solver)
    start = bodies.position[held].copy(), bodies.orientation[held].copy()
    bodies.kind[(held & (kind == LOOSE)) | (kind == DRIVEN)] = FIXED
    bodies.velocity[:], bodies.spin[:] = 0.0, 0.0
    time = solver.time
    clusters.begin(bodies)
    clusters.relax(bodies, solver.gravity, solver.touching(), moving=True)
    solver.contacts.moved()
    label = clusters.label
    energy: np.ndarray = np.zeros(len(held))
    checks = int(np.ceil(seconds / solver.step_dt))
    if not clusters.nodes(bodies).any():
        # what bonds hold is in equilibrium, and nothing else could move
        checks, bodies.awake[(clusters.rigid == 1) & clusters.held] = 0, 0
    for _ in range(checks):
        check_cancelled()
        solver.advance(solver.step_dt, _DAMPING, _DAMPING, snapping=False)
        before, square = energy, np.einsum("ni,ni->n", bodies.velocity, bodies.velocity) + bodies.swing**2
        energy = np.bincount(label, bodies.mass * square, minlength=len(held))
        past = energy < before
        bodies.velocity[past[label]], bodies.spin[past[label]], energy[past] = 0.0, 0.0, 0.0
    bodies.kind[:] = kind
    bodies.position[held], bodies.orientation[held] = start
    bodies.velocity[held], bodies.spin[held] = velocity[held], spin[held]
    bodies.awake[held], solver.rest.calm[held] = 1, 0.0
    clusters.resume(bodies)
    # what snaps at once must not sleep
    over = np.zeros(len(held), bool)
    over[solver.bonds.body[(solver.utilisation > 1.0) | (solver.pressure > 1.0)]] = True
    solver.wake_up(over)
    clusters.loosen(over, bodies)
    solver.contacts.stale()
    solver.time, solver.drive = time, drive


def _supported(solver: RigidSolver) -> np.ndarray:
    """Which bodies something holds up that stands: by a bond, or by lying below."""
    bodies, contacts = solver.bodies, solver.contacts
    solver.look(solver.step_dt)
    up = -solver.gravity / max(solver.weight(), 1e-30)
    pairs, near = contacts.pairs, contacts.touching()
    lift = np.einsum("pij,pj->pi", bodies.rotation[pairs.body[near, 0]], pairs.axis[near]) @ up
    i, j = pairs.body[near].T
    held = solver.bonds.body[solver.bonds.alive == 1].T
    first = np.concatenate([i[lift > _LIFTS], j[lift < -_LIFTS], *held])
    second = np.concatenate([j[lift > _LIFTS], i[lift < -_LIFTS], *held[::-1]])
    stands = (bodies.kind == FIXED) | (bodies.kind == DRIVEN)
    while True:
        more = stands.copy()
        more[second[stands[first] & (bodies.kind[first] != ABSENT)]] = True
        if (more == stands).all():
            return stands
        stands = more
