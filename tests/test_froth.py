"""Foam, bubbles, spray and mist: where they are born, how each moves, what it becomes."""

import unittest

import numpy as np

from urst.core.fields.liquid_frame import LiquidFrame
from urst.core.froth.settings import BUBBLE, FOAM, MIST, SPRAY, FrothSettings
from urst.core.froth.solver import FrothSolver

CELL, G = 0.1, 9.81
SHAPE = (16, 16, 16)


def middles():
    return np.stack(np.meshgrid(*(np.arange(n) + 0.5 for n in SHAPE), indexing="ij"), axis=-1)


def flow(velocity=lambda x: np.zeros_like(x), level=8.0, walls=2.0, surface=None, blocked=None):
    """A pool up to a level [cells], or any surface, that flows by places [m]."""
    x = middles().reshape(-1, 3)
    phi = (surface or (lambda x: x[..., 2] - level))(middles())
    wet = x[phi.ravel() < 0.0]
    places = CELL * np.repeat(wet, 2, axis=0)
    away = np.broadcast_to(walls, SHAPE) if np.isscalar(walls) else walls
    blocked = np.zeros(SHAPE, np.uint8) if blocked is None else blocked
    number = np.array([len(places)])
    return LiquidFrame(
        places,
        velocity(places),
        np.clip(phi, -3, 3),
        away,
        velocity(CELL * x).reshape(*SHAPE, 3),
        number,
        blocked,
    )


def froth(liquid=None, **settings):
    s = FrothSolver(FrothSettings(**settings), (0, 0, -G), (0, 0, 0), CELL, SHAPE)
    s.take(liquid or flow())
    return s


def put(s, place, kind, velocity=(0, 0, 0), life=10.0):
    """Put one point [m]."""
    s.position = np.array([place], np.float32) / np.float32(CELL)
    s.velocity = np.array([velocity], np.float32)
    s.age, s.life, s.kind = np.zeros(1, np.float32), np.full(1, life, np.float32), np.array([kind], np.uint8)


def run(s, seconds, dt=1 / 48):
    for _ in range(round(seconds / dt)):
        s.step(dt)


class Birth(unittest.TestCase):
    def test_still_water_and_even_flow_have_none(self):
        for velocity in (lambda x: np.zeros_like(x), lambda x: np.tile([3.0, 0, 0], (len(x), 1))):
            s = froth(flow(velocity))
            run(s, 0.5)
            self.assertEqual(len(s.kind), 0)

    def test_what_closes_on_itself_takes_in_air_as_much_as_is_said(self):
        # two streams that meet: 20 a second closer, all of it near the surface
        meet = flow(lambda x: np.column_stack([-20.0 * (x[:, 0] - 0.8), 0 * x[:, 0], 20.0 * (x[:, 0] * 0 + 0.2)]))
        births = {"speed": {"none": 0, "full": 0.5}, "clash": {"none": 1, "full": 5}, "trapped": 1e6, "crests": 0}
        s = froth(meet, births=births)
        s._spawn(0.01)
        self.assertAlmostEqual(s.rate / 1e6, 1.0, delta=0.1)
        # where it parts there is none
        part = flow(lambda x: np.column_stack([20.0 * (x[:, 0] - 0.8), 20.0 * (x[:, 1] - 0.8), 20.0 * (x[:, 2] - 0.4)]))
        s = froth(part, births=births)
        s._spawn(0.01)
        self.assertEqual(s.born, 0)

    def test_crests_that_go_forward_break(self):
        def ridge(x):
            return np.hypot(x[..., 0] - 8.0, x[..., 2] - 6.0) - 4.0

        births = {"speed": {"none": 0, "full": 0.5}, "trapped": 0, "crests": 1e6, "crest": {"none": 0.5, "full": 2.0}}
        s = froth(flow(lambda x: np.tile([0.0, 0, 2.0], (len(x), 1)), surface=ridge), births=births)
        s._spawn(0.01)
        self.assertGreater(s.born, 0)
        # on the side towards which it goes
        self.assertGreater(s.position[:, 2].min(), 6.0)

    def test_there_are_no_more_than_there_may_be(self):
        meet = flow(lambda x: np.column_stack([-20.0 * (x[:, 0] - 0.8), 0 * x[:, 0], 0 * x[:, 0]]))
        s = froth(meet, most=500, births={"speed": {"none": 0, "full": 0.1}, "trapped": 1e7})
        run(s, 0.1)
        self.assertLessEqual(len(s.kind), 500)
        self.assertGreater(s.gauges()["refused"], 0.5)


