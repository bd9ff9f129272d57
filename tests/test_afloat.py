"""Bodies in a liquid: what they weigh there, how they are moved, how they lie against each other."""

import unittest

import numpy as np

from tests.bodies import fragments_of, solver
from urst.core.bodies.boundary import Boundary
from urst.core.bodies.parting import Parting
from urst.core.bodies.patches import find_patches
from urst.core.coupling.exchanges import exchange
from urst.core.coupling.group import Group, Member
from urst.core.geometry import generators
from urst.core.geometry.mesh import transformed
from urst.core.liquid.settings import DENSITY, LiquidSettings
from urst.core.liquid.solver import LiquidSolver
from urst.core.rigid.settings import BondSettings, RigidSettings

box = generators.box_between
DT, G = 1 / 24, 9.81
APART = RigidSettings(bonds=BondSettings(tension=0), angular_damping=0.0, settle=0.0, top_speed=1000)


def basin(
    meshes, cell, high, level, *, forth=1.0, back=1.0, settings=APART, gravity=(0, 0, -G), heavy=DENSITY, **options
):
    """Bodies and a pool of a density in a tank from the origin, coupled."""
    rigid = solver(meshes, settings=settings, gravity=gravity, **options)
    fragments = fragments_of(meshes)
    parting = Parting(Boundary(fragments), find_patches(fragments, 1e-3), np.zeros(0, np.int64))
    tank = LiquidSettings(cell_size=cell, low=(0, 0, 0), high=high, tolerance=1e-4, density=heavy)
    liquid = LiquidSolver(tank, gravity, boundaries=[parting.boundary])
    liquid.pool(level)
    between = exchange(rigid, liquid, {id(rigid): [parting], id(liquid): []}, forth, back)
    return rigid, liquid, Group([Member("fall", rigid, [parting]), Member("flood", liquid, [])], [("flood", between)])


def advance(group, frames, dt=DT, watch=lambda: None):
    """Advance by some frames; return what `watch` gave after each."""
    seen = []
    for frame in range(frames):
        group.advance(frame * dt, dt)
        seen.append(watch())
    return seen


class Floating(unittest.TestCase):
    def test_a_flat_block_floats_as_deep_as_its_density_says(self):
        cell, level = 1 / 24, 0.5
        for fraction, heavy in ((0.5, DENSITY), (0.9, DENSITY), (0.5, 1600.0)):
            # 6 : 6 : 2, let in a little too high
            z = level - fraction * 0.2 + 0.25 * cell
            rigid, liquid, group = basin(
                [box((0.2, 0.2, z), (0.8, 0.8, z + 0.2))], cell, (1, 1, 1), level, heavy=heavy, density=fraction * heavy
            )
            seen = advance(group, 48, watch=lambda r=rigid: r.bodies.position[0, 2])
            # the level rises by what the block displaces more than at the start
            rest = level + 0.25 * cell * 0.36 - fraction * 0.2 + 0.1
            self.assertAlmostEqual(float(np.mean(seen[24:])), rest, delta=0.1 * cell)
            self.assertGreater(rigid.bodies.rotation[0, 2, 2], 0.999)
            self.assertLess(abs(liquid.gauges()["volume_drift"]), 5e-3)
            # in the open corner, half a cell above the floor [kPa]
            at_floor = 1e-3 * heavy * G * (rest + (fraction - 0.5) * 0.2 - 0.5 * cell)
            self.assertAlmostEqual(float(liquid.pressed[1, 1, 0]), at_floor, delta=0.02 * at_floor)

    def test_still_it_stays_still_and_falls_asleep(self):
        cell, level = 1 / 24, 0.5
        rigid, liquid, group = basin([box((0.2, 0.2, 0.4), (0.8, 0.8, 0.6))], cell, (1, 1, 1), level, density=500.0)
        advance(group, 32)
        self.assertAlmostEqual(rigid.bodies.position[0, 2], 0.5, delta=0.03 * cell)
        self.assertLess(np.sqrt((liquid.speed**2).sum(axis=1).mean()) / np.sqrt(G * cell), 1e-3)

    def test_a_ball_let_go_under_water_moves_half_of_what_it_displaces_along(self):
        ball = generators.ball(0.25, 16)[0]
        ball = transformed(ball, np.eye(3), np.full(3, 1.0) - ball.vertices.mean(axis=0))
        for density in (100.0, 500.0, 2000.0):
            rigid, _, group = basin([ball], 1 / 16, (2, 2, 2.25), 2.0, density=density)
            dt = 1 / 240
            speed = advance(group, 4, dt, lambda r=rigid: r.bodies.velocity[0, 2])
            wanted = (DENSITY - density) / (density + 0.5 * DENSITY)
            self.assertAlmostEqual((speed[3] - speed[0]) / (3 * dt * G), wanted, delta=0.03 * abs(wanted))

    def test_a_block_bobs_with_what_goes_along(self):
        # a column of half a metre's draft in a wide pool: the period with added mass lies above that without, and
        # under that with all the mass of a half sphere on its width
        cell, level, side, height = 1 / 16, 1.0, 0.5, 0.75
        z = level - 0.5 + 0.06
        mesh = box((0.75, 0.75, z), (0.75 + side, 0.75 + side, z + height))
        rigid, _, group = basin([mesh], cell, (2, 2, 1.75), level, density=DENSITY * 0.5 / height)
        dt = 1 / 48
        seen = np.array(advance(group, 84, dt, lambda: rigid.bodies.position[0, 2]))
        lean = seen - seen[20:].mean()
        turns = np.flatnonzero(np.diff(np.sign(lean)) != 0) * dt
        period, bare = 2 * np.diff(turns).mean(), 2 * np.pi * np.sqrt(0.5 / G)
        self.assertGreater(period, 1.03 * bare)
        self.assertLess(period, 1.25 * bare)


