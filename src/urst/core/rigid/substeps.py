"""The substeps of a check.

Impulses are sought in many small substeps rather than in many sweeps (Macklin et al. 2019, Small Steps in Physics
Simulation): each goes on from what all contacts and bonds did to a body in the last one, works off overlap while
bodies are moved, and then takes back what that added to their speed (Catto 2024, Solver2D). The world stands still
over a check; gaps follow from how far bodies have moved since.
"""

import numpy as np

from urst.core.jit import serial
from urst.core.rigid import bond_kernels, compounds, joint_kernels, line_search, mass_scaling, rest, rows, state, sweeps
from urst.core.rigid.manifolds import SPARE
from urst.core.rigid.state import Inertia
from urst.core.rigid.sweeps import ONE, REAL, ZERO

#: a body was struck that contacts and bonds made faster by what gravity adds in so many substeps, and by this at least
#: [m/s]
HARD, HARD_LEAST = 16.0, 0.02


@serial
def solve(
    m,
    bonds,
    joints,
    bodies,
    share,
    ballast,
    joined,
    friction,
    restitution,
    free,
    pull,
    weight,
    keep,
    count,
    rules,
    lag,
    brittle,
    taken,
    load,
):
    """Solve the contacts and bonds of a check.

    Parameters
    ----------
    m : Manifolds
        Their impulses are written.
    bonds : BondState
        Likewise.
    joints : JointState
        Likewise.
    bodies : Bodies
    share : (n,)
        How much heavier each is taken as, see `mass_scaling`.
    ballast : (m + 1,)
        How much heavier nodes are to what meets them, by what goes along with them.
    joined : Compounds
    friction, restitution : (p,)
        Of each manifold.
    free : (m + 1,) bool
        Which nodes, bodies and compounds, may be moved; the last is a dummy.
    pull : (m + 1, 6)
        Acceleration of each node by what is steady [m/s2], [rad/s2].
    weight : float
        How strong gravity is [m/s2].
    keep : (2,)
        Shares of velocity and of spin kept over a substep.
    count : int
        Substeps.
    rules : Rules
    lag : float
        See `bond_kernels.sweep` [s].
    brittle : bool
        Whether bonds part within the check.
    taken : (n, 6)
        See `compounds.gather`.
    load : (p,)
        Written: mean normal force between the bodies of each pair [N].

    Returns
    -------
    (velocity, moved, centre, turned)
        Velocities and spins at the end, shifts and turns, (m + 1, 6) each; where the nodes were at the start (m + 1,
        3); how the bodies stood half way, (n, 3, 3), which is where they have those spins.
    """
    n = len(free)
    inertia, turned = Inertia(np.zeros(n), np.zeros((n, 6))), np.empty((len(bodies.mass), 3, 3))
    velocity, moved, start, centre = np.zeros((n, 6)), np.zeros((n, 6)), np.zeros((n, 6), REAL), np.empty((n, 3))
    state.half_way(bodies, free, count * float(rules.h), turned)
    state.weigh(bodies, free, turned, inertia)
    state.load(bodies, free, turned, centre, velocity)
    compounds.gather(bodies, joined, free, centre, inertia, velocity, taken)
    mass_scaling.apply_scale(share, inertia)
    mass_scaling.apply_scale(ballast, inertia)
    laid = rows.lay_out(
        m, free, joined.carrier, centre, bodies.position, bodies.rotation, turned, inertia, friction, restitution, SPARE
    )
    sweeps.warm(laid, start)
    some = bond_kernels.prepare(
        bonds, bodies.position, bodies.rotation, bodies.orientation, inertia, float(rules.h), lag, brittle, start
    )
    h = float(rules.h)
    rods, count_rods = joint_kernels.lay_out(
        joints,
        bodies.position,
        bodies.rotation,
        joined.carrier,
        centre,
        velocity,
        inertia,
        h,
        0.5 * count * h,
        lag,
        start,
    )
    reach = sweeps.reach(laid.body, laid.manifold, free)
    _advance(
        laid,
        reach,
        bonds,
        some,
        joints,
        rods,
        count_rods,
        lag,
        brittle,
        inertia,
        velocity,
        moved,
        start,
        free,
        pull,
        weight,
        keep,
        count,
        rules,
    )
    rows.keep(laid, m, count * float(rules.h), load)
    return velocity, moved, centre, turned


