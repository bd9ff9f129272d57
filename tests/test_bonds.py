"""Bonds against beam theory, and lumps of bonded bodies. Sources as in docs/references.md; values are derived here."""

import unittest

import numpy as np

from tests import naive
from tests.bodies import FREE, GROUND, fragments_of, momentum, run, solver
from urst.core.fracture.voronoi import shatter
from urst.core.geometry import generators
from urst.core.geometry.mesh import transformed
from urst.core.geometry.rotation import from_degrees, matrix
from urst.core.rigid.sections import HIGH, LOW, SLIGHT, judge
from urst.core.rigid.settings import BondSettings, RigidSettings
from urst.core.rigid.settling import settle

G, DENSITY = 9.81, 2000.0
SHEAR = 5.0 / 6.0 / 2.4
box = generators.box_between


def strong(modulus, **options):
    """Settings under which nothing breaks."""
    bonds = BondSettings(tension=1e9, shear=1e9, scatter=0.0, modulus=modulus)
    return RigidSettings(bonds=bonds, angular_damping=0.0, **options)


def wall(width, height, turn=(0, 0, 0), at=(0, 0, 0)):
    """Bricks of a wall 0.3 m thick."""
    bricks = generators.brick_wall(width, 0.3, height, 0.5, 0.25)
    return [transformed(b, matrix(from_degrees(turn)), np.array(at, float)) for b in bricks]


