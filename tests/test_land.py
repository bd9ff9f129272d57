"""Bodies on surfaces of many triangles, against what smooth or analytic ones would do."""

import unittest

import numpy as np

from tests.bodies import run, solver
from urst.core.bodies.mobility import DRIVEN, FIXED, LOOSE
from urst.core.geometry import generators, land
from urst.core.geometry.convex import hull_of
from urst.core.geometry.generators import box_between
from urst.core.geometry.mesh import Mesh, transformed
from urst.core.geometry.rotation import from_degrees, matrix

G = 9.81


def sheet(cells, size, height=lambda x, y: 0.0 * x):
    """A square of `cells` by `cells` squares of two triangles, facing up."""
    side = np.linspace(-size / 2, size / 2, cells + 1)
    x, y = np.meshgrid(side, side, indexing="ij")
    a = np.arange(cells * (cells + 1)).reshape(cells, cells + 1)[:, :cells].ravel()
    b, c, d = a + cells + 1, a + cells + 2, a + 1
    triangles = np.concatenate([np.stack([a, b, c], axis=1), np.stack([a, c, d], axis=1)])
    return Mesh(np.stack([x.ravel(), y.ravel(), height(x, y).ravel()], axis=1), triangles)


def cube(side, at, turn=(0, 0, 0)):
    half = 0.5 * side * np.ones(3)
    return transformed(box_between(-half, half), matrix(from_degrees(turn)), np.array(at, float))


def lying_on(surface, meshes, **options):
    """A solver of bodies on a surface, which is its last body."""
    low, high = surface.bounds()
    box = box_between(low - 0.1, high + 0.1)
    middle = 0.5 * (low + high)
    kind = np.full(len(meshes) + 1, LOOSE)
    kind[-1] = options.pop("moved_by", FIXED)
    given = land.land(Mesh(surface.vertices - middle, surface.triangles))
    return solver([*meshes, box], kind=kind, surfaces=[given], bonded=np.zeros(len(kind), bool), **options)


class Searching(unittest.TestCase):
    def setUp(self):
        self.rng = np.random.default_rng(1)
        self.land = land.land(sheet(23, 10.0, lambda x, y: np.sin(x) * np.cos(y)))

    def test_the_tree_finds_what_looking_at_all_finds(self):
        middle = self.rng.uniform(-5, 5, (50, 3))
        wide = self.rng.uniform(0.01, 1.0, (50, 1))
        low, high = middle - wide, middle + wide
        found = np.empty((5000, 2), np.int64)
        count = land.near(self.land, low, high, found)
        least, most = self.land.corner.min(axis=1), self.land.corner.max(axis=1)
        meets = (least[None] <= high[:, None]).all(axis=2) & (most[None] >= low[:, None]).all(axis=2)
        self.assertEqual({tuple(p) for p in found[:count]}, {tuple(p) for p in np.argwhere(meets)})
        self.assertEqual(land.near(self.land, low, high, found[:3]), count)

    def test_folds_are_positive_over_ridges_only_and_a_right_angle_at_the_border(self):
        ridge = Mesh(
            np.array([[-1, 0, 0], [1, 0, 0], [0, -1, -0.5], [0, 1, -0.5]], float), np.array([[0, 2, 1], [0, 1, 3]])
        )
        one = land.land(ridge)
        shared = one.fold < 1.57
        self.assertEqual(shared.sum(), 2)
        np.testing.assert_allclose(one.fold[shared], 2 * np.arctan(0.5))
        np.testing.assert_allclose(one.fold[~shared], np.pi / 2)
        valley = Mesh(ridge.vertices * [1, 1, -1], ridge.triangles)
        np.testing.assert_allclose(sorted(land.land(valley).fold.ravel())[:2], 0.0, atol=1e-12)

    def test_thickness_is_how_far_behind_it_the_surface_comes_again(self):
        shell = land.land(box_between((-1, -1, -0.1), (1, 1, 0.1)))
        out = np.empty(shell.size)
        land.thickness(shell, np.arange(shell.size), 5.0, out)
        flat = np.abs(shell.normal[:, 2]) > 0.5
        np.testing.assert_allclose(out[flat], 0.2, atol=1e-12)
        np.testing.assert_allclose(out[~flat], 2.0, atol=1e-12)


