"""Debris points: how many are born, how they fly, what they hit."""

import unittest
from dataclasses import replace

import numpy as np
from scipy.spatial.transform import Rotation

from tests.bodies import advance, fragments_of
from urst.core.bodies.boundary import Boundary
from urst.core.bodies.parting import Parting
from urst.core.bodies.patches import find_patches
from urst.core.debris import kernels
from urst.core.debris.settings import CHIP, PUFF, DebrisSettings
from urst.core.debris.solver import DebrisSolver
from urst.core.debris.sources import PointSource
from urst.core.geometry import generators

box = generators.box_between
DT = 1 / 24


def pair(separation_speed=0.0):
    """Two boxes with a patch of 1 m2 between them, the upper moving up."""
    fragments = fragments_of([box((-0.5, -0.5, 2), (0.5, 0.5, 3)), box((-0.5, -0.5, 3), (0.5, 0.5, 4))])
    return fragments, find_patches(fragments, 1e-3)


def pose(fragments, shift=0.0):
    position = fragments.centre.copy()
    position[-1, 2] += shift
    return {"position": position, "orientation": np.tile([1.0, 0, 0, 0], (len(fragments), 1))}


def shedding(fragments, patches, settings, bonds=(0,), parted=True):
    """A solver of one set of bodies that shed and are bounced off."""
    parting = Parting(Boundary(fragments), patches, np.array(bonds, np.int64))
    parting.parted[:] = parted
    return DebrisSolver(settings, partings=[parting], boundaries=[parting.boundary])


def move(s, before, after, dt=DT):
    """Advance by a time in which the bodies move from one pose to another."""
    s.sheds[0].parting.boundary.update(before, after, s.time, dt)
    advance(s, dt)


def part(settings, frames=12, speed=1.0):
    fragments, patches = pair()
    s = shedding(fragments, patches, settings)
    for k in range(frames):
        move(s, pose(fragments, k * DT * speed), pose(fragments, (k + 1) * DT * speed))
    return s


class Birth(unittest.TestCase):
    def test_count_follows_area_once_the_faces_have_parted(self):
        for per_area in (50, 200):
            s = part(DebrisSettings(chips=per_area, dust=0))
            self.assertLessEqual(abs(int(s.born) - per_area), 1)

    def test_rate_follows_the_speed_of_parting(self):
        settings = DebrisSettings(chips=1000, dust=0, reach=1.0)
        slow, fast = part(settings, 4, 1.0), part(settings, 4, 2.0)
        self.assertAlmostEqual(fast.born / slow.born, 2.0, delta=0.02)
        self.assertAlmostEqual(slow.born, 1000 * 4 * DT, delta=2)

    def test_bonds_that_hold_and_faces_that_creep_shed_nothing(self):
        fragments, patches = pair()
        s = shedding(fragments, patches, DebrisSettings(), parted=False)
        move(s, pose(fragments), pose(fragments, DT))
        self.assertEqual(int(s.born), 0)
        self.assertEqual(int(part(DebrisSettings(least_speed=0.5), 4, 0.4).born), 0)

    def test_points_start_on_the_patch_with_the_faces_velocity(self):
        # the lower face stands, the upper moves up at 1 m/s: the middle between them moves at half of that
        s = part(DebrisSettings(chips=400, dust=0, spread=0.0, reach=0.01, substeps=1, smallest=1e-4, largest=1e-4), 1)
        self.assertEqual(len(s.points.size), 400)
        np.testing.assert_array_less(np.abs(s.points.position[:, :2]), 0.5 + 1e-6)
        np.testing.assert_allclose(s.points.position[:, 2], 3.0 + 0.5 * DT, atol=1e-6)
        np.testing.assert_allclose(s.points.velocity[:, 2], 0.5, atol=1e-6)

    def test_births_are_spread_over_the_step(self):
        s = part(DebrisSettings(chips=2000, dust=0, spread=1.0, reach=0.01, substeps=1), 1)
        # ages drawn evenly from the step: mean half of it, variance a twelfth of its square
        self.assertAlmostEqual(float(s.points.age.mean() / DT), 0.5, delta=0.03)
        self.assertAlmostEqual(float(s.points.age.var() / DT**2), 1 / 12, delta=0.006)

    def flying(self, carrier, time):
        return {"position": carrier.fragments.centre + [[12 * time, 0, 0]], "orientation": np.array([[1.0, 0, 0, 0]])}

    def test_a_set_piece_gives_off_points_at_its_rate_along_its_path(self):
        carrier = Boundary(fragments_of([box((-0.1, -0.1, 5), (0.1, 0.1, 5.2))]))
        made = []
        for substeps in (1, 4):
            settings = DebrisSettings(substeps=substeps, smallest=1e-3, largest=1e-3)
            source = PointSource(carrier, "volume", 240.0, 0.25, np.zeros(3), 0.0, DT, 3 * DT)
            s = DebrisSolver(settings, gravity=(0, 0, 0), sources=[source])
            for k in range(4):
                carrier.update(self.flying(carrier, k * DT), self.flying(carrier, (k + 1) * DT), k * DT, DT)
                advance(s, DT)
            made.append(s.points)
            self.assertEqual(s.born, 20)
            self.assertAlmostEqual(float((s.points.kind == PUFF).mean()), 0.25, delta=0.2)
        # the k-th is born k / rate after the window opens, whatever the steps
        np.testing.assert_allclose(np.sort(made[0].age), np.sort(made[1].age), atol=1e-9)
        np.testing.assert_allclose(np.diff(np.sort(made[0].age)), 1 / 240, atol=1e-9)

    def test_more_chips_leave_the_earlier_where_they_were(self):
        few, many = part(DebrisSettings(chips=40, dust=0), 1), part(DebrisSettings(chips=80, dust=0), 1)
        few_sizes, many_sizes = set(few.points.size.tolist()), set(many.points.size.tolist())
        self.assertGreaterEqual(len(few_sizes & many_sizes), len(few_sizes) - 1)

    def test_sizes_stay_in_range_and_small_ones_prevail(self):
        s = part(DebrisSettings(chips=3000, dust=0, smallest=0.01, largest=0.1))
        self.assertGreaterEqual(s.points.size.min(), 0.01)
        self.assertLessEqual(s.points.size.max(), 0.1)
        self.assertLess(np.median(s.points.size), 0.02)