class Bonds(unittest.TestCase):
    def beam(self, blocks, tension, **options):
        meshes = [
            box((-0.2, -0.1, 1.0), (0.0, 0.1, 1.2)),
            *(box((0.2 * k, -0.1, 1.0), (0.2 * k + 0.2, 0.1, 1.2)) for k in range(blocks)),
        ]
        bonds = BondSettings(tension=tension, shear=10 * tension, scatter=0.0, modulus=2e8)
        settings = RigidSettings(
            bonds=bonds, steps=16, substeps=8, settle=0.0, linear_damping=4.0, angular_damping=4.0, **options
        )
        return solver(meshes, fixed=(0,), settings=settings)

    def test_a_cantilever_bears_the_stress_of_beam_theory_at_its_root(self):
        # sigma = M c / I with M = w L^2 / 2: a beam of five blocks under its own weight
        s = self.beam(5, 1e9)
        run(s, 1.5)
        length, side, weight = 1.0, 0.2, 2000.0 * G * 0.2**2
        expected = 0.5 * weight * length**2 * (side / 2) / (side**4 / 12)
        stress = s.utilisation * s.strength[:, 0]
        root = int(np.flatnonzero((s.bonds.body == 0).any(axis=1))[0])
        self.assertEqual(int(stress.argmax()), root)
        self.assertAlmostEqual(stress[root], expected, delta=0.03 * expected)

    def test_it_breaks_at_the_root_and_only_when_it_must(self):
        expected = 0.5 * 2000.0 * G * 0.2**2 * 0.1 / (0.2**4 / 12)
        for fraction, breaks in ((1.2, False), (0.8, True)):
            s = self.beam(5, fraction * expected)
            settle(s, 2.0)
            run(s, 0.5)
            root = int(np.flatnonzero((s.bonds.body == 0).any(axis=1))[0])
            self.assertEqual(s.bonds.alive[root] == 0, breaks, fraction)
            if breaks:
                self.assertEqual(int((s.bonds.alive == 0).sum()), 1)

    def test_no_bond_where_tension_is_nothing(self):
        self.assertEqual(len(self.beam(3, 0.0).bonds.alive), 0)

    def test_a_bonded_wall_is_still_after_settling_and_stays_so(self):
        wall = generators.brick_wall(3.0, 0.3, 3.0, 0.5, 0.25)
        s = solver([GROUND, *wall], fixed=(0,), settings=RigidSettings())
        self.assertGreater(len(s.bonds.alive), 100)
        settle(s, 0.5)
        speed = run(s, 0.5, lambda s: s.gauges()["top_speed"])
        self.assertLess(max(speed), 2e-3)
        run(s, 0.5)
        self.assertEqual(int(s.bodies.awake[1:].sum()), 0)
        self.assertTrue(s.bonds.alive.all())

    def test_a_long_beam_sags_by_beam_theory_at_any_stiffness(self):
        # w (6 L^2 x^2 - 4 L x^3 + x^4) / (24 E I) and, in shear, w (L x - x^2 / 2) / (G A s)
        for blocks, modulus in ((50, 30e9), (20, 2e9)):
            meshes = [box((0.2 * k, -0.1, 1.0), (0.2 * k + 0.2, 0.1, 1.2)) for k in range(-1, blocks)]
            s = solver(meshes, fixed=(0,), settings=strong(modulus))
            before = s.bodies.position[-1, 2]
            settle(s, 0.5)
            run(s, 0.2)
            length, area, weight = 0.2 * blocks, 0.04, DENSITY * G * 0.04
            x, bend = length - 0.1, modulus * 0.2**4 / 12
            sag = weight * (6 * length**2 * x**2 - 4 * length * x**3 + x**4) / (24 * bend)
            sag += weight * (length * x - x**2 / 2) / (modulus * SHEAR * area)
            self.assertAlmostEqual(before - s.bodies.position[-1, 2], sag, delta=0.005 * sag)

    def test_a_flat_beam_bends_more_about_its_flat_side(self):
        sag = []
        for size in ((0.1, 0.4), (0.4, 0.1)):
            y, z = size
            meshes = [box((0.2 * k, -y / 2, 1.0), (0.2 * k + 0.2, y / 2, 1.0 + z)) for k in range(-1, 20)]
            s = solver(meshes, fixed=(0,), settings=strong(2e10))
            before = s.bodies.position[-1, 2]
            settle(s, 0.2)
            sag.append(before - s.bodies.position[-1, 2])
        # bending alone would give 16
        self.assertAlmostEqual(sag[1] / sag[0], 16.0, delta=0.6)

    def test_a_beam_that_lies_on_two_piers_sags_between_them(self):
        piers = [box((x - 0.1, -0.1, 0), (x + 0.1, 0.1, 0.8)) for x in (0.0, 4.0)]
        beam = [box((0.2 * k, -0.1, 0.8), (0.2 * k + 0.2, 0.1, 1.0)) for k in range(20)]
        bonded = np.arange(22) >= 2
        s = solver(piers + beam, fixed=(0, 1), settings=strong(1e10), bonded=bonded)
        before = s.bodies.position[:, 2].copy()
        settle(s, 0.5)
        run(s, 1.0)
        sag = 5 * DENSITY * G * 0.04 * 3.8**4 / (384 * 1e10 * 0.2**4 / 12)
        down = before - s.bodies.position[:, 2]
        self.assertAlmostEqual(down[11:13].mean() - down[[2, -1]].mean(), sag, delta=0.02 * sag)
        self.assertEqual(int(s.bodies.awake[2:].sum()), 0)

    def test_ductile_bonds_yield_before_they_part(self):
        seen = {}
        for elongation in (0.0, 0.1):
            bonds = BondSettings(tension=3e6, shear=3e6, scatter=0.0, elongation=elongation)
            beam = [box((0.2 * k, 0, 1.0), (0.2 * k + 0.2, 0.2, 1.2)) for k in range(-1, 6)]
            weight = box((0.8, -0.3, 1.25), (1.2, 0.5, 1.75))
            s = solver([*beam, weight], fixed=(0,), settings=RigidSettings(bonds=bonds), bonded=np.arange(8) < 7)
            low, whole = 1.1, True
            for _ in range(600):
                s.step(s.step_dt)
                whole = bool(s.bonds.alive.all())
                if not whole:
                    break
                low = s.bodies.position[6, 2]
            seen[elongation] = 1.1 - low
            self.assertFalse(whole)
        self.assertLess(seen[0.0], 0.02)
        self.assertGreater(seen[0.1], 0.1)

    def test_a_crack_takes_its_energy_however_fast_it_opens(self):
        # beside that of the crack, what the spring holds and its damping take; nothing like what a whole check would
        cubes = [box((0.3 * k, 0, 0), (0.3 * k + 0.3, 0.3, 0.3)) for k in range(2)]
        for speed, toughness, most in (
            (3.0, 60.0, 16.0),
            (3.0, 600.0, 80.0),
            (6.0, 600.0, 100.0),
            (12.0, 600.0, 130.0),
        ):
            with self.subTest(speed=speed, toughness=toughness):
                bonds = BondSettings(tension=0.35e6, shear=0.5e6, toughness=toughness, scatter=0.0)
                settings = FREE.model_copy(update={"bonds": bonds})
                velocity = [[-speed / 2, 0, 0], [speed / 2, 0, 0]]
                s = solver(cubes, settings=settings, gravity=(0, 0, 0), velocity=velocity)
                run(s, 0.05)
                lost = 2 * 0.5 * 54.0 * (speed / 2) ** 2 - 0.5 * 54.0 * (s.bodies.velocity**2).sum()
                self.assertEqual(s.bonds.alive[0], 0)
                self.assertGreater(lost, toughness * 0.09)
                self.assertLess(lost, most)

    def test_chunks_come_apart_first_and_break_again_above_a_load(self):
        def dropped(height):
            bricks = wall(3.0, 2.0, (15, 5, 0), (0, 0, height))
            bonds = BondSettings(tension=0.15e6, shear=0.2e6, scatter=0.0, chunks=4, chunk_holds=60.0)
            piece = np.array([0, *[1] * len(bricks)])
            s = solver([GROUND, *bricks], fixed=(0,), settings=RigidSettings(bonds=bonds), piece=piece)
            settle(s, 0.1)
            strong = s.strength[:, 0] > 1e6
            mass = s.bodies.mass[1:].sum()
            run(s, np.sqrt(2 * height / G) + 0.4)
            self.assertEqual(s.bodies.mass[1:].sum(), mass)
            return s.bonds.alive[strong].mean(), s.bonds.alive[~strong].mean(), strong.mean()

        inside, between, fraction = dropped(0.4)
        self.assertTrue(0.5 < fraction < 0.95)
        self.assertLess(between, 0.7)
        self.assertGreater(inside, 0.75)
        self.assertGreater(inside - between, 0.15)
        self.assertLess(dropped(10.0)[0], inside - 0.1)


