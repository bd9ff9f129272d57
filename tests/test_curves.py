"""Settings that are curves, and what they do in the solvers. Values are derived here."""

import unittest

import numpy as np
from pydantic import BaseModel, ValidationError

from tests.bodies import FREE, GROUND, advance, fragments_of, run, solver
from urst.core.bodies.boundary import Boundary
from urst.core.bodies.parting import Parting
from urst.core.bodies.patches import find_patches
from urst.core.curves.clock import Clock
from urst.core.curves.curve import Curve
from urst.core.curves.stream import Stream
from urst.core.curves.varies import at_time, in_space, mean
from urst.core.debris.settings import PUFF, DebrisSettings
from urst.core.debris.solver import DebrisSolver
from urst.core.debris.sources import PointSource
from urst.core.gas.emitters import DustSource
from urst.core.gas.settings import GasSettings, Scalar
from urst.core.gas.solver import GasSolver
from urst.core.gas.sources import Puffs
from urst.core.geometry import generators
from urst.core.rigid.settings import BondSettings

box = generators.box_between
DT = 1 / 24


def curve(over, *points, **more):
    return Curve.model_validate({"over": over, "points": [{"at": a, "value": v} for a, v in points], **more})


class Model(unittest.TestCase):
    def refused(self, sentence, model: type[BaseModel], **settings):
        with self.assertRaisesRegex(ValidationError, sentence):
            model(**settings)

    def test_every_point_keeps_the_range_of_the_setting(self):
        self.refused("2001 must lie from -200 to 2000", Scalar, name="t", rise=2001)
        steep = curve("frame", (1, 0), (9, 2001))
        self.refused("2001 at frame 9 must lie from -200 to 2000", Scalar, name="t", rise=steep)
        self.refused("0 must lie above 0 up to 100000", Scalar, name="t", clearing=0)
        self.refused("it cannot run over speed; it may over frame or height", GasSettings, swirl=curve("speed", (0, 1)))
        self.refused(
            "their ages must rise", DebrisSettings, puff_giving={"over": "age", "points": [{"at": 1, "value": 1}] * 2}
        )
        self.refused("a puff would give nothing", DebrisSettings, puff_giving=curve("age", (0, 0), (1, 0)))
        self.refused("finite number", Scalar, name="t", rise=float("nan"))

    def test_it_never_passes_beyond_its_points(self):
        c = curve("frame", (0, 0), (10, 0), (11, 1), (20, 1))
        values = c.along(np.linspace(-5, 30, 500))
        self.assertEqual((values.min(), values.max()), (0.0, 1.0))
        self.assertTrue((np.diff(values) >= -1e-12).all())

    def test_its_mean_is_that_of_its_values(self):
        c = curve("frame", (0, 2), (10, 5), (30, 1))
        fine = np.linspace(-4, 36, 400_001)
        self.assertAlmostEqual(mean(c, -4, 36), c.along(fine).mean(), places=4)

    def test_height_and_distance_are_measured_in_space(self):
        points = np.array([[3.0, 4.0, 0.0], [0.0, 0.0, 2.0]])
        np.testing.assert_allclose(in_space(curve("height", (0, 1), (4, 5)), points), [1, 3])
        far = curve("distance", (0, 0), (10, 10), origin=(0.0, 0.0, 2.0))
        np.testing.assert_allclose(in_space(far, points), [np.sqrt(29), 0], atol=1e-12)


class Time(unittest.TestCase):
    def test_the_frame_of_a_time_is_the_inverse(self):
        for scale in (1.0, 0.25, curve("frame", (10, 1.0), (20, 0.2), (40, 1.5))):
            clock = Clock(3, 24.0, scale)
            for f in (3.0, 7.25, 15.5, 19.0, 60.0):
                self.assertAlmostEqual(clock.frame(clock.seconds(f)), f, places=6)

    def test_a_stream_is_the_integral_of_its_rate_within_its_window(self):
        clock = Clock(1, 24.0)
        stream = Stream(curve("frame", (1, 0), (25, 24)), 0.25, 0.75, clock)
        # 24 a second more each second: 12 t^2
        for t in (0.0, 0.25, 0.5, 0.75, 2.0):
            inside = min(max(t, 0.25), 0.75)
            self.assertAlmostEqual(stream.given(t), 12 * (inside**2 - 0.25**2), places=3)
        amounts = np.array([0.5, 2.0, 4.0])
        np.testing.assert_allclose(stream.when(amounts, 0.0, 2.0), np.sqrt(amounts / 12 + 0.25**2), atol=1e-4)

    def test_a_stream_of_a_curve_without_end_takes_no_time(self):
        stream = Stream(curve("frame", (-1e9, 0), (1e9, 100)), 0.0, 10.0, Clock(0, 24.0))
        self.assertAlmostEqual(stream.given(10.0), 500, places=2)

    def test_settings_stand_at_their_values_at_a_time(self):
        now = at_time(GasSettings(push=curve("frame", (1, 0), (25, 24)), swirl=curve("height", (0, 1))), Clock(1), 0.5)
        self.assertAlmostEqual(now.push, 12, places=6)
        self.assertIsInstance(now.swirl, Curve)


