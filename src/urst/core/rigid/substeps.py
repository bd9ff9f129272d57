"""The substeps of a check.

Impulses are sought in many small substeps rather than in many sweeps (Macklin et al. 2019, Small Steps in Physics
Simulation): each goes on from what all contacts and bonds did to a body in the last one, works off overlap while
bodies are moved, and then takes back what that added to their speed (Catto 2024, Solver2D). The world stands still
over a check; gaps follow from how far bodies have moved since.
"""

from typing import NamedTuple

import numpy as np

from urst.core.jit import serial
from urst.core.rigid import (
    bond_kernels,
    compounds,
    joint_kernels,
    joint_system,
    line_search,
    mass_scaling,
    pushers,
    rest,
    rows,
    state,
    sweeps,
)
from urst.core.rigid.bond_kernels import BondState
from urst.core.rigid.compounds import Compounds
from urst.core.rigid.joint_kernels import JointRows, JointState, Stand
from urst.core.rigid.manifolds import SPARE, Manifolds
from urst.core.rigid.pushers import Motors
from urst.core.rigid.state import Bodies, Inertia
from urst.core.rigid.sweeps import ONE, REAL, ZERO

#: a body was struck that contacts and bonds made faster by what gravity adds in so many substeps, and by this at least
#: [m/s]
HARD, HARD_LEAST = 16.0, 0.02


class Rows(NamedTuple):
    """What the sweeps go over: contacts, bonds and joints."""

    manifolds: Manifolds
    friction: np.ndarray
    """(p,) of each manifold"""
    restitution: np.ndarray
    """(p,)"""
    most: np.ndarray
    """(p,) greatest force between its bodies, see `crushing` [N]"""
    bonds: BondState
    joints: JointState


class NodeState(NamedTuple):
    """What moves as one: `m` nodes, bodies and compounds, and a dummy behind them."""

    free: np.ndarray
    """(m + 1,) bool, which may be moved"""
    joined: Compounds
    scale: np.ndarray
    """(n,) how much heavier each body is taken as, see `mass_scaling`"""
    ballast: np.ndarray
    """(m + 1,) how much heavier nodes are to what meets them, by what goes along with them"""
    pull: np.ndarray
    """(m + 1, 6) acceleration by what is steady [m/s2], [rad/s2]"""
    taken: np.ndarray
    """(n, 6) impulses on members of compounds, see `compounds.gather` [N s], [N m s]"""
    motors: Motors
    """what drives some of them"""


class StepRule(NamedTuple):
    """How a check is solved."""

    substeps: int
    sweep: sweeps.Rules
    keep: np.ndarray
    """(2,) fractions of velocity and of spin kept over a substep"""
    weight: float
    """how strong gravity is [m/s2]"""
    lag: float
    """see `bond_kernels.sweep` [s]"""
    brittle: bool
    """whether bonds part within the check"""


class Going(NamedTuple):
    """How nodes go, (m + 1, 6) each."""

    velocity: np.ndarray
    """and spins [m/s], [rad/s]"""
    moved: np.ndarray
    """shifts and turns since the start [m], [rad]"""
    start: np.ndarray
    """what contacts and bonds did in the last substep, done again at the start of the next, float32 [m/s], [rad/s]"""


class Rods(NamedTuple):
    """What the rows of joints are laid out from, and room for them."""

    rows: JointRows
    """in the middle of a substep"""
    later: JointRows
    """at its end"""
    bodies: Bodies
    """at the check"""
    centre: np.ndarray
    """(m + 1, 3) of the nodes at the check"""


@serial
def solve(rows_of, nodes, bodies, rule, load):
    """Solve the contacts and bonds of a check.

    Parameters
    ----------
    rows_of : Rows
        Impulses are written.
    nodes : NodeState
    bodies : Bodies
        Not moved here, see `conclude`.
    rule : StepRule
    load : (p,)
        Written: mean normal force between the bodies of each pair [N].

    Returns
    -------
    (velocity, moved, centre, turned)
        Velocities and spins at the end, shifts and turns, (m + 1, 6) each; where the nodes were at the start
        (m + 1, 3); how the bodies stood half way, (n, 3, 3), which is where they have those spins.
    """
    m, bonds, joints = rows_of.manifolds, rows_of.bonds, rows_of.joints
    free, joined, rules = nodes.free, nodes.joined, rule.sweep
    n = len(free)
    inertia, turned = Inertia(np.zeros(n), np.zeros((n, 6))), np.empty((len(bodies.mass), 3, 3))
    velocity, moved, start, centre = np.zeros((n, 6)), np.zeros((n, 6)), np.zeros((n, 6), REAL), np.empty((n, 3))
    state.half_way(bodies, free, rule.substeps * float(rules.h), turned)
    state.weigh(bodies, free, turned, inertia)
    state.load(bodies, free, turned, centre, velocity)
    compounds.gather(bodies, joined, free, centre, inertia, velocity, nodes.taken)
    mass_scaling.apply_scale(nodes.scale, inertia)
    mass_scaling.apply_scale(nodes.ballast, inertia)
    h = float(rules.h)
    laid = rows.lay_out(rows_of, nodes, centre, bodies, turned, inertia, h, SPARE)
    sweeps.warm(laid, start)
    some = bond_kernels.prepare(bonds, bodies, inertia, h, rule.lag, rule.brittle, start)
    rods = Rods(joint_kernels.room(len(joints.kind)), joint_kernels.room(len(joints.kind)), bodies, centre)
    going = Going(velocity, moved, start)
    _advance(laid, rows_of, some, rods, inertia, going, nodes, rule)
    rows.keep(laid, m, rule.substeps * float(rules.h), load)
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