class Sections(unittest.TestCase):
    """What a bent beam bears must not depend on how it is cut."""

    LENGTH, SIDE = 4.0, 0.4

    def beam(self, count, seed=0):
        length, side = self.LENGTH, self.SIDE
        if not seed:
            ends = np.linspace(0, length, count + 1)
            return [box((a, -side / 2, 1), (b, side / 2, 1 + side)) for a, b in zip(ends, ends[1:])]
        rng = np.random.default_rng(seed)
        sites = rng.uniform((0, -side / 2, 1), (length, side / 2, 1 + side), (count, 3))
        return [x.mesh for x in shatter(box((0, -side / 2, 1), (length, side / 2, 1 + side)), sites)]

    def settled(self, beam, turn=(0, 0, 0), **bonds):
        """On two piers under its own weight, with the stress that theory has at its middle."""
        piers = [box((x - 0.05, -0.3, 0), (x + 0.05, 0.3, 1)) for x in (0.1, self.LENGTH - 0.1)]
        turned = matrix(from_degrees(turn))
        meshes = [transformed(m, turned, np.zeros(3)) for m in piers + beam]
        bonds = {"tension": 1e9, "shear": 1e9, "scatter": 0.0, "modulus": 1e10} | bonds
        settings = RigidSettings(bonds=BondSettings(**bonds), settle=0.0)
        bonded = np.arange(len(meshes)) >= 2
        gravity = tuple(turned @ (0, 0, -G))
        s = solver(meshes, fixed=(0, 1), settings=settings, bonded=bonded, gravity=gravity)
        settle(s, 0.3)
        weight, clear = DENSITY * G * self.SIDE**2, self.LENGTH - 0.3
        # they hold it at their inner edges
        moment = weight * clear**2 / 8 - weight * 0.15**2 / 2
        return s, moment * 6 / self.SIDE**3

    def test_its_greatest_stress_is_that_of_the_whole_beam_however_it_is_cut(self):
        for count in (10, 40, 200):
            s, expected = self.settled(self.beam(count))
            stress = (s.utilisation * s.strength[:, 0]).max()
            self.assertAlmostEqual(stress, expected, delta=0.02 * expected, msg=count)
        for count in (10, 24, 60, 200):
            found = []
            for seed in (1, 2, 3):
                s, expected = self.settled(self.beam(count, seed))
                found.append((s.utilisation * s.strength[:, 0]).max() / expected)
            self.assertAlmostEqual(np.mean(found), 1.0, delta=0.1, msg=(count, found))
            self.assertLess(np.ptp(found), 0.25)

    def test_however_it_is_turned(self):
        first = self.settled(self.beam(60, 1))[0].utilisation
        second = self.settled(self.beam(60, 1), turn=(30, -50, 80))[0].utilisation
        # the axes of a patch that is alike in all directions may turn, and with them nothing else
        np.testing.assert_allclose(second, first, rtol=1e-3, atol=1e-3 * first.max())

    def test_a_section_is_what_its_members_carry_together(self):
        s, _ = self.settled(self.beam(24, 2))
        bonds, sections = s.bonds, s._bonds._sections
        rng = np.random.default_rng(1)
        bonds.force[:] = rng.standard_normal(bonds.force.shape) * 1e8
        bonds.alive[rng.choice(len(bonds.alive), 5, replace=False)] = 0
        s._bonds.remeasure(bonds.alive == 0)
        some = np.flatnonzero(bonds.alive == 1)
        found, pressed = np.empty(len(some)), np.empty(len(some))
        judge(sections, bonds, some, found, pressed)
        expected = [naive.section_stress(sections, bonds, b) for b in some]
        tension, shear, least = np.array(expected).T
        strength = bonds.strength[some]
        # what the section says counts within bounds of what the patch has by itself
        own = np.array([naive.patch_stress(bonds, b) for b in some]).T
        for its, mine, most in ((tension, own[0], strength[:, 0]), (shear, own[1], strength[:, 1])):
            said = (mine > SLIGHT * most) & (its > 0)
            its[:] = np.where(said, np.clip(its / np.where(said, mine, 1), LOW, HIGH), 1) * mine
        self.assertGreater(np.isclose(tension, np.array(expected)[:, 0]).mean(), 0.2)
        by_shear = shear / (strength[:, 1] + strength[:, 2] * np.maximum(-tension, 0))
        np.testing.assert_allclose(found, np.maximum(tension / strength[:, 0], by_shear), rtol=1e-9)
        np.testing.assert_allclose(pressed * 1e9, np.maximum(-least, 0) * (1e9 / strength[:, 3]), rtol=1e-9)

    def test_weak_spots_stay_where_they_are_however_finely_it_is_cut(self):
        weakest = []
        for count in (40, 160):
            s, _ = self.settled(self.beam(count), scatter=0.2, seed=4)
            place, strength = s._bonds._sections.centre[:, 0], s.strength[:, 0]
            weakest.append((place[strength.argmin()], strength.min(), strength.std() / strength.mean()))
        (first, low, spread), (second, lower, same) = weakest
        self.assertAlmostEqual(first, second, delta=0.15)
        self.assertAlmostEqual(low, lower, delta=0.02 * low)
        self.assertAlmostEqual(spread, same, delta=0.02)

    def test_a_wall_is_crushed_by_its_own_weight_where_it_is_too_tall(self):
        for strength, stands in ((1.7e5, True), (1.5e5, False)):
            bricks = generators.brick_wall(2.0, 0.3, 8.0, 1.0, 0.5)
            even = RigidSettings(bonds=BondSettings(scatter=0.0))
            s = solver([GROUND, *bricks], fixed=(0,), settings=even, compression=strength)
            settle(s, 0.5)
            expected = DENSITY * G * 8.0 / strength
            self.assertAlmostEqual(s.gauges()["bond_pressure"], expected, delta=0.01 * expected)
            run(s, 0.2)
            self.assertEqual(bool(s.bonds.alive.all()), stands)

    def test_most_bonds_are_told_apart_from_the_worst(self):
        s, _ = self.settled(self.beam(200, 1))
        g = s.gauges()
        self.assertEqual(g["bond_load_99"], np.percentile(s.utilisation, 99))
        self.assertLess(g["bond_load_99"], g["bond_load"])


