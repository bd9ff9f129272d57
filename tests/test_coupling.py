"""Solvers that act on each other: momentum, drag, pressure, one clock."""

import unittest

import numpy as np

from tests.bodies import fragments_of, solver
from urst.core.air import AIR_DENSITY
from urst.core.bodies.boundary import Boundary
from urst.core.bodies.parting import Parting
from urst.core.bodies.patches import find_patches
from urst.core.coupling.drag import BodyDrag
from urst.core.coupling.exchanges import PAIRS, exchange
from urst.core.coupling.group import Group, Member
from urst.core.coupling.ports import PORTS
from urst.core.debris.kernels import Points
from urst.core.debris.settings import DebrisSettings
from urst.core.debris.solver import DebrisSolver
from urst.core.fields.sampled import SampledField
from urst.core.gas.settings import GasSettings, Scalar
from urst.core.gas.solver import GasSolver
from urst.core.geometry import generators
from urst.core.liquid.settings import LiquidSettings
from urst.core.liquid.solver import LiquidSolver
from urst.core.rigid.settings import BondSettings, RigidSettings
from urst.errors import BadValue

DT = 1 / 24
LOOSE_BODIES = RigidSettings(bonds=BondSettings(tension=0), angular_damping=0.0, settle=0.0, top_speed=1000)


def air(size, cell, boundaries=(), **changes):
    dust = Scalar(name="density", buoyancy=0.0)
    settings = GasSettings(
        cell_size=cell,
        low=(0, 0, 0),
        high=(size, size, size),
        swirl=0.0,
        scalars=(dust,),
        tolerance=1e-5,
        **changes,
    )
    return GasSolver(settings, boundaries=boundaries)


def together(meshes, gas_size, cell, *, forth=1.0, back=1.0, seen=True, gravity=(0, 0, 0), density=500.0, **options):
    """Bodies in a gas, coupled; `seen`: whether they stand on its grid."""
    rigid = solver(meshes, settings=LOOSE_BODIES, gravity=gravity, density=density, **options)
    fragments = fragments_of(meshes)
    parting = Parting(Boundary(fragments), find_patches(fragments, 1e-3), np.zeros(0, np.int64))
    gas = air(gas_size, cell, [parting.boundary] if seen else [])
    readers = [parting] if seen else []
    between = exchange(rigid, gas, {id(rigid): readers, id(gas): []}, forth, back)
    group = Group([Member("fall", rigid, readers), Member("billow", gas, [])], [("billow", between)])
    return rigid, gas, group


class Field(unittest.TestCase):
    def field(self, shut=False):
        rng = np.random.default_rng(0)
        velocity = [
            rng.standard_normal(tuple(8 + (a == axis) for a in range(3))).astype(np.float32) for axis in range(3)
        ]
        weights = [(rng.random(u.shape) > (0.4 if shut else 0.0)).astype(np.float32) for u in velocity]
        return SampledField(velocity, weights, (0, 0, 0), 0.5, 1.2)

    def test_deposits_are_the_adjoint_of_samples(self):
        # sum over points of impulse . sampled velocity = sum over faces of deposited momentum . velocity
        for shut in (False, True):
            field = self.field(shut)
            rng = np.random.default_rng(1)
            points, impulse = rng.uniform(0.6, 3.4, (40, 3)), rng.standard_normal((40, 3))
            reach = rng.uniform(1.0, 2.5, 40)
            sampled, _ = field.sample(points, reach)
            before = [u.astype(float).copy() for u in field.velocity]
            field.deposit(points, reach, impulse)
            mass = 1.2 * 0.5**3
            worked = sum(float((mass * (u - b) * b).sum()) for u, b in zip(field.velocity, before))
            self.assertAlmostEqual(worked, float((sampled * impulse).sum()), places=4)

    def test_what_is_deposited_is_there_to_rounding(self):
        field = self.field(shut=True)
        rng = np.random.default_rng(2)
        points, impulse = rng.uniform(0.6, 3.4, (30, 3)), rng.standard_normal((30, 3))
        before = [float(u.sum(dtype=float)) for u in field.velocity]
        taken = field.deposit(points, np.ones(30), impulse)
        np.testing.assert_allclose(taken, impulse.sum(axis=0), atol=1e-12)
        gained = [1.2 * 0.5**3 * (float(u.sum(dtype=float)) - b) for u, b in zip(field.velocity, before)]
        np.testing.assert_allclose(gained, impulse.sum(axis=0), atol=2e-5)

    def test_the_response_is_what_a_deposit_does_to_the_sample(self):
        field = self.field()
        point, reach = np.array([[1.3, 2.2, 1.9]]), np.array([1.7])
        before, response = field.sample(point, reach)
        field.deposit(point, reach, np.array([[0.3, -0.2, 0.5]]))
        after, _ = field.sample(point, reach)
        np.testing.assert_allclose(after - before, response * [[0.3, -0.2, 0.5]], rtol=1e-4)


