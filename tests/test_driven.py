"""Driven pieces: what they squeeze, and what stalls them."""

import unittest

import numpy as np

from tests.bodies import FREE, GROUND, fragments_of, run, solver
from urst.core.bodies.mobility import DRIVEN, FIXED, LOOSE
from urst.core.geometry import generators
from urst.core.geometry.mesh import transformed
from urst.core.geometry.rotation import IDENTITY, from_degrees, matrix

box = generators.box_between
BRICK, CONCRETE, STEEL = 20e6, 30e6, 250e6


def pier(courses=8, bricks=3):
    """Bricks in running bond, from the origin along x."""
    found, length, width, height = [], 0.24, 0.115, 0.071
    for r in range(courses):
        starts = [max(0.0, (c - 0.5 * (r % 2)) * length) for c in range(bricks + r % 2)]
        for x, end in zip(starts, [*starts[1:], bricks * length]):
            found.append(box((x, 0, r * height), (end, width, (r + 1) * height)))
    return found


class Squeezed(unittest.TestCase):
    """A ram of 5 m/s presses a dry pier by and by: what it squeezes must not be shot off."""

    SPEED = 5.0

    def ram(self, where, *, compression=BRICK, turn=(0, 0, 0), force=0.0, speed=SPEED, seconds=0.2):
        bricks = pier()
        top, end = 8 * 0.071, 3 * 0.24
        meshes, fixed, way = [box((-9, -9, -1), (9, 9, 0)), *bricks], [0], np.array([1.0, 0, 0])
        if where == "wall":
            meshes.append(box((end, -0.5, 0), (end + 0.5, 0.6, top + 1)))
            fixed.append(len(meshes) - 1)
        if where == "above":
            meshes.append(box((-0.2, -0.3, top + 0.02), (end + 0.2, 0.4, top + 0.4)))
            way = np.array([0.0, 0, -1.0])
        else:
            meshes.append(box((-0.42, -0.3, 0.1), (-0.02, 0.4, top + 0.2)))
        turned = matrix(from_degrees(turn))
        meshes = [transformed(m, turned, np.zeros(3)) for m in meshes]
        kind = np.full(len(meshes), LOOSE)
        kind[fixed], kind[-1] = FIXED, DRIVEN
        start, way = fragments_of(meshes).centre[-1], turned @ way
        s = solver(
            meshes,
            kind=kind,
            density=1900.0,
            compression=compression,
            force=np.where(kind == DRIVEN, force, 0.0),
            gravity=tuple(turned @ (0, 0, -9.81)),
            drive=lambda t: (np.array([start + speed * t * way]), np.array([IDENTITY])),
        )
        loose = s.bodies.kind == LOOSE
        seen = run(s, seconds, lambda s: np.linalg.norm(s.bodies.velocity[loose], axis=1).max())
        went = (s.bodies.position[-1] - start) @ way
        return max(seen), went, s

    def test_nothing_leaves_faster_than_twice_the_ram(self):
        for where in ("free", "wall", "above"):
            for compression in (BRICK, STEEL):
                fastest, went, s = self.ram(where, compression=compression)
                self.assertLess(fastest, 2.0 * self.SPEED, (where, compression))
                self.assertAlmostEqual(went, self.SPEED * s.time, places=6)

    def test_however_all_of_it_is_turned(self):
        fastest, _, _ = self.ram("wall", turn=(25, 40, 10))
        self.assertLess(fastest, 2.0 * self.SPEED)

    def test_what_is_squeezed_against_a_wall_is_crushed_and_counted(self):
        _, _, s = self.ram("wall", seconds=0.1)
        self.assertGreater(s.gauges()["crushed"], 5)
        _, _, s = self.ram("free", seconds=0.1)
        self.assertEqual(s.gauges()["crushed"], 0)

    def test_one_with_a_greatest_force_stalls_and_presses_with_it(self):
        for force in (2e4, 2e5):
            _, went, s = self.ram("wall", force=force, seconds=0.2)
            on = (s.contacts.pairs.body == len(s.bodies.mass) - 1).any(axis=1)
            self.assertAlmostEqual(s.contacts.load[on].sum(), force, delta=0.05 * force)
            self.assertLess(went, 0.05)
            self.assertAlmostEqual(s.gauges()["late"], 0.2, delta=0.02)

    def test_one_that_is_strong_enough_keeps_to_its_path(self):
        _, went, s = self.ram("free", force=1e6)
        self.assertAlmostEqual(went, 1.0, delta=0.01)
        self.assertLess(s.gauges()["late"], 0.005)