class Flat(unittest.TestCase):
    def test_what_slides_over_edges_notices_none(self):
        mu, speed = 0.6, np.array([3.0, 0.7])
        s = lying_on(sheet(40, 10.0), [cube(0.5, (0.07, 0.03, 0.25))], velocity=[(3, 0.7, 0), (0, 0, 0)], friction=mu)
        heights = run(s, 1.0, lambda s: s.bodies.position[0, 2])
        way = s.bodies.position[0, :2] - [0.07, 0.03]
        np.testing.assert_allclose(way, speed * np.linalg.norm(speed) / (2 * mu * G), rtol=2e-3)
        np.testing.assert_allclose(heights, 0.25, atol=1e-5)
        self.assertLess(np.abs(s.bodies.spin[0]).max(), 1e-6)

    def test_on_an_incline_it_sticks_and_slides_as_on_a_plane(self):
        for more in (-1.0, 1.0):
            angle = np.degrees(np.arctan(0.6)) + more
            turn = matrix(from_degrees((0, angle, 0)))
            s = lying_on(
                transformed(sheet(31, 20.0), turn, np.zeros(3)),
                [transformed(cube(0.5, (0.1, 0.05, 0.25)), turn, np.zeros(3))],
            )
            before = s.bodies.position[0].copy()
            run(s, 1.0)
            a = G * (np.sin(np.radians(angle)) - 0.6 * np.cos(np.radians(angle)))
            with self.subTest(degrees=angle):
                self.assertAlmostEqual(np.linalg.norm(s.bodies.position[0] - before), max(0.0, a) / 2, delta=1.5e-3)

    def test_a_ball_rolls_down_at_five_sevenths(self):
        turn = matrix(from_degrees((0, 20, 0)))
        ball = transformed(generators.ball(0.25, 6)[0], np.eye(3), turn @ [0.1, 0.04, 0.25] - [0, 0, 0.25])
        s = lying_on(transformed(sheet(31, 20.0), turn, np.zeros(3)), [ball], balls={0: 0.25})
        run(s, 1.0)
        expected = 5 / 7 * G * np.sin(np.radians(20))
        self.assertAlmostEqual(np.linalg.norm(s.bodies.velocity[0]), expected, delta=3e-3 * expected)

    def test_it_holds_up_to_its_border_and_not_beyond(self):
        s = lying_on(sheet(8, 4.0), [cube(0.5, (1.9, 0, 0.25)), cube(0.5, (2.1, 1, 0.25))])
        run(s, 1.0)
        np.testing.assert_allclose(s.bodies.position[0], [1.9, 0, 0.25], atol=1e-3)
        self.assertLess(s.bodies.position[1, 2], -1.0)

    def test_it_carries_along_what_lies_on_it(self):
        angle = lambda t: 0.5 * t * t  # noqa: E731
        still = np.array([[0.0, 0.0, 0.0]])
        s = lying_on(
            sheet(10, 4.0),
            [cube(0.5, (1.0, 0.0, 0.25))],
            moved_by=DRIVEN,
            drive=lambda t: (still, np.array([[np.cos(angle(t) / 2), 0, 0, np.sin(angle(t) / 2)]])),
        )
        run(s, 1.0)
        np.testing.assert_allclose(s.bodies.position[0], [np.cos(0.5), np.sin(0.5), 0.25], atol=5e-4)

    def test_frames_tell_of_bodies_and_not_of_it(self):
        s = lying_on(sheet(4, 4.0), [cube(0.5, (0, 0, 0.25))])
        self.assertEqual({len(v) for k, v in s.frame().items() if not k.startswith("bond")}, {1})
        s.apply_impulse(np.array([[0.0, 0.0, 500.0]]), np.zeros((1, 3)))
        self.assertAlmostEqual(s.bodies.velocity[0, 2], 500.0 / s.bodies.mass[0])

    def test_restored_it_goes_on_to_the_same_bytes(self):
        make = lambda: lying_on(sheet(9, 6.0, lambda x, y: 0.2 * x * x), [cube(0.4, (0.5, 0, 0.9), (20, 30, 0))])  # noqa: E731
        one, other = make(), make()
        run(one, 0.6)
        state = {k: v.copy() for k, v in one.snapshot().items()}
        run(one, 0.3)
        other.restore(state)
        run(other, 0.3)
        self.assertEqual(one.bodies.position.tobytes(), other.bodies.position.tobytes())


