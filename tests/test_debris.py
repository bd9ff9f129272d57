"""Debris points: how many are born, how they fly, what they hit."""

import unittest

import numpy as np

from tests.bodies import fragments_of
from urst.core.debris import kernels
from urst.core.debris.settings import DebrisSettings
from urst.core.debris.solver import DebrisSolver
from urst.core.bodies.patches import find_patches
from urst.core.geometry import generators

box = generators.box_between
DT = 1 / 24


def pair(separation_speed=0.0):
    """Two boxes with a patch of 1 m2 between them, the upper moving up."""
    fragments = fragments_of([box((-0.5, -0.5, 2), (0.5, 0.5, 3)), box((-0.5, -0.5, 3), (0.5, 0.5, 4))])
    return fragments, find_patches(fragments, 1e-3)


def frame(fragments, shift=0.0, speed=0.0, alive=1):
    n = len(fragments)
    position, velocity = fragments.centre.copy(), np.zeros((n, 3))
    position[-1, 2] += shift
    velocity[-1, 2] = speed
    return {
        "position": position.astype(np.float32),
        "orientation": np.tile([1.0, 0, 0, 0], (n, 1)).astype(np.float32),
        "velocity": velocity.astype(np.float32),
        "spin": np.zeros((n, 3), np.float32),
        "bond_alive": np.array([alive], np.uint8),
    }


def part(settings, frames=12, speed=1.0):
    fragments, patches = pair()
    s = DebrisSolver(fragments, patches, np.array([0]), settings)
    for k in range(frames):
        s.step(frame(fragments, k * DT * speed, speed, 0), frame(fragments, (k + 1) * DT * speed, speed, 0), DT)
    return s


class Birth(unittest.TestCase):
    def test_count_follows_area_once_the_faces_have_parted(self):
        for per_area in (50, 200):
            s = part(DebrisSettings(chips=per_area, dust=0))
            self.assertLessEqual(abs(int(s.born.sum()) - per_area), 1)

    def test_rate_follows_the_speed_of_parting(self):
        settings = DebrisSettings(chips=1000, dust=0, reach=1.0)
        slow, fast = part(settings, 4, 1.0), part(settings, 4, 2.0)
        self.assertAlmostEqual(fast.born.sum() / slow.born.sum(), 2.0, delta=0.02)
        self.assertAlmostEqual(slow.born.sum(), 1000 * 4 * DT, delta=2)

    def test_bonds_that_hold_and_faces_that_creep_shed_nothing(self):
        fragments, patches = pair()
        s = DebrisSolver(fragments, patches, np.array([0]), DebrisSettings())
        s.step(frame(fragments), frame(fragments, DT, 1.0, alive=1), DT)
        self.assertEqual(int(s.born.sum()), 0)
        self.assertEqual(int(part(DebrisSettings(least_speed=0.5), 4, 0.4).born.sum()), 0)

    def test_points_start_on_the_patch_with_the_faces_velocity(self):
        s = part(DebrisSettings(chips=400, dust=0, spread=0.0, reach=0.01, substeps=1), 1)
        np.testing.assert_array_less(np.abs(s.position[:, :2]), 0.5 + 1e-6)
        self.assertAlmostEqual(float(np.median(s.velocity[:, 2])), 0.5, delta=0.5)

    def test_more_chips_leave_the_earlier_where_they_were(self):
        few, many = part(DebrisSettings(chips=40, dust=0), 1), part(DebrisSettings(chips=80, dust=0), 1)
        few_sizes, many_sizes = set(few.size.tolist()), set(many.size.tolist())
        self.assertGreaterEqual(len(few_sizes & many_sizes), len(few_sizes) - 1)

    def test_sizes_stay_in_range_and_small_ones_prevail(self):
        s = part(DebrisSettings(chips=3000, dust=0, smallest=0.01, largest=0.1))
        self.assertGreaterEqual(s.size.min(), 0.01)
        self.assertLessEqual(s.size.max(), 0.1)
        self.assertLess(np.median(s.size), 0.02)