class Drag(unittest.TestCase):
    def test_a_body_s_shadow_is_that_of_its_shape(self):
        s = solver([generators.box_between((0, 0, 0), (1, 2, 3)), generators.ball(0.5, 24)[0]])
        drag = BodyDrag(s)
        for axis, area in enumerate((6.0, 3.0, 2.0)):
            self.assertAlmostEqual(drag.shadow(np.tile(np.eye(3)[axis], (2, 1)))[0], area, places=9)
        slant = np.ones((2, 3)) / np.sqrt(3)
        self.assertAlmostEqual(drag.shadow(slant)[0], 11.0 / np.sqrt(3), places=9)
        self.assertAlmostEqual(drag.shadow(slant)[1], np.pi * 0.25, delta=0.01)

    def test_a_falling_plate_reaches_the_terminal_speed_of_its_drag(self):
        # m g = rho C A v^2 / 2, for a plate that is small to a cell; the air it takes along lets it fall a little
        # faster
        plate = generators.box_between((3.95, 3.95, 7.0), (4.05, 4.05, 7.001))
        rigid, gas, group = together([plate], 8.0, 0.5, gravity=(0, 0, -9.81), density=700.0, seen=False)
        mass, area = 700.0 * 0.1 * 0.1 * 0.001, 0.01
        speed = np.sqrt(2 * mass * 9.81 / (AIR_DENSITY * LOOSE_BODIES.drag * area))
        for frame in range(40):
            group.advance(frame * DT, DT)
        found = -rigid.bodies.velocity[0, 2]
        self.assertGreater(found, speed)
        self.assertAlmostEqual(found / speed, 1.0, delta=0.05)

    def test_a_chip_in_still_air_falls_as_it_does_alone(self):
        def fall(coupled):
            debris = DebrisSolver(DebrisSettings(), gravity=(0, 0, -9.81))
            debris.points = Points(
                np.array([[4.0, 4.0, 7.5]]),
                np.zeros((1, 3)),
                np.array([2e-3]),
                np.zeros(1),
                np.zeros(1, np.uint8),
                np.zeros(1, np.uint8),
            )
            members, exchanges = [Member("shed", debris, [])], []
            if coupled:
                gas = air(8.0, 0.5)
                exchanges = [("billow", exchange(debris, gas, {id(debris): [], id(gas): []}, 1.0, 1.0))]
                members.append(Member("billow", gas, []))
            group = Group(members, exchanges)
            for frame in range(12):
                group.advance(frame * DT, DT)
            return float(debris.points.velocity[0, 2])

        self.assertAlmostEqual(fall(True) / fall(False), 1.0, delta=0.03)