class Flight(unittest.TestCase):
    def test_a_chip_falls_at_the_terminal_speed_of_its_size(self):
        # Schiller & Naumann (1933): m g = 3 pi mu d v (1 + 0.15 Re^0.687)
        size, density = 1e-3, 1900.0
        position, velocity = np.array([[0.0, 0, 1000]]), np.zeros((1, 3))
        points = kernels.Points(
            position, velocity, np.array([size]), np.zeros(1), np.zeros(1, np.uint8), np.zeros(1, np.uint8)
        )
        for _ in range(4000):
            kernels.fly(position, velocity, points, np.array([0, 0, -9.81]), density, 0.005)
        v = -velocity[0, 2]
        drag = 3 * np.pi * 1.8e-5 * size * v * (1 + 0.15 * (1.2 * v * size / 1.8e-5) ** 0.687)
        self.assertAlmostEqual(drag, density * np.pi / 6 * size**3 * 9.81, delta=0.001 * drag)

    def test_puffs_die_and_chips_stay(self):
        s = part(DebrisSettings(chips=50, dust=50, puff_life=0.1), 40)
        self.assertEqual(int((s.points.kind == PUFF).sum()), 0)
        self.assertGreater(int((s.points.kind == CHIP).sum()), 45)


class Contact(unittest.TestCase):
    def ground(self, settings):
        fragments = fragments_of(
            [box((-20, -20, -1), (20, 20, 0)), box((-0.5, -0.5, 2), (0.5, 0.5, 3)), box((-0.5, -0.5, 3), (0.5, 0.5, 4))]
        )
        s = shedding(fragments, find_patches(fragments, 1e-3), settings)
        move(s, pose(fragments), pose(fragments, 0.02))
        for k in range(60):
            move(s, pose(fragments, k * DT), pose(fragments, (k + 1) * DT))
        return s

    def test_nothing_falls_through_the_ground(self):
        s = self.ground(DebrisSettings(chips=300, dust=0))
        self.assertGreater(len(s.points.size), 200)
        self.assertGreater((s.points.position[:, 2] - 0.5 * s.points.size).min(), -1e-6)
        self.assertLess(np.abs(s.points.velocity[s.points.position[:, 2] < 0.1]).max(), 0.2)

    def test_a_moving_chunk_carries_what_lies_on_it(self):
        fragments = fragments_of([box((-0.5, -0.5, 0), (0.5, 0.5, 1)), box((-0.5, -0.5, 5), (0.5, 0.5, 6))])
        s = shedding(fragments, find_patches(fragments, 1e-3), DebrisSettings(), bonds=())
        s.points = kernels.Points(
            np.array([[0.0, 0, 1.02]]),
            np.zeros((1, 3)),
            np.array([0.02]),
            np.zeros(1),
            np.zeros(1, np.uint8),
            np.zeros(1, np.uint8),
        )
        for k in range(24):
            before, after = pose(fragments), pose(fragments)
            for f, t in ((before, k * DT), (after, (k + 1) * DT)):
                f["position"][0, 2] += 0.8 * t
            move(s, before, after)
        self.assertAlmostEqual(float(s.points.position[0, 2]), 1.0 + 0.8 + 0.01, delta=0.01)

    def through(self, thickness, chip_speed, plate_speed, turn=0.0, size=0.02):
        """The share of chips thrown at a plate, or resting on one that is driven into them, that pass it."""
        plate = Boundary(fragments_of([box((-2, -2, -thickness), (2, 2, 0.0))]))
        settings = DebrisSettings(substeps=4, restitution=0.2, life=100.0, smallest=0.5 * size, largest=size)
        s = DebrisSolver(settings, (0, 0, 0), boundaries=[plate])
        rng, n = np.random.default_rng(3), 400
        place = np.column_stack(
            [rng.uniform(-1, 1, (n, 2)), 0.5 * size + rng.uniform(0, 1.0 if chip_speed else 0.0, n)]
        )
        velocity = np.column_stack([rng.normal(0, 0.1 * chip_speed, (n, 2)), np.full(n, -chip_speed)])
        plain = {"position": place, "velocity": velocity, "size": np.full(n, size), "age": np.zeros(n)}
        s.points = kernels.Points(kind=np.full(n, CHIP, np.uint8), airborne=np.ones(n, np.uint8), **plain)
        centre = plate.fragments.centre.copy()
        for k in range(12):
            angle = [turn * DT * (k + a) for a in (0, 1)]
            before, after = (
                {
                    "position": centre + [0, 0, plate_speed * DT * (k + a)],
                    "orientation": np.array([[np.cos(h / 2), np.sin(h / 2), 0, 0]]),
                }
                for a, h in zip((0, 1), angle)
            )
            plate.update(before, after, s.time, DT)
            advance(s, DT)
        end = after["position"][0]
        normal = np.array([0.0, -np.sin(angle[1]), np.cos(angle[1])])
        off = s.points.position - end
        # what has gone round the edge of a turning plate is no matter
        beside = np.abs(off - np.outer(off @ normal, normal)).max(axis=1) > 1.9
        return float(((off @ normal < 0.0) & ~beside).mean())

    def test_nothing_passes_a_plate_at_any_speed_and_thickness(self):
        for thickness in (0.002, 0.05, 0.4):
            for chip, plate, turn in (
                (15.0, 0, 0),
                (120.0, 0, 0),
                (900.0, 0, 0),
                (0, 6.0, 0),
                (0, 60.0, 0),
                (15.0, 30.0, 0),
                (4.0, 3.0, 2.0),
                (0, 0.2, 1.0),
            ):
                with self.subTest(thickness=thickness, chip=chip, plate=plate, turn=turn):
                    self.assertEqual(self.through(thickness, chip, plate, turn), 0.0)

    def kept(self, thickness, spin, way, size=0.02, speed=2.0):
        """The share of chips in a hollow box of six walls that are in it still after a second of turning and
        shaking."""
        r, t = 0.5, 0.5 + thickness
        walls = [
            box((-t, -t, -t), (t, t, -r)),
            box((-t, -t, r), (t, t, t)),
            box((-t, -t, -r), (-r, t, r)),
            box((r, -t, -r), (t, t, r)),
            box((-r, -t, -r), (r, -r, r)),
            box((-r, r, -r), (r, t, r)),
        ]
        shell = Boundary(replace(fragments_of(walls), whole=np.zeros(6, np.int64)))
        settings = DebrisSettings(substeps=4, restitution=0.3, life=100.0, smallest=0.5 * size, largest=size)
        s, n, rng = DebrisSolver(settings, boundaries=[shell]), 200, np.random.default_rng(1)
        s.points = kernels.Points(
            rng.uniform(-0.45, 0.45, (n, 3)),
            rng.normal(0, speed, (n, 3)),
            np.full(n, size),
            np.zeros(n),
            np.full(n, CHIP, np.uint8),
            np.ones(n, np.uint8),
        )
        centre = shell.fragments.centre.copy()

        def at(time):
            turn, off = Rotation.from_rotvec(np.array(spin) * time), np.array(way) * np.sin(6.0 * time) / 6.0
            orientation = np.tile(turn.as_quat(scalar_first=True), (6, 1))
            return {"position": turn.apply(centre) + off, "orientation": orientation}, turn, off

        for k in range(24):
            shell.update(at(k * DT)[0], at((k + 1) * DT)[0], s.time, DT)
            advance(s, DT)
        _, turn, off = at(24 * DT)
        return float((np.abs(turn.inv().apply(s.points.position - off)) < r).all(axis=1).mean())

    def test_nothing_leaves_a_vessel_that_turns_and_is_shaken_however_thin_it_is(self):
        for thickness in (0.002, 0.1):
            for spin, way, speed in (
                ((0, 0, 0), (0, 0, 0), 100.0),
                ((0, 0, 0), (20, 13, 7), 1.0),
                ((10, 3, 0), (0, 0, 0), 1.0),
                ((40, 0, 10), (0, 0, 0), 1.0),
                ((20, 10, 5), (30, 20, 10), 5.0),
            ):
                with self.subTest(thickness=thickness, spin=spin, way=way, speed=speed):
                    self.assertEqual(self.kept(thickness, spin, way, speed=speed), 1.0)

    def test_parts_of_a_whole_go_as_one_between_two_poses(self):
        parts = fragments_of([box((0, 0, 0), (1, 1, 1)), box((1, 0, 0), (3, 1, 1)), box((5, 0, 0), (6, 1, 1))])
        boundary = Boundary(replace(parts, whole=np.array([0, 0, -1])))
        turn = Rotation.from_rotvec([0.0, 0.0, 2.0])
        pose = lambda position, q: {"position": position, "orientation": np.tile(q, (3, 1))}  # noqa: E731
        after = pose(turn.apply(parts.centre), turn.as_quat(scalar_first=True))
        boundary.update(pose(parts.centre, (1.0, 0, 0, 0)), after, 0.0, 1.0)
        middle = np.average(parts.centre[:2], axis=0, weights=parts.volume[:2])
        for fraction in (0.25, 0.5, 0.8):
            now = boundary.at(fraction)
            apart = now.position[1] - now.position[0]
            self.assertAlmostEqual(np.linalg.norm(apart), 1.5, places=12)
            way = Rotation.from_rotvec([0.0, 0.0, 2.0 * fraction])
            np.testing.assert_allclose(apart, way.apply(parts.centre[1] - parts.centre[0]), atol=1e-12)
            # the middle of the whole goes straight, and its parts as it and its turning say
            there = middle + fraction * (turn.apply(middle) - middle)
            np.testing.assert_allclose(now.position[0] + way.apply(middle - parts.centre[0]), there, atol=1e-12)
            soon = boundary.at(fraction + 1e-6).position
            np.testing.assert_allclose((soon - now.position) / 1e-6, now.velocity, atol=1e-4)

    def test_between_two_plates_a_fast_chip_goes_to_and_fro(self):
        plates = Boundary(fragments_of([box((-2, -2, -0.01), (2, 2, 0.0)), box((-2, -2, 0.2), (2, 2, 0.21))]))
        settings = DebrisSettings(substeps=4, restitution=1.0, friction=0.0, life=100.0, smallest=0.01, largest=0.02)
        s = DebrisSolver(settings, (0, 0, 0), boundaries=[plates])
        n = 100
        place = np.column_stack([np.zeros((n, 2)), np.linspace(0.02, 0.18, n)])
        velocity = np.column_stack([np.zeros((n, 2)), np.full(n, 40.0)])
        s.points = kernels.Points(
            place, velocity, np.full(n, 0.02), np.zeros(n), np.full(n, CHIP, np.uint8), np.ones(n, np.uint8)
        )
        still = pose(plates.fragments)
        for _ in range(6):
            plates.update(still, still, s.time, DT)
            advance(s, DT)
        height = s.points.position[:, 2]
        self.assertTrue(((height > 0.0) & (height < 0.2)).all())
        np.testing.assert_allclose(np.abs(s.points.velocity[:, 2]), 40.0, rtol=1e-9)


if __name__ == "__main__":
    unittest.main()