class Clusters(unittest.TestCase):
    def test_a_wall_that_only_stands_on_the_ground_stands(self):
        bricks = wall(4.0, 3.0)
        bonded = np.arange(len(bricks) + 1) > 0
        s = solver([GROUND, *bricks], fixed=(0,), settings=RigidSettings(), bonded=bonded)
        before = s.bodies.position.copy()
        settle(s, 0.5)
        run(s, 1.0)
        moved = s.bodies.position - before
        # rho g H^2 / (2 E), at the middle of the top course a little less
        self.assertAlmostEqual(-moved[:, 2].min(), DENSITY * G * 9.0 / 2 / 2e9, delta=0.005e-3)
        self.assertLess(np.abs(moved[:, :2]).max(), 0.02e-3)
        self.assertTrue(s.bonds.alive.all())
        self.assertEqual(int(s.bodies.awake[1:].sum()), 0)

    def test_it_flies_as_one_and_keeps_its_momenta(self):
        bricks = wall(3.0, 2.0)
        f = fragments_of(bricks)
        spin = np.array([1.0, 2.0, 3.0])
        middle = np.average(f.centre, axis=0, weights=f.volume)
        s = solver(
            bricks,
            settings=strong(2e9),
            gravity=(0, 0, 0),
            velocity=(3, 0, 5) + np.cross(spin, f.centre - middle),
            spin=np.tile(spin, (len(bricks), 1)),
        )
        before, energy = momentum(s), s.gauges()["kinetic_energy"]
        apart = np.linalg.norm(s.bodies.position[0] - s.bodies.position[-1])
        run(s, 1.0)
        for a, b in zip(before, momentum(s)):
            np.testing.assert_allclose(a, b, rtol=1e-9, atol=1e-6)
        self.assertAlmostEqual(s.gauges()["kinetic_energy"] / energy, 1.0, delta=1e-5)
        self.assertAlmostEqual(np.linalg.norm(s.bodies.position[0] - s.bodies.position[-1]), apart, delta=1e-5)

    def test_it_lands_in_pieces_or_whole_as_its_bonds_are(self):
        left = []
        for tension in (0.3e6, 3e8):
            bonds = BondSettings(tension=tension, shear=1.5 * tension)
            bricks = wall(2.0, 1.5, (20, 10, 0), (0, 0, 1.0))
            s = solver([GROUND, *bricks], fixed=(0,), settings=RigidSettings(bonds=bonds))
            settle(s, 0.2)
            run(s, 1.0)
            left.append(s.gauges()["bonds_left"])
        self.assertLess(left[0], 0.6)
        self.assertEqual(left[1], 1.0)

    def test_a_blow_acts_where_it_falls(self):
        # a ball on a bonded wall that is free: struck, the wall is no rigid body of 7 t, and the ball keeps on
        bricks = wall(4.0, 3.0)
        n = len(bricks)
        velocity = np.zeros((n + 1, 3))
        velocity[n] = (0, 8.0, 0)
        ball = box((-0.4, -1.0, 1.0), (0.4, -0.2, 1.8))
        bonds = BondSettings(tension=0.2e6, shear=0.3e6)
        s = solver(
            [*bricks, ball], settings=RigidSettings(bonds=bonds), velocity=velocity, gravity=(0, 0, 0), balls={n: 0.4}
        )
        total = momentum(s)[0]
        run(s, 0.1)
        self.assertLess(s.gauges()["bonds_left"], 0.9)
        self.assertGreater(s.bodies.velocity[n, 1], 1.0)
        np.testing.assert_allclose(momentum(s)[0], total, rtol=5e-6, atol=0.01)

    def test_an_impulse_from_outside_breaks_what_stands_if_it_is_strong_enough(self):
        for size, breaks in ((5.0, False), (800.0, True)):
            bricks = wall(2.0, 1.5)
            s = solver([GROUND, *bricks], fixed=(0,), settings=RigidSettings())
            settle(s, 0.2)
            push = np.zeros((len(bricks) + 1, 3))
            push[1:, 1] = size
            s.apply_impulse(push, np.zeros_like(push))
            run(s, 0.1)
            self.assertEqual(s.gauges()["bonds_left"] < 1.0, breaks, size)

    def test_restored_from_a_snapshot_it_goes_on_to_the_same_bytes(self):
        def scene():
            bricks = wall(2.0, 1.5, (25, 10, 0), (0, 0, 0.9))
            bonds = BondSettings(tension=1e6, shear=1.5e6)
            return solver([GROUND, *bricks], fixed=(0,), settings=RigidSettings(bonds=bonds))

        whole, again = scene(), scene()
        run(whole, 0.5)
        self.assertTrue(0 < whole.gauges()["bonds_left"] < 1)
        state = whole.snapshot()
        run(whole, 0.3)
        again.restore(state)
        run(again, 0.3)
        self.assertEqual(whole.bodies.position.tobytes(), again.bodies.position.tobytes())
        self.assertEqual(whole.bonds.force.tobytes(), again.bonds.force.tobytes())