class Momentum(unittest.TestCase):
    def total(self, rigid, gas):
        return (rigid.bodies.mass[:, None] * rigid.bodies.velocity).sum(axis=0) + gas.momentum()

    def test_bodies_and_gas_keep_their_momentum_to_rounding(self):
        # a slab that fills cells and a splinter that fills none fly through still air, with no weight; what one
        # exchange and one pressure solve pass between them is all that happens to their sum
        slab = generators.box_between((0.8, 1.2, 1.0), (1.1, 2.8, 3.0))
        splinter = generators.box_between((2.2, 2.2, 2.2), (2.22, 2.3, 2.3))
        rigid, gas, group = together([slab, splinter], 4.0, 0.125, velocity=[[4.0, 0.5, 0], [-9.0, 0, 3]], density=30.0)
        start = rigid.bodies.mass[0] * 4.0
        for frame in range(6):
            group.advance(frame * DT, DT)
            lost = group.gauges()["billow"]["momentum_lost"]
            self.assertLess(lost, 1e-5)
        self.assertGreater(start - rigid.bodies.mass[0] * rigid.bodies.velocity[0, 0], 0.02 * start)
        self.assertGreater(rigid.bodies.velocity[1, 0], -9.0)

    def test_one_projection_keeps_the_sum_of_both(self):
        slab = generators.box_between((0.8, 1.2, 1.0), (1.1, 2.8, 3.0))
        rigid, gas, _ = together([slab], 4.0, 0.125, velocity=[[4.0, 0.5, 0.0]], density=30.0)
        gas.solids.boundaries[0].update(rigid.outputs(), rigid.outputs(), 0.0, DT)
        gas.solids.boundaries[0].motion.speed[:] = rigid.bodies.velocity
        gas.solids.place(0.0)
        before = self.total(rigid, gas)
        gas._project()
        np.testing.assert_allclose(self.total(rigid, gas), before, atol=1e-5 * np.abs(before).max())
        self.assertLess(rigid.bodies.velocity[0, 0], 4.0)

    def test_a_puff_of_pressure_pushes_a_slab_and_a_wind_carries_it(self):
        # air let in at speed on one side of a hanging slab pushes it away
        slab = generators.box_between((1.9, 1.2, 1.2), (2.1, 2.8, 2.8))
        rigid, gas, group = together([slab], 4.0, 0.125, density=20.0)
        gas.velocity[0][4:12, 10:22, 10:22] = 10.0
        group.advance(0.0, DT)
        self.assertGreater(rigid.bodies.velocity[0, 0], 0.1)
        np.testing.assert_allclose(rigid.bodies.velocity[0, 1:], 0.0, atol=0.02)

    def test_a_slab_lighter_than_the_air_it_moves_is_steady(self):
        # explicit coupling would explode: the slab's mass is a tenth of its added mass
        slab = generators.box_between((1.9, 1.0, 1.0), (2.1, 3.0, 3.0))
        rigid, gas, group = together([slab], 4.0, 0.25, velocity=[[2.0, 0, 0]], density=0.2)
        for frame in range(20):
            group.advance(frame * DT, DT)
            self.assertLess(np.abs(rigid.bodies.velocity).max(), 2.5)
        self.assertGreater(rigid.bodies.velocity[0, 0], 0.0)

    def test_the_strength_of_each_side_is_its_own(self):
        slab = generators.box_between((2.2, 2.2, 2.2), (2.21, 2.3, 2.3))

        def run(forth, back):
            rigid, gas, group = together([slab], 4.0, 0.25, velocity=[[8.0, 0, 0]], forth=forth, back=back)
            group.advance(0.0, DT)
            return 8.0 - rigid.bodies.velocity[0, 0], float(gas.momentum()[0])

        one, air_one = run(1.0, 1.0)
        double, _ = run(1.0, 2.0)
        still, air_still = run(1.0, 0.0)
        _, air_none = run(0.0, 1.0)
        self.assertAlmostEqual(double / one, 2.0, delta=0.15)
        self.assertEqual(still, 0.0)
        self.assertGreater(air_still, 0.5 * air_one)
        self.assertEqual(air_none, 0.0)


class Clock(unittest.TestCase):
    def test_each_pair_joins_two_ports_and_solvers_have_those_that_their_kinds_say(self):
        from urst.kinds.registry import KINDS

        self.assertLessEqual({port for pair in PAIRS for port in pair}, PORTS.keys())
        settings = LiquidSettings(cell_size=0.25, low=(0, 0, 0), high=(1, 1, 1))
        made = {
            "fall": solver([generators.box_between((0, 0, 0), (1, 1, 1))]),
            "shed": DebrisSolver(DebrisSettings()),
            "billow": air(1.0, 0.25),
            "flood": LiquidSolver(settings),
        }
        self.assertEqual(made.keys(), {k.name for k in KINDS.values() if k.ports})
        for name, found in made.items():
            has = tuple(p for p, protocol in PORTS.items() if isinstance(found, protocol))
            self.assertEqual(has, KINDS[name].ports)

    def test_what_has_no_port_is_refused_by_name(self):
        gas = air(1.0, 0.25)
        with self.assertRaisesRegex(BadValue, "GasSolver and GasSolver cannot act on each other"):
            exchange(gas, gas, {id(gas): []}, 1.0, 1.0)

    def test_members_are_stepped_each_at_its_own_pace_and_end_together(self):
        class Ticking:
            def __init__(self, longest):
                self.longest, self.time, self.steps = longest, 0.0, []

            def stable_dt(self):
                return self.longest

            def step(self, dt):
                self.time += dt
                self.steps.append(dt)

        fast, slow = Ticking(0.01), Ticking(0.05)
        group = Group([Member("fast", fast, []), Member("slow", slow, [])], [])
        group.advance(0.0, 0.1)
        self.assertEqual((len(fast.steps), len(slow.steps)), (10, 2))
        self.assertAlmostEqual(fast.time, slow.time, places=12)
        self.assertEqual(group.steps, {"fast": 10, "slow": 2})