class Limits(NamedTuple):
    """How fast bodies may go."""

    speed: float
    """[m/s]"""
    spin: float
    """[rad/s]"""
    ease: float
    """how soon what is faster comes down to these; 0: at once [s]"""


@serial
def conclude(bodies, nodes, creeping, calm, turned, motion, limits, dt):
    """Move the bodies at the end of a check, and count how long each has been calm.

    Parameters
    ----------
    bodies : Bodies
        Written.
    nodes : NodeState
        As `solve` was given them.
    creeping : (n, 6)
        How members of compounds creep over the check, see `compounds.creep`.
    calm : Rest
        Written.
    turned : (n, 3, 3)
        As `solve` returned it.
    motion : (velocity, moved)
        As `solve` returned them.
    limits : Limits
    dt : float [s]

    Returns
    -------
    (int, int)
        See `state.spin_up`.
    """
    joined, free = nodes.joined, nodes.free
    velocity, moved = motion
    state.move(bodies, free, joined.carrier, turned, velocity, moved)
    compounds.carry(bodies, joined, free, velocity, moved, dt)
    compounds.creep(bodies, creeping)
    lost, cut = state.spin_up(bodies, limits.speed, limits.spin, limits.ease, dt)
    rest.count(bodies, calm, dt)
    return lost, cut


@serial
def _advance(rows, rows_of, some, rods, inertia, going, nodes, rule):
    """Advance velocities by some substeps."""
    bonds, joints, rules = rows_of.bonds, rows_of.joints, rule.sweep
    velocity, moved, start = going.velocity, going.moved, going.start
    free, pull, weight, keep = nodes.free, nodes.pull, rule.weight, rule.keep
    lag, brittle = rule.lag, rule.brittle
    h, n = float(rules.h), len(free)
    before, stood = np.empty((n, 6), REAL), np.empty((n, 6))
    # what the sweeps see of velocities and shifts
    quick, shift, came = np.zeros((n, 6), REAL), np.zeros((n, 6), REAL), np.zeros((n, 6), REAL)
    for k in range(n):
        for c in range(6):
            quick[k, c] = came[k, c] = before[k, c] = velocity[k, c]
    motion = sweeps.Motion(quick, shift, came)
    marks = np.zeros((3, len(rows.slots)), np.uint8)
    calls = sweeps.Calls(marks[0], np.zeros(n, np.uint8), marks[1], marks[2])
    reach = sweeps.reach(rows.body, rows.manifold, free)
    bonds.load[:] = 0.0
    hard = max(HARD * h * weight, HARD_LEAST)
    live = _live(free, velocity)
    jointed, count = len(joints.kind) > 0, 0
    springs = joint_kernels.Rule(inertia, h, lag)
    stand = Stand(rods.bodies, nodes.joined.carrier, rods.centre, moved, quick)
    # what joints that are solved at once do in a substep, which the next does not begin with
    held = np.zeros((n, 6) if jointed else (0, 6))
    if jointed:
        count = joint_kernels.lay_out(joints, stand, springs, 0.0, rods.rows)
        joint_kernels.warm(joints, rods.rows, count, start, inertia)
    for _ in range(rule.substeps):
        fierce = False
        pushers.push(nodes.motors, velocity, start, inertia, h)
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
        if len(some):
            stood[:] = moved
        if jointed:
            held[:] = 0.0
            joint_kernels.renew(joints)
            count = joint_kernels.lay_out(joints, stand, springs, 0.5 * h, rods.rows)
            joint_system.solve(
                joints, rods.rows, joint_system.factor(rods.rows, count, inertia, True), quick, held, inertia
            )
            joint_kernels.sweep(joints, rods.rows, count, quick, inertia, False)
        bond_kernels.sweep(bonds, some, quick, stood, inertia, h, lag, False)
        sweeps.solve_all(rows, reach, motion, rules, ONE, calls)
        sweeps.collide(rows, reach, motion, rules, calls)
        for k in live:
            for c in range(6):
                # of what is driven neither has changed
                moved[k, c] += h * (velocity[k, c] + (quick[k, c] - before[k, c]))
                shift[k, c] = moved[k, c]
        if jointed:
            later = joint_kernels.lay_out(joints, stand, springs, 0.0, rods.later)
            joint_system.swing(
                joints, rods.later, joint_system.factor(rods.later, later, inertia, False), quick, held, inertia
            )
            joint_kernels.sweep(joints, rods.rows, count, quick, inertia, True)
            joint_kernels.note(joints)
        bond_kernels.sweep(bonds, some, quick, stood, inertia, h, lag, True)
        sweeps.solve_all(rows, reach, motion, rules, ZERO, calls)
        sweeps.note(rows)
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
                    if jointed:
                        start[k, c] -= held[k, c]
                if not touched:
                    # in free flight the parabola is followed exactly
                    for c in range(3):
                        moved[k, c] -= 0.5 * h * h * pull[k, c]
        if brittle:
            bond_kernels.snap(bonds, some, moved, inertia, start)
    if jointed:
        joint_kernels.weigh(joints, rods.rows, count, rule.substeps * h)