class Rough(unittest.TestCase):
    def shards(self, count, above):
        rng = np.random.default_rng(0)
        found = []
        for k in range(count):
            points = rng.normal(size=(14, 3))
            points *= rng.uniform(0.15, 0.25) / np.linalg.norm(points, axis=1)[:, None]
            at = 0.7 * (np.array([k % 5, k // 5 % 5, k // 25]) - [2, 2, 0]) + rng.uniform(-0.1, 0.1, 3)
            found.append(transformed(hull_of(points).mesh(), np.eye(3), at + [0, 0, above]))
        return found

    def test_shards_come_to_rest_on_hills_and_none_gets_below(self):
        height = lambda x, y: 0.6 * np.sin(1.3 * x) * np.cos(1.1 * y)  # noqa: E731
        for cells in (16, 60):
            s = lying_on(sheet(cells, 12.0, height), self.shards(50, 1.2))
            worst = max(run(s, 4.0, lambda s: s.gauges()["deepest_overlap"] if s.checks % 16 == 0 else 0.0))
            at, gauges = s.bodies.position[:-1], s.gauges()
            with self.subTest(cells=cells):
                self.assertLess(worst, 0.01)
                self.assertLess(gauges["deepest_overlap"], 1e-3)
                self.assertEqual((at[:, 2] < height(at[:, 0], at[:, 1])).sum(), 0)
                self.assertGreater(gauges["asleep"], 40)

    def test_a_plank_lies_over_a_ridge_and_slides_off_beside_it(self):
        roof = Mesh(
            np.array([[-5, -5, -3], [5, -5, -3], [5, 0, 0], [-5, 0, 0], [5, 5, -3], [-5, 5, -3]], float),
            np.array([[0, 1, 2], [0, 2, 3], [3, 2, 4], [3, 4, 5]]),
        )
        plank = box_between((-1, -1, 0), (1, 1, 0.2))
        s = lying_on(roof, [plank])
        run(s, 1.0)
        np.testing.assert_allclose(s.bodies.position[0], [0, 0, 0.1], atol=1e-4)
        s = lying_on(roof, [transformed(plank, np.eye(3), np.array([0, 0.03, 0.3]))], friction=0.5)
        run(s, 2.0)
        tilt = 2 * np.degrees(np.arccos(abs(s.bodies.orientation[0, 0])))
        self.assertAlmostEqual(tilt, np.degrees(np.arctan(0.6)), delta=1.0)
        self.assertGreater(s.bodies.position[0, 1], 0.2)

    def test_nothing_gets_through_a_thin_shell_at_any_speed(self):
        plate = Mesh(
            np.array([[x, y, z] for x in (0, 0.05) for y in (-2, 2) for z in (-2, 2)], float),
            np.array([[0, 1, 3], [0, 3, 2], [4, 7, 5], [4, 6, 7], [1, 5, 7], [1, 7, 3], [0, 2, 6], [0, 6, 4]]),
        )
        for speed in (5.0, 60.0, 300.0):
            pieces = [cube(0.05, (-1, 0.3, 0.2), (10, 20, 30)), cube(0.05, (1, 0.1, 0.3), (10, 20, 30))]
            s = lying_on(plate, pieces, velocity=[(speed, 0, 0), (-speed, 0, 0), (0, 0, 0)])
            s.gravity[:] = 0.0
            deepest = max(run(s, 0.25, lambda s: s.gauges()["deepest_overlap"]))
            with self.subTest(speed=speed):
                self.assertLess(s.bodies.position[0, 0], 0.0)
                self.assertGreater(s.bodies.position[1, 0], 0.05)
                self.assertLess(deepest, 2e-3)

    def test_what_starts_below_the_surface_is_brought_up_and_not_thrown(self):
        s = lying_on(sheet(10, 8.0), [cube(0.5, (0.1, 0.05, 0.15))])
        top = max(run(s, 1.0, lambda s: s.bodies.velocity[0, 2]))
        self.assertAlmostEqual(s.bodies.position[0, 2], 0.25, delta=1e-3)
        self.assertLess(top, 3.5)


class Many(unittest.TestCase):
    def test_only_what_is_near_is_laid_out(self):
        s = lying_on(sheet(150, 150.0), [cube(0.5, (0.1, 0.05, 0.25))])
        run(s, 0.1)
        self.assertLess(len(s.contacts.colliders.owner), 20)
        self.assertEqual(s.contacts.colliders.total, 2 + 2 * 150 * 150)


if __name__ == "__main__":
    unittest.main()