class Motion(unittest.TestCase):
    def test_spray_flies_as_a_stone_does_and_is_slowed_by_the_air(self):
        s = froth(spray={"drag": 0.0})
        put(s, (0.8, 0.8, 1.2), SPRAY, (1.0, 0.0, 1.0))
        run(s, 0.25)
        np.testing.assert_allclose(s.velocity[0], [1.0, 0.0, 1.0 - 0.25 * G], atol=1e-4)
        np.testing.assert_allclose(CELL * s.position[0], [1.05, 0.8, 1.2 + 0.25 - 0.5 * G * 0.25**2], atol=0.03)
        s = froth(mist={"drag": 20.0, "rate": 0.0})
        put(s, (0.8, 0.8, 1.4), MIST, (3.0, 0, 0))
        run(s, 0.4)
        # terminal speed
        np.testing.assert_allclose(s.velocity[0], [0.0, 0.0, -G / 20.0], atol=0.01)

    def test_no_spray_flies_through_a_thin_wall(self):
        blocked = np.zeros(SHAPE, np.uint8)
        blocked[9], blocked[10] = 2, 1
        s = froth(flow(blocked=blocked), spray={"drag": 0.0})
        put(s, (0.8, 0.8, 1.2), SPRAY, (6.0, 0.0, 1.0))
        run(s, 0.1)
        self.assertAlmostEqual(CELL * float(s.position[0, 0]), 1.0, delta=0.01)
        self.assertEqual(s.velocity[0, 0], 0.0)
        # from behind as well
        put(s, (1.3, 0.8, 1.2), SPRAY, (-6.0, 0.0, 1.0))
        run(s, 0.1)
        self.assertGreaterEqual(CELL * float(s.position[-1, 0]), 1.0)

    def test_bubbles_rise_and_become_foam_that_stays_on_the_surface(self):
        s = froth(bubbles={"rise": 0.3, "drag": 50.0, "life": 60.0}, foam={"life": 600.0})
        put(s, (0.8, 0.8, 0.3), BUBBLE, life=60.0)
        run(s, 0.5)
        self.assertEqual(s.kind[0], BUBBLE)
        self.assertAlmostEqual(float(s.velocity[0, 2]), 0.3, delta=0.01)
        run(s, 2.0)
        self.assertEqual(s.kind[0], FOAM)
        self.assertAlmostEqual(CELL * float(s.position[0, 2]), 0.8, delta=0.02)

    def test_foam_goes_with_the_liquid_and_dies(self):
        s = froth(flow(lambda x: np.tile([0.4, 0, 0], (len(x), 1))), foam={"life": 1.0})
        put(s, (0.4, 0.8, 0.79), FOAM, life=1.0)
        run(s, 0.75)
        self.assertAlmostEqual(CELL * float(s.position[0, 0]), 0.7, delta=0.01)
        run(s, 0.5)
        self.assertEqual(len(s.kind), 0)

    def test_spray_that_falls_in_becomes_foam_or_bubbles_and_mist_is_gone(self):
        s = froth(mist={"rate": 0.0})
        put(s, (0.8, 0.8, 1.1), SPRAY, (0, 0, -2.0))
        run(s, 0.2)
        self.assertIn(s.kind[0], (FOAM, BUBBLE))
        put(s, (0.8, 0.8, 0.95), MIST, (0, 0, -8.0))
        run(s, 0.3)
        self.assertEqual(len(s.kind), 0)

    def test_fast_spray_gives_off_mist(self):
        s = froth(mist={"rate": 500.0, "life": 5.0}, spray={"drag": 0.0})
        put(s, (0.8, 0.8, 1.0), SPRAY, (0.0, 0, 9.0))
        s.step(1 / 48)
        self.assertAlmostEqual(int((s.kind == MIST).sum()), 500 / 48, delta=10)

    def test_mist_keeps_of_its_drop_what_is_said_and_is_no_more_than_that_a_second(self):
        still = {"rate": 1000.0, "life": 50.0, "drag": 0.0}
        for carried, scatter, most in ((0.9, 0.0, 1e9), (0.5, 0.2, 1e9), (0.9, 0.1, 2400.0)):
            s = froth(mist=still | {"carried": carried, "scatter": scatter, "most": most}, spray={"drag": 0.0})
            put(s, (0.8, 0.8, 1.0), SPRAY, (0.0, 9.0, 0.0))
            for name in ("position", "velocity", "age", "life", "kind"):
                setattr(s, name, np.repeat(getattr(s, name), 20, axis=0))
            s.step(1 / 48)
            mist = s.kind == MIST
            number = min(20 * 1000.0, most) / 48
            self.assertAlmostEqual(int(mist.sum()), number, delta=4 * np.sqrt(number))
            speed = s.velocity[mist].astype(float)
            self.assertAlmostEqual(float(speed[:, 1].mean()), 9.0 * carried, delta=0.4 * 9.0 * scatter + 1e-3)
            self.assertAlmostEqual(float(speed[:, 0].std()), 9.0 * scatter, delta=0.2 * 9.0 * scatter + 1e-3)
            # all along the way that the drops have flown
            along = s.cell * s.position[mist][:, 1]
            self.assertGreater(float(along.std()), 0.2 * 9.0 / 48)

    def test_none_goes_into_walls_and_what_leaves_is_gone(self):
        walls = np.broadcast_to(((np.arange(16) + 0.5) - 4.0)[:, None, None], SHAPE)
        s = froth(flow(walls=np.clip(walls, -2, 2)), spray={"drag": 0.0})
        put(s, (0.6, 0.8, 1.3), SPRAY, (-4.0, 0, 0))
        run(s, 0.1)
        self.assertGreater(float(s.position[0, 0]), 4.0)
        self.assertGreaterEqual(float(s.velocity[0, 0]), -1e-5)
        put(s, (1.5, 0.8, 1.3), SPRAY, (5.0, 0, 0))
        run(s, 0.1)
        self.assertEqual(len(s.kind), 0)

    def test_each_kind_may_be_left_out(self):
        s = froth(bubbles={"on": False})
        put(s, (0.8, 0.8, 0.3), BUBBLE)
        s.step(1 / 48)
        self.assertEqual(len(s.kind), 0)