class Sources(unittest.TestCase):
    def carrier(self):
        return Boundary(fragments_of([box((-0.5, -0.5, 0), (0.5, 0.5, 1))]))

    def test_dust_given_off_is_the_integral_however_time_is_cut(self):
        for steps in (1, 7, 48):
            source = DustSource(
                self.carrier(),
                "volume",
                curve("frame", (0, 0), (12, 3), (24, 0)),
                np.zeros(3),
                0.0,
                1e3,
                cell=0.2,
                seed=1,
                clock=Clock(0),
            )
            cuts = np.linspace(0, 1, steps + 1)
            births = [source.between(a, b - a) for a, b in zip(cuts, cuts[1:])]
            given = sum(b.mass.sum() for b in births if b is not None)
            self.assertAlmostEqual(given, curve("frame", (0, 0), (12, 3), (24, 0)).integral(0, 24) / 24, places=4)

    def test_points_are_born_at_the_same_moments_however_time_is_cut(self):
        def born(steps):
            rate, fraction = curve("frame", (0, 0), (24, 200)), curve("frame", (0, 0), (24, 1))
            source = PointSource(self.carrier(), "surface", rate, fraction, np.zeros(3), 0.0, 0.0, 1e3, clock=Clock(0))
            cuts = np.linspace(0, 1, steps + 1)
            parts = [(b, source.between(a, b - a, DebrisSettings())) for a, b in zip(cuts, cuts[1:])]
            return np.concatenate([t - p.age for t, p in parts]), np.concatenate([p.kind for _, p in parts])

        (few, kinds), (many, others) = born(3), born(40)
        self.assertEqual(len(few), 100)
        np.testing.assert_allclose(few, many, atol=1e-9)
        np.testing.assert_array_equal(kinds, others)
        # the k-th is born when 100 t^2 = k, and later ones are dust the more often
        np.testing.assert_allclose(few, np.sqrt(np.arange(100) / 100), atol=2e-3)
        self.assertLess((kinds[:25] == PUFF).mean() + 0.3, (kinds[75:] == PUFF).mean())

    def test_a_puff_gives_by_its_age_and_the_same_in_all(self):
        def given(giving, steps):
            puffs, total = Puffs(0.5, 1.0, 0.1, giving), []
            for k in range(steps):
                end = (k + 1) / steps
                still = {"position": np.zeros((1, 3)), "velocity": np.zeros((1, 3)), "age": np.array([end])}
                puffs.update(None, still, end, 0.0)
                births = puffs.between(k / steps, 1 / steps)
                total.append(float(births.mass.sum()))
            return np.array(total)

        even, early = given(1.0, 20), given(curve("age", (0, 1), (1, 0)), 20)
        np.testing.assert_allclose(even, 0.5 / 20)
        self.assertAlmostEqual(early.sum(), 0.5, places=9)
        # a straight fall to nothing gives three quarters in the first half
        self.assertAlmostEqual(early[:10].sum(), 0.75 * 0.5, places=3)


