"""What meets water without pushing it: chips that sink or float in it, air that lies on it."""

import unittest
from dataclasses import replace

import numpy as np

from tests.bodies import fragments_of
from tests.test_coupling import together
from urst.core.bodies.boundary import Boundary
from urst.core.coupling.wetted import PointsInLiquids
from urst.core.debris.kernels import Points
from urst.core.debris.settings import CHIP, PUFF, DebrisSettings
from urst.core.debris.solver import DebrisSolver
from urst.core.fields.wet import Wet
from urst.core.gas.settings import GasSettings, Scalar
from urst.core.gas.solver import GasSolver
from urst.core.geometry import generators
from urst.core.liquid.settings import LiquidSettings
from urst.core.liquid.solver import LiquidSolver

G, DT, CELL = 9.81, 1 / 24, 0.1


def pool(level, flow=(0.0, 0.0, 0.0), shape=(20, 20, 40), cell=CELL):
    """Water up to a level that goes everywhere alike."""
    height = (np.arange(shape[2]) + 0.5) * cell
    phi = np.broadcast_to(((height - level) / cell).astype(np.float32), shape)
    return Wet(phi, np.tile(np.array(flow, np.float32), (*shape, 1)), np.zeros(3), cell)


def chips(places, size=0.02, kind=CHIP, **settings):
    """A debris solver with chips at rest."""
    s, n = DebrisSolver(DebrisSettings(life=100.0, **settings)), len(places)
    s.points = Points(
        np.array(places, float),
        np.zeros((n, 3)),
        np.full(n, size),
        np.zeros(n),
        np.full(n, kind, np.uint8),
        np.zeros(n, np.uint8),
    )
    return s


def go_on(s, seconds, dt=DT / 8, water=None):
    act = PointsInLiquids(s, [water] if water else [])
    for _ in range(round(seconds / dt)):
        act(dt)
        s.step(dt)


class Chips(unittest.TestCase):
    def test_what_is_heavy_sinks_as_fast_as_its_drag_lets_it(self):
        # Newton's regime: 4/3 (s - 1) g d / 0.44
        s = chips([(1, 1, 3.5)], density=2500.0)
        go_on(s, 0.5, water=lambda t: pool(4.0))
        wanted = np.sqrt(4 / 3 * 1.5 * G * 0.02 / 0.44)
        self.assertAlmostEqual(-s.points.velocity[0, 2] / wanted, 1.0, delta=0.03)
        # thick liquid holds it up
        thick = replace(pool(4.0), viscosity=1.0)
        s = chips([(1, 1, 3.5)], density=2500.0)
        go_on(s, 0.5, water=lambda t: thick)
        self.assertAlmostEqual(-s.points.velocity[0, 2] / (1500.0 * G * 0.02**2 / 18e3), 1.0, delta=0.03)
        # what is a grain goes by Stokes, if it is small enough
        s = chips([(1, 1, 3.5)], size=1e-4, density=2500.0)
        go_on(s, 0.1, 1e-4, water=lambda t: pool(4.0))
        reynolds = -s.points.velocity[0, 2] * 1e-4 / 1e-6
        stokes = 1500.0 * G * 1e-8 / 18e-3
        self.assertAlmostEqual(-s.points.velocity[0, 2] * (1 + 0.15 * reynolds**0.687) / stokes, 1.0, delta=0.03)

    def test_what_is_light_comes_up_and_floats_as_deep_as_it_weighs(self):
        for fraction in (0.3, 0.5, 0.8):
            water = pool(2.0, (0.5, 0.0, 0.0))
            s = chips([(0.3, 1, 1.5)], density=1000.0 * fraction)
            go_on(s, 3.0, water=lambda t, w=water: w)
            self.assertAlmostEqual((2.0 - s.points.position[0, 2]) / 0.02 + 0.5, fraction, delta=0.03)
            # and goes where the water goes
            self.assertAlmostEqual(s.points.velocity[0, 0], 0.5, delta=0.01)

    def test_dust_is_gone_in_water_and_what_is_above_falls_as_ever(self):
        s, dry = chips([(1, 1, 1.0), (1, 1, 3.0)], kind=PUFF), chips([(1, 1, 3.0)])
        water = lambda t: pool(2.0)  # noqa: E731
        go_on(s, 0.05, water=water)
        self.assertEqual(len(s.points.size), 1)
        above = chips([(1, 1, 3.0)])
        go_on(dry, 0.2)
        go_on(above, 0.2, water=water)
        np.testing.assert_array_equal(above.points.position, dry.points.position)


class Air(unittest.TestCase):
    def test_water_that_rises_lifts_the_air_on_it(self):
        dust = Scalar(name="density", buoyancy=0.0, clearing=1e5)
        settings = GasSettings(cell_size=0.125, low=(0, 0, 0), high=(1, 1, 2), swirl=0.0, push=0.0, scalars=(dust,))
        water = lambda t: pool(0.5 + 0.6 * t, (0.0, 0.0, 0.6), (10, 10, 20))  # noqa: E731
        # between walls, so that it can but rise
        walls = [
            generators.box_between((a, b, -1), (c, d, 3))
            for a, b, c, d in ((-1, -1, 0.125, 2), (0.875, -1, 2, 2), (-1, -1, 2, 0.125), (-1, 0.875, 2, 2))
        ]
        s = GasSolver(settings, (0, 0, -G), boundaries=[Boundary(fragments_of(walls))], liquids=[water])
        s.scalars["density"][2:6, 2:6, 6:8] = 0.5
        before = s.scalars["density"].sum()
        for _ in range(6):
            s.step(DT)
        above = s.velocity[2][3:5, 3:5, 8:16]
        np.testing.assert_allclose(above, 0.6, atol=0.02)
        self.assertAlmostEqual(s.scalars["density"].sum() / before, 1.0, delta=0.02)
        # none of it is in the water
        wet = water(s.time).depth(s.origin + s.cell * (np.argwhere(s.scalars["density"] > 1e-4) + 0.5)) > 0.0
        self.assertFalse(wet.any())

    def test_water_under_air_that_bodies_are_pushed_by(self):
        rigid, gas, group = together(
            [generators.box_between((0.4, 0.4, 1.2), (1.1, 1.1, 1.5))], 2.0, 1 / 8, density=500.0
        )
        gas.solids.liquids = [lambda t: pool(0.6 + 0.5 * t, (0.0, 0.0, 0.5), (24, 24, 24))]
        for frame in range(4):
            group.advance(frame * DT, DT)
        # the air that the water lifts lifts the slab a little
        self.assertGreater(rigid.bodies.velocity[0, 2], 0.0)
        self.assertLess(rigid.bodies.velocity[0, 2], 0.5)
        self.assertAlmostEqual(float(gas.velocity[2][12, 12, 8]), 0.5, delta=0.3)

    def test_a_live_liquid_is_met_where_it_is(self):
        liquid = LiquidSolver(LiquidSettings(cell_size=0.125, low=(0, 0, 0), high=(1, 1, 1.5), level=0.75))
        liquid.pool(0.75)
        wet = liquid.wet(0.0)
        np.testing.assert_allclose(wet.depth(np.array([[0.5, 0.5, 0.5], [0.5, 0.5, 1.0]])), [0.25, -0.25], atol=0.02)
        self.assertEqual(wet.depth(np.array([[5.0, 0.5, 0.5]]))[0], -np.inf)