class Together(unittest.TestCase):
    def test_one_floats_on_another_and_neither_sinks_into_it(self):
        cell, level = 1 / 24, 0.5
        z = level - 0.6 * 0.2
        low, high = box((0.25, 0.25, z), (0.75, 0.75, z + 0.2)), box((0.25, 0.25, z + 0.2), (0.75, 0.75, z + 0.4))
        rigid, _, group = basin([low, high], cell, (1, 1, 1.25), level, density=[300.0, 300.0])
        advance(group, 32)
        np.testing.assert_allclose(rigid.bodies.position[:, 2], [z + 0.1, z + 0.3], atol=0.12 * cell)
        self.assertAlmostEqual(rigid.bodies.position[1, 2] - rigid.bodies.position[0, 2], 0.2, delta=5e-4)

    def test_what_lies_on_the_floor_comes_up_if_it_is_light(self):
        # on the floor of the domain, and on a slab
        for base in (0.0, 0.03):
            meshes = [box((0.3, 0.3, base), (0.6, 0.6, base + 0.3)), box((-1, -1, -1), (2, 2, base))]
            rigid, _, group = basin(meshes, 1 / 16, (1, 1, 1.25), 0.75, density=[500.0, 2000.0], fixed=[1])
            advance(group, 16)
            self.assertGreater(rigid.bodies.position[0, 2], base + 0.15 + 0.2)

    def test_heavy_and_light_go_their_ways(self):
        rng, meshes, density = np.random.default_rng(3), [], []
        for i in range(2):
            for j in range(2):
                at = np.array([0.3 + 0.4 * i, 0.3 + 0.4 * j, 0.95])
                size = 0.18 + 0.06 * rng.random(3)
                meshes.append(box(at - size / 2, at + size / 2))
                density.append((100.0, 2500.0)[(i + j) % 2])
        rigid, liquid, group = basin(
            [*meshes, box((-1, -1, -1), (2, 2, 0))], 1 / 16, (1, 1, 1.75), 0.625, density=[*density, 2000.0], fixed=[4]
        )
        afloat = advance(group, 36, watch=lambda: group.gauges()["flood"]["afloat"])
        up = rigid.bodies.position[:4, 2]
        self.assertGreater(up[np.array(density) < 1000].min(), 0.55)
        self.assertLess(up[np.array(density) > 1000].max(), 0.2)
        self.assertLess(abs(liquid.gauges()["volume_drift"]), 0.02)
        self.assertLess(group.gauges()["flood"]["momentum_lost"], 1e-6)
        self.assertEqual(max(afloat), 2.0)

    def test_bodies_of_two_solvers_float_in_one_liquid(self):
        cell, level, members, between, partings, solvers = 1 / 16, 0.5, [], [], [], []
        for x in (0.1, 0.6):
            mesh = box((x, 0.3, 0.4), (x + 0.3, 0.7, 0.6))
            solvers.append(solver([mesh], settings=APART, density=500.0))
            partings.append(
                Parting(Boundary(fragments_of([mesh])), find_patches(fragments_of([mesh]), 1e-3), np.zeros(0, np.int64))
            )
        settings = LiquidSettings(cell_size=cell, low=(0, 0, 0), high=(1, 1, 1), tolerance=1e-4)
        liquid = LiquidSolver(settings, boundaries=[p.boundary for p in partings])
        liquid.pool(level)
        readers = {id(s): [p] for s, p in zip(solvers, partings)} | {id(liquid): []}
        for n, (s, p) in enumerate(zip(solvers, partings)):
            members.append(Member(f"fall{n}", s, [p]))
            between.append(("flood", exchange(s, liquid, readers, 1.0, 1.0)))
        group = Group([*members, Member("flood", liquid, [])], between)
        advance(group, 24)
        for s in solvers:
            self.assertAlmostEqual(s.bodies.position[0, 2], 0.5, delta=0.1 * cell)
            self.assertLess(abs(s.bodies.velocity[0, 2]), 0.05)
        self.assertLess(group.gauges()["flood"]["momentum_lost"], 1e-6)

    def test_the_strength_of_each_side_is_its_own(self):
        def fall(forth, back):
            mesh = box((0.35, 0.35, 0.85), (0.65, 0.65, 1.15))
            rigid, liquid, group = basin([mesh], 1 / 12, (1, 1, 2), 0.75, density=700.0, forth=forth, back=back)
            top = advance(group, 14, watch=lambda: liquid.position[:, 2].max() / 12)
            return float(rigid.bodies.position[0, 2]), max(top)

        place, splash = fall(1.0, 1.0)
        stronger_place, stronger = fall(1.6, 1.0)
        self.assertGreater(stronger, splash)
        self.assertLess(fall(1.0, 0.0)[0], place - 0.05)

    def test_water_presses_on_a_wall_of_small_blocks_as_on_a_whole_one(self):
        # a dam of 24 cells a block, a metre of water behind it, near to what it bears: none goes through the blocks,
        # and their bonds feel M c / I at the foot, less what the weight presses there
        thick, height, strength = 0.2, 1.2, 2.6e5
        blocks = [box((1, j / 4, k * 0.2), (1 + thick, (j + 1) / 4, (k + 1) * 0.2)) for k in range(6) for j in range(4)]
        bonds = BondSettings(tension=strength, shear=strength, scatter=0.0)
        rigid, liquid, group = basin(
            [*blocks, box((-1, -1, -1), (3, 2, 0))],
            1 / 12,
            (2, 1, 1.5),
            -1.0,
            settings=APART.model_copy(update={"bonds": bonds}),
            fixed=[24],
            density=2000.0,
        )
        liquid.fill(lambda x: np.maximum(x[:, 0] - 0.99, x[:, 2] - 1.0))
        seen = advance(
            group, 16, 1 / 24, lambda: (liquid.pressed[10, 6, 0], liquid.pressed[4, 6, 0], rigid.utilisation.max())
        )
        pressed = 1e-3 * DENSITY * G * (1.0 - 1 / 24)
        np.testing.assert_allclose(np.array(seen)[3:, :2], pressed, atol=0.08 * pressed)
        foot = DENSITY * G / 6 * 6 / thick**2 - 2000.0 * G * height
        self.assertAlmostEqual(seen[-1][2] * strength, foot, delta=0.06 * foot)
        self.assertTrue(rigid.bonds.alive.all())
        self.assertEqual(int((liquid.position[:, 0] > 14.5).sum()), 0)

    def test_a_wave_parts_what_is_bonded_too_weakly(self):
        # a plate of two halves across a tank, held by the floor; behind it the water stands high
        halves = [
            box((0.5, 0.02, 0.0), (0.6, 0.5, 0.6)),
            box((0.5, 0.5, 0.0), (0.6, 0.98, 0.6)),
            box((-1, -1, -1), (2, 2, 0)),
        ]
        for strength, holds in ((2e3, False), (5e6, True)):
            bonds = BondSettings(tension=strength, shear=strength)
            rigid, liquid, group = basin(
                halves,
                1 / 12,
                (1.5, 1, 1),
                -1.0,
                settings=APART.model_copy(update={"bonds": bonds}),
                fixed=[2],
                density=2000.0,
            )
            liquid.fill(lambda x: np.maximum(x[:, 0] - 0.45, x[:, 2] - 0.9))
            advance(group, 12)
            self.assertEqual(bool(rigid.bonds.alive.all()), holds)