class Solvers(unittest.TestCase):
    def test_bonds_are_as_strong_as_their_height_says_and_the_weak_course_parts(self):
        # a hanging column: each bond carries what hangs below it, so equal bonds would part at the top
        column = [box((-0.1, -0.1, z), (0.1, 0.1, z + 0.5)) for z in (3.0, 2.5, 2.0, 1.5)]
        strength = curve("height", (1.9, 2e3), (2.1, 2e3), (2.4, 1e6))
        held = BondSettings(tension=strength, shear=1e7, scatter=0.0, modulus=1e7)
        s = solver(column, fixed=(0,), settings=FREE.model_copy(update={"bonds": held}))
        heights = s.bodies.position[s.bonds.body].mean(axis=1)[:, 2]
        np.testing.assert_allclose(s.strength[:, 0], strength.along(heights), rtol=1e-6)
        run(s, 0.5)
        np.testing.assert_array_equal(s.bonds.alive == 1, heights > 2.2)

    def test_damping_follows_its_frames(self):
        damping = curve("frame", (0, 0.0), (24, 2.0))
        settings = FREE.model_copy(update={"linear_damping": damping})
        s = solver(
            [box((0, 0, 0), (1, 1, 1))], settings=settings, gravity=(0, 0, 0), velocity=[(10, 0, 0)], clock=Clock(0)
        )
        run(s, 1.0)
        self.assertAlmostEqual(s.bodies.velocity[0, 0], 10 * np.exp(-1.0), delta=0.02)

    def test_a_chip_bounces_by_the_speed_of_its_impact(self):
        ground = Boundary(fragments_of([GROUND]))
        settings = DebrisSettings(
            restitution=curve("speed", (0, 0.8), (10, 0.2)), friction=0, smallest=0.05, largest=0.05, substeps=16
        )
        for speed in (2.0, 5.0, 8.0, 20.0):
            s = DebrisSolver(settings, (0, 0, 0), boundaries=[ground])
            s.begin_from(
                {
                    "position": np.array([[0, 0, 0.2]]),
                    "velocity": np.array([[0, 0, -speed]]),
                    "size": np.array([0.05]),
                    "age": np.zeros(1),
                    "kind": np.zeros(1, np.uint8),
                }
            )
            before = speed
            while s.points.velocity[0, 2] < 0:
                before = -s.points.velocity[0, 2]
                s.step(s.step_dt)
            self.assertAlmostEqual(s.points.velocity[0, 2] / before, max(0.2, 0.8 - 0.06 * before), delta=0.02)

    def test_faces_shed_by_the_speed_they_part_with(self):
        fragments = fragments_of([box((-0.5, -0.5, 2), (0.5, 0.5, 3)), box((-0.5, -0.5, 3), (0.5, 0.5, 4))])
        patches = find_patches(fragments, 1e-3)
        still = np.tile([1.0, 0, 0, 0], (2, 1))
        for speed, wanted in ((0.5, 100), (2.0, 400)):
            parting = Parting(Boundary(fragments), patches, np.array([0]))
            parting.parted[:] = True
            s = DebrisSolver(DebrisSettings(chips=curve("speed", (0, 0), (4, 800)), dust=0), partings=[parting])
            for k in range(24):
                a, b = fragments.centre.copy(), fragments.centre.copy()
                a[1, 2] += k * DT * speed
                b[1, 2] += (k + 1) * DT * speed
                parting.boundary.update(
                    {"position": a, "orientation": still}, {"position": b, "orientation": still}, s.time, DT
                )
                advance(s, DT)
            self.assertAlmostEqual(s.born, wanted, delta=2)

    def test_swirl_acts_at_its_height_alone(self):
        def stirred(swirl):
            s = GasSolver(GasSettings(cell_size=0.25, low=(-1, -1, 0), high=(1, 1, 4), swirl=swirl))
            rng = np.random.default_rng(1)
            for u in s.velocity:
                u += rng.normal(0, 0.5, u.shape).astype(np.float32)
            before = [u.copy() for u in s.velocity]
            s._force(DT, s.settings, s.settings.scalars)
            return np.abs(s.velocity[0] - before[0]).max(axis=(0, 1))

        change = stirred(curve("height", (1.9, 0.0), (2.1, 2.0)))
        self.assertEqual(change[:7].max(), 0.0)
        np.testing.assert_allclose(change[9:15], stirred(2.0)[9:15])

    def test_warmth_of_fresh_dust_follows_its_frames(self):
        def warmth(rise):
            carrier = Boundary(fragments_of([box((-0.4, -0.4, 0.6), (0.4, 0.4, 1.4))]))
            source = DustSource(carrier, "surface", 0.5, np.zeros(3), 0.0, 1e3, cell=0.25, seed=1)
            scalars = (Scalar(name="density"), Scalar(name="temperature", measure="temperature", rise=rise))
            s = GasSolver(
                GasSettings(cell_size=0.25, low=(-1, -1, 0), high=(1, 1, 2), scalars=scalars),
                sources=[source],
                clock=Clock(0),
            )
            advance(s, DT)
            return float(s.scalars["temperature"].max())

        self.assertAlmostEqual(warmth(curve("frame", (0, 0), (1, 100))), warmth(50.0), delta=1.0)
        self.assertEqual(warmth(curve("frame", (5, 0), (6, 100))), 0.0)


if __name__ == "__main__":
    unittest.main()