class Whole(unittest.TestCase):
    """A solid of several convex parts."""

    TABLE = [
        box((0, 0, 0.9), (2, 1, 1.0)),
        *(box((x, y, 0), (x + 0.1, y + 0.1, 0.9)) for x in (0.0, 1.9) for y in (0.0, 0.9)),
    ]

    def table(self, at, turn=(0, 0, 0), **options):
        parts = [transformed(m, matrix(from_degrees(turn)), np.array(at, float)) for m in self.TABLE]
        whole = np.array([-1, *[7] * 5])
        return solver([GROUND, *parts], fixed=(0,), bonded=np.zeros(6, bool), whole=whole, **options)

    def test_it_falls_and_lands_as_one(self):
        s = self.table((0, 0, 0.3), (25, 10, 0))
        apart = np.linalg.norm(s.bodies.position[1:, None] - s.bodies.position[None, 1:], axis=2)
        run(s, 2.0)
        now = np.linalg.norm(s.bodies.position[1:, None] - s.bodies.position[None, 1:], axis=2)
        self.assertLess(np.abs(now - apart).max(), 1e-6)
        self.assertLess(s.gauges()["deepest_overlap"], 1e-3)
        self.assertEqual(s.gauges()["bonds_left"], 1.0)

    def test_what_bonds_hold_to_others_parts_from_them_when_struck(self):
        # two tables side by side, held by bonds: a solid gives none of what it is struck with to its own parts
        parts = self.TABLE + [transformed(m, np.eye(3), np.array([2.0, 0, 0])) for m in self.TABLE]
        parts = [transformed(m, np.eye(3), np.array([0, 0, 0.05])) for m in parts]
        whole = np.array([-1, *[7] * 5, *[8] * 5])
        settings = RigidSettings(bonds=BondSettings(tension=1e5, shear=1e5, modulus=2e9))
        velocity = np.zeros((11, 3))
        velocity[1:6, 2], velocity[6:] = -6.0, (0.0, 0.0, 2.0)
        held = np.array([False, *[True] * 10])
        s = solver([GROUND, *parts], fixed=(0,), bonded=held, whole=whole, settings=settings, velocity=velocity)
        joined = s.bonds.body
        between = whole[joined[:, 0]] != whole[joined[:, 1]]
        self.assertGreater(between.sum(), 0)
        run(s, 0.5)
        self.assertEqual(s.bonds.alive[between].sum(), 0)
        self.assertEqual(s.bonds.alive[~between].min(), 1)
        self.assertEqual(s.gauges()["bonds_left"], 0.0)

    def test_it_stands_on_its_legs_with_room_below(self):
        s = self.table((0, 0, 0.05))
        run(s, 1.5)
        np.testing.assert_allclose(s.bodies.position[1], (1.0, 0.5, 0.95), atol=1e-3)
        self.assertEqual(int(s.bodies.awake[1:].sum()), 0)

    def test_what_is_hollow_holds_what_falls_into_it(self):
        low, wall = box((-0.5, -0.5, 0), (0.5, 0.5, 0.05)), 0.05
        sides = [
            box((-0.5, -0.5, 0.05), (-0.5 + wall, 0.5, 0.6)),
            box((0.5 - wall, -0.5, 0.05), (0.5, 0.5, 0.6)),
            box((-0.5 + wall, -0.5, 0.05), (0.5 - wall, -0.5 + wall, 0.6)),
            box((-0.5 + wall, 0.5 - wall, 0.05), (0.5 - wall, 0.5, 0.6)),
        ]
        stone = box((0.1, 0.05, 1.0), (0.3, 0.25, 1.2))
        whole = np.array([-1, *[3] * 5, -1])
        s = solver([GROUND, low, *sides, stone], fixed=(0,), bonded=np.zeros(7, bool), whole=whole)
        run(s, 1.5)
        self.assertAlmostEqual(s.bodies.position[6, 2], 0.15, delta=0.002)


class Settling(unittest.TestCase):
    def test_settling_lets_nothing_fall_that_hangs(self):
        turn = matrix(from_degrees((20, 30, 0)))
        figure = transformed(box((-0.2, -0.2, -0.2), (0.2, 0.2, 0.2)), turn, np.array([0.0, 0.0, 3.0]))
        s = solver([GROUND, box((2, 0, 0), (3, 1, 1)), figure], fixed=(0,))
        settle(s, 0.5)
        np.testing.assert_array_equal(s.bodies.position[2], fragments_of([figure]).centre[0])
        np.testing.assert_array_equal(s.bodies.velocity[2], 0.0)

    def test_settling_moves_nothing_that_is_thrown(self):
        s = solver([box((0, 0, 5), (1, 1, 6))], velocity=[(3.0, 0, 0)])
        settle(s, 0.5)
        np.testing.assert_array_equal(s.bodies.position[0], [0.5, 0.5, 5.5])
        np.testing.assert_array_equal(s.bodies.velocity[0], [3.0, 0, 0])