class Pushed(unittest.TestCase):
    def test_it_follows_its_path_exactly_where_nothing_is_in_its_way(self):
        angle = lambda t: 2.0 * t  # noqa: E731
        drive = lambda t: (  # noqa: E731
            np.array([[np.cos(angle(t)), np.sin(angle(t)), 1.0 + t * t]]),
            np.array([[np.cos(angle(t) / 2), 0, 0, np.sin(angle(t) / 2)]]),
        )
        cart = box((0.5, -0.2, 0.9), (1.5, 0.2, 1.1))
        s = solver([GROUND, cart], kind=np.array([FIXED, DRIVEN]), force=np.array([0.0, 1e6]), drive=drive)
        run(s, 0.5)
        place, turn = drive(s.time)
        np.testing.assert_allclose(s.bodies.position[1], place[0], atol=2e-3)
        np.testing.assert_allclose(s.bodies.rotation[1], matrix(turn)[0], atol=5e-3)
        self.assertLess(s.gauges()["late"], 0.01)

    def test_it_pushes_a_block_with_no_more_than_its_force(self):
        # without friction a = F / (m + M): of both together
        sled, block = box((0, 0, 0), (0.5, 0.5, 0.5)), box((0.5, 0, 0), (1.0, 0.5, 0.5))
        start = fragments_of([sled]).centre[0]
        drive = lambda t: (np.array([start + (100.0 * t, 0, 0)]), np.array([IDENTITY]))  # noqa: E731
        s = solver(
            [sled, block, GROUND],
            kind=np.array([DRIVEN, LOOSE, FIXED]),
            force=np.array([2000.0, 0, 0]),
            friction=0.0,
            drive=drive,
        )
        # it begins with the velocity of its path, so it is slowed down first
        s.pushers.under_way[:] = True
        run(s, 0.5)
        mass = s.bodies.mass[:2].sum()
        self.assertAlmostEqual(s.bodies.velocity[1, 0], 2000.0 / mass * 0.5, delta=0.01 * 2000.0 / mass * 0.5)

    def test_parts_of_one_piece_are_pushed_as_one(self):
        parts = [box((0, 0, 1), (0.3, 0.3, 1.3)), box((0, 0.4, 1), (0.3, 0.7, 1.3))]
        centre = fragments_of(parts).centre
        drive = lambda t: (centre + (2.0 * t, 0, 0), np.tile(IDENTITY, (2, 1)))  # noqa: E731
        wall = box((0.5, -1, 0), (0.8, 0.31, 3))
        block = box((0.35, 0.0, 1), (0.45, 0.3, 1.3))
        s = solver(
            [*parts, wall, block, GROUND],
            kind=np.array([DRIVEN, DRIVEN, FIXED, LOOSE, FIXED]),
            piece=np.array([0, 0, 1, 2, 3]),
            force=np.array([5e3, 5e3, 0, 0, 0]),
            compression=CONCRETE,
            drive=drive,
            settings=FREE,
            gravity=(0, 0, 0),
        )
        run(s, 0.4)
        # the block stops the first against the wall; the second has nothing before it and stops with it
        self.assertLess(s.bodies.position[0, 0], centre[0, 0] + 0.2)
        turn = s.bodies.rotation[0]
        np.testing.assert_allclose(s.bodies.rotation[1], turn, atol=1e-9)
        apart = turn.T @ (s.bodies.position[1] - s.bodies.position[0])
        np.testing.assert_allclose(apart, centre[1] - centre[0], atol=1e-6)

    def test_it_goes_on_from_where_it_stalled_to_the_same_bytes(self):
        sled, block = box((0, 0, 0), (0.5, 0.5, 0.5)), box((0.5, 0, 0), (1.0, 0.5, 0.5))
        start = fragments_of([sled]).centre[0]
        drive = lambda t: (np.array([start + (5.0 * t, 0, 0)]), np.array([IDENTITY]))  # noqa: E731

        def made():
            return solver(
                [sled, block, GROUND],
                kind=np.array([DRIVEN, LOOSE, FIXED]),
                force=np.array([3000.0, 0, 0]),
                drive=drive,
            )

        first = made()
        run(first, 0.1)
        state = first.snapshot()
        run(first, 0.1)
        second = made()
        second.restore(state)
        run(second, 0.1)
        self.assertEqual(first.bodies.position.tobytes(), second.bodies.position.tobytes())
        self.assertGreater(first.gauges()["late"], 0.0)