@serial
def _live(free, velocity):
    """Which nodes move, (k,) int64."""
    some, count = np.empty(len(free), np.int64), 0
    for k in range(len(free)):
        v = velocity[k]
        if free[k] or v[0] != 0.0 or v[1] != 0.0 or v[2] != 0.0 or v[3] != 0.0 or v[4] != 0.0 or v[5] != 0.0:
            some[count] = k
            count += 1
    return some[:count]


@serial
def conclude(bodies, joined, creeping, calm, free, turned, velocity, moved, dt, top_speed, top_spin, ease):
    """Move the bodies at the end of a check, and count how long each has been calm; see `state.spin_up` for the
    result."""
    state.move(bodies, free, turned, velocity, moved)
    compounds.carry(bodies, joined, free, velocity, moved, dt)
    compounds.creep(bodies, creeping)
    lost = state.spin_up(bodies, top_speed, top_spin, ease, dt)
    rest.count(bodies, calm, dt)
    return lost


@serial
def _advance(
    rows,
    reach,
    bonds,
    some,
    joints,
    rods,
    count_rods,
    lag,
    brittle,
    inertia,
    velocity,
    moved,
    start,
    free,
    pull,
    weight,
    keep,
    substeps,
    rules,
):
    """Advance velocities (n + 1, 6) by some substeps.

    `start` (n + 1, 6): what contacts and bonds did to each body in the last substep, done again at the start of the
    next.
    """
    h, n = float(rules.h), len(free)
    before, stood = np.empty((n, 6), REAL), np.empty((n, 6))
    # what the sweeps see of velocities and shifts
    quick, shift, came = np.zeros((n, 6), REAL), np.zeros((n, 6), REAL), np.zeros((n, 6), REAL)
    for k in range(n):
        for c in range(6):
            quick[k, c] = came[k, c] = before[k, c] = velocity[k, c]
    todo, hot = np.zeros(len(rows.slots), np.uint8), np.zeros(n, np.uint8)
    bonds.load[:] = 0.0
    hard = max(HARD * h * weight, HARD_LEAST)
    held, live = len(some) > 0 or count_rods > 0, _live(free, velocity)
    for _ in range(substeps):
        fierce = False
        for k in live:
            if free[k]:
                jolt = start[k, 0] * start[k, 0] + start[k, 1] * start[k, 1] + start[k, 2] * start[k, 2]
                fierce = fierce or jolt > hard * hard
                for c in range(3):
                    velocity[k, c] = keep[0] * (velocity[k, c] + h * pull[k, c])
                    velocity[k, c + 3] = keep[1] * (velocity[k, c + 3] + h * pull[k, c + 3])
                for c in range(6):
                    # what bounces does so by how it came, without what the last substep's pushes do again
                    before[k, c] = came[k, c] = velocity[k, c]
                    quick[k, c] = before[k, c] + start[k, c]
        if fierce:
            line_search.rescale_impulses(rows, free, quick, hard)
        if held:
            stood[:] = moved
        joint_kernels.sweep(joints, rods, count_rods, quick, stood, inertia, False)
        bond_kernels.sweep(bonds, some, quick, stood, inertia, h, lag, False)
        sweeps.solve_all(rows, reach, quick, shift, came, rules, ONE, todo, hot)
        for k in live:
            for c in range(6):
                # of what is driven neither has changed
                moved[k, c] += h * (velocity[k, c] + (quick[k, c] - before[k, c]))
                shift[k, c] = moved[k, c]
        joint_kernels.sweep(joints, rods, count_rods, quick, stood, inertia, True)
        bond_kernels.sweep(bonds, some, quick, stood, inertia, h, lag, True)
        sweeps.solve_all(rows, reach, quick, shift, came, rules, ZERO, todo, hot)
        sweeps.note(rows)
        joint_kernels.note(joints, rods, count_rods, 0.0)
        for b in some:
            for c in range(6):
                bonds.load[b, c] += bonds.impulse[b, c]
        for k in live:
            if free[k]:
                touched = False
                for c in range(6):
                    start[k, c] = quick[k, c] - before[k, c]
                    velocity[k, c] += start[k, c]
                    touched = touched or start[k, c] != ZERO
                if not touched:
                    # in free flight the parabola is followed exactly
                    for c in range(3):
                        moved[k, c] -= 0.5 * h * h * pull[k, c]
        if brittle:
            bond_kernels.snap(bonds, some, moved, inertia, start)
    joint_kernels.note(joints, rods, count_rods, substeps * h)