class Flight(unittest.TestCase):
    def test_a_chip_falls_at_the_terminal_speed_of_its_size(self):
        # Schiller & Naumann (1933): m g = 3 pi mu d v (1 + 0.15 Re^0.687)
        size, density = 1e-3, 1900.0
        position, velocity = np.array([[0.0, 0, 1000]]), np.zeros((1, 3))
        for _ in range(4000):
            kernels.fly(
                position,
                velocity,
                np.array([size]),
                np.array([0], np.uint8),
                np.array([0, 0, -9.81]),
                density,
                0.005,
            )
        v = -velocity[0, 2]
        drag = 3 * np.pi * 1.8e-5 * size * v * (1 + 0.15 * (1.2 * v * size / 1.8e-5) ** 0.687)
        self.assertAlmostEqual(drag, density * np.pi / 6 * size**3 * 9.81, delta=0.001 * drag)

    def test_puffs_die_and_chips_stay(self):
        s = part(DebrisSettings(chips=50, dust=50, puff_life=0.1), 40)
        self.assertEqual(int((s.kind == kernels.PUFF).sum()), 0)
        self.assertGreater(int((s.kind == kernels.CHIP).sum()), 45)


class Contact(unittest.TestCase):
    def ground(self, settings):
        fragments = fragments_of(
            [box((-20, -20, -1), (20, 20, 0)), box((-0.5, -0.5, 2), (0.5, 0.5, 3)), box((-0.5, -0.5, 3), (0.5, 0.5, 4))]
        )
        s = DebrisSolver(fragments, find_patches(fragments, 1e-3), np.array([0]), settings)
        still = frame(fragments)
        s.step(still, frame(fragments, 0.02, 1.0, 0), DT)
        for k in range(60):
            s.step(frame(fragments, k * DT, 1.0, 0), frame(fragments, (k + 1) * DT, 1.0, 0), DT)
        return s

    def test_nothing_falls_through_the_ground(self):
        s = self.ground(DebrisSettings(chips=300, dust=0))
        self.assertGreater(len(s.size), 200)
        self.assertGreater((s.position[:, 2] - 0.5 * s.size).min(), -1e-6)
        self.assertLess(np.abs(s.velocity[s.position[:, 2] < 0.1]).max(), 0.2)

    def test_a_moving_chunk_carries_what_lies_on_it(self):
        fragments = fragments_of([box((-0.5, -0.5, 0), (0.5, 0.5, 1)), box((-0.5, -0.5, 5), (0.5, 0.5, 6))])
        s = DebrisSolver(fragments, find_patches(fragments, 1e-3), np.zeros(0, np.int64), DebrisSettings())
        s.position, s.velocity = np.array([[0.0, 0, 1.02]]), np.zeros((1, 3))
        s.size, s.age, s.kind = np.array([0.02]), np.zeros(1), np.zeros(1, np.uint8)
        for k in range(24):
            before, after = frame(fragments), frame(fragments)
            for f, t in ((before, k * DT), (after, (k + 1) * DT)):
                f["position"][0, 2] += 0.8 * t
            s.step(before, after, DT)
        self.assertAlmostEqual(float(s.position[0, 2]), 1.0 + 0.8 + 0.01, delta=0.01)

    def test_restored_from_a_snapshot_it_goes_on_to_the_same_bytes(self):
        settings = DebrisSettings(chips=100)
        whole = self.ground(settings)
        again = self.ground(settings)
        self.assertEqual(whole.position.tobytes(), again.position.tobytes())
        fresh = part(settings, 0)
        fresh.restore(whole.snapshot())
        self.assertEqual(fresh.snapshot()["velocity"].tobytes(), whole.snapshot()["velocity"].tobytes())


if __name__ == "__main__":
    unittest.main()
