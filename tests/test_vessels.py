"""Vessels with walls thinner than cells: they hold, stand, move and float."""

import unittest

import numpy as np

from tests.bodies import solver
from tests.test_afloat import APART, DT, G, advance
from tests.test_liquid import amount
from urst.core.bodies.boundary import Boundary
from urst.core.bodies.fragments import Solid, assemble
from urst.core.bodies.parting import Parting
from urst.core.bodies.patches import find_patches, ties, together
from urst.core.coupling.exchanges import exchange
from urst.core.coupling.group import Group, Member
from urst.core.fields.liquid_frame import LiquidFrame
from urst.core.geometry import generators, rotation
from urst.core.geometry.mesh import transformed
from urst.core.liquid.settings import DENSITY, LiquidSettings
from urst.core.liquid.solver import LiquidSolver
from urst.core.skin.settings import SkinSettings
from urst.core.skin.skinner import Skinner
from urst.scene.shapes import Ball, Box, Drum, parts, rooms, volumes

CELL = 1 / 16


def put(found, at, turn=(0, 0, 0)):
    """Meshes where they stand."""
    matrix = rotation.matrix(rotation.from_degrees(turn))
    return [transformed(m, matrix, np.array(at, float)) for m in found]


def bodies(found, whole=-1):
    return assemble([Solid(0, m, np.zeros(len(m.triangles), bool), part=k, whole=whole) for k, m in enumerate(found)])


def vessel(shape, at, turn, level, *, cell=CELL, low=(0, 0, 0), high=(2, 2, 1.75)):
    """A vessel that stands, filled up to a level, and the room in it."""
    walls = Boundary(bodies(put([m for m, _ in parts(shape)], at, turn), 0))
    room = Boundary(bodies(put(rooms(shape), at, turn)))
    liquid = LiquidSolver(LiquidSettings(cell_size=cell, low=low, high=high), (0, 0, -G), boundaries=[walls])
    liquid.fill(lambda x: np.maximum(room.distance(x, 0.0), x[:, 2] - level))
    return liquid, room


def go_on(liquid, seconds):
    end = liquid.time + seconds
    while liquid.time < end - 1e-9:
        liquid.step(min(liquid.stable_dt(), DT, end - liquid.time))


def outside(liquid, room, wall=2e-3):
    """How many particles are out of the room by more than half of its wall."""
    places = liquid.origin + liquid.cell * liquid.position.astype(float)
    return int((room.distance(places, 0.0) > 0.5 * wall).sum())


class Standing(unittest.TestCase):
    def test_its_surface_runs_along_walls_thinner_than_a_cell(self):
        shape = Drum(radius=0.5, height=1.2, matter="hollow", wall=0.1 * CELL)
        liquid, room = vessel(shape, (1.02, 1.01, 0.2), (0, 0, 0), 0.85)
        go_on(liquid, 0.1)
        skin = Skinner(SkinSettings(), liquid.settings.low, CELL, liquid.settings.shape())
        skin.liquid = LiquidFrame.of(liquid.frame())
        corners = skin.frame()["position"].astype(float)
        away = room.distance(corners[corners[:, 2] < 0.85 - 1.5 * CELL], 0.0) / CELL
        self.assertLess(np.sqrt(np.mean(away**2)), 0.1)
        self.assertLess(np.abs(away).max(), 0.35)
        self.assertAlmostEqual(skin.gauges()["surface_volume"] / liquid.volume(), 1.0, delta=0.02)

    def test_walls_of_any_thickness_hold_and_keep_the_volume(self):
        for thickness, turn in ((0.1, (0, 0, 0)), (0.3, (0, 15, 0)), (0.8, (10, 5, 0)), (1.3, (0, 15, 0))):
            shape = Box(width=1, depth=1, height=1, matter="hollow", wall=thickness * CELL)
            liquid, room = vessel(shape, (1.02, 1.01, 0.2), turn, 0.65)
            go_on(liquid, 0.75)
            self.assertEqual(outside(liquid, room), 0)
            self.assertLess(abs(liquid.gauges()["volume_drift"]), 5e-3)
            self.assertLess(np.sqrt((liquid.speed**2).sum(axis=1).mean()), 0.1 * np.sqrt(G * CELL))

    def test_round_ones_of_many_parts_hold(self):
        wall = 0.4 * CELL
        liquid, room = vessel(Ball(radius=0.5, matter="hollow", wall=wall), (1, 1, 0.2), (0, 0, 0), 0.65)
        go_on(liquid, 1.0)
        self.assertEqual(outside(liquid, room, wall), 0)
        self.assertLess(abs(liquid.gauges()["volume_drift"]), 1e-2)

    def test_on_both_sides_of_a_sheet_of_steel_each_level_is_kept(self):
        sheet = Boundary(bodies([generators.box_between((0.52, -1, -1), (0.53, 2, 3))]))
        liquid = LiquidSolver(
            LiquidSettings(cell_size=CELL, low=(0, 0, 0), high=(1, 0.5, 1.25), particle_depth=None),
            (0, 0, -G),
            boundaries=[sheet],
        )
        liquid.pool(0.8, (0.25, 0.25, 0.1))
        self.assertLess(liquid.position[:, 0].max() * CELL, 0.52)
        liquid.pool(0.3, (0.75, 0.25, 0.1))
        left = liquid.position[:, 0] * CELL < 0.525
        count = left.sum(), (~left).sum()
        go_on(liquid, 1.0)
        left = liquid.position[:, 0] * CELL < 0.525
        self.assertEqual((left.sum(), (~left).sum()), count)
        for side, level in ((left, 0.8), (~left, 0.3)):
            top = np.percentile(liquid.position[side, 2] * CELL, 99.5)
            self.assertAlmostEqual(top, level, delta=0.5 * CELL)

    def test_only_what_is_wet_is_solved(self):
        shape = Box(width=0.6, depth=0.6, height=0.6, matter="hollow", wall=0.03)
        small, room = vessel(shape, (0.6, 0.6, 0.2), (0, 0, 0), 0.5)
        large, _ = vessel(shape, (0.6, 0.6, 0.2), (0, 0, 0), 0.5, low=(-2, -2, -2), high=(5, 5, 4))
        for liquid in (small, large):
            go_on(liquid, 0.25)
        self.assertEqual(outside(large, room), 0)
        self.assertLess(np.prod(large.shape), 0.06 * np.prod(large.domain))
        self.assertAlmostEqual(large.volume(), small.volume(), delta=1e-2 * small.volume())
        # frames tell of all of the domain
        frame = large.frame()
        self.assertEqual(frame["phi"].shape, large.domain)
        wet = np.argwhere(frame["phi"] < 0) * CELL + np.array((-2, -2, -2))
        self.assertTrue((wet > 0.1).all() and (wet < 1.1).all())
        # and it goes on from a state in the same place
        again, _ = vessel(shape, (0.6, 0.6, 0.2), (0, 0, 0), 0.5, low=(-2, -2, -2), high=(5, 5, 4))
        again.restore(large.snapshot())
        for liquid in (large, again):
            liquid.step(DT)
        np.testing.assert_array_equal(again.position, large.position)
        np.testing.assert_array_equal(again.phi, large.phi)


class Carried(unittest.TestCase):
    def test_a_driven_one_takes_its_liquid_along_as_it_turns_over(self):
        shape = Box(width=0.8, depth=0.5, height=0.6, matter="hollow", wall=0.02)
        liquid, _ = vessel(shape, (1, 1, 0.6), (0, 0, 0), 0.9)
        walls, first = liquid.walls.boundaries[0], len(liquid.position)
        middle = np.array([1, 1, 0.9])

        def pose(time):
            turn = rotation.from_degrees((0, 200 * time, 0))
            away = np.array([0.3 * np.sin(4 * time), 0, 0])
            place = middle + away + (walls.fragments.centre - middle) @ rotation.matrix(turn).T
            return {"position": place, "orientation": np.tile(turn, (len(walls), 1))}

        for _ in range(24):
            walls.update(pose(liquid.time), pose(liquid.time + DT), liquid.time, DT)
            end = liquid.time + DT
            while liquid.time < end - 1e-9:
                liquid.step(min(liquid.stable_dt(), end - liquid.time))
        turn, places = rotation.matrix(rotation.from_degrees((0, 200, 0))), liquid.origin + CELL * liquid.position
        own = (places - middle - [0.3 * np.sin(4), 0, 0]) @ turn
        self.assertEqual(len(own), first)
        self.assertTrue((np.abs(own) < np.array([0.39, 0.24, 0.29])).all())
        # ten cells across and thrown about
        self.assertLess(abs(liquid.gauges()["volume_drift"]), 0.15)

    def test_one_that_sets_off_at_once_leaves_nothing_behind(self):
        # it goes on by nearly two cells while its liquid stands still
        liquid, _ = vessel(Drum(radius=0.4, height=0.6, matter="hollow", wall=0.02), (0.6, 1, 0.6), (0, 0, 0), 0.9)
        walls, middle = liquid.walls.boundaries[0], np.array([0.6, 1, 0.9])

        def pose(time):
            turn = rotation.from_degrees((0, 240 * time, 0))
            place = middle + [2.5 * time, 0, 0] + (walls.fragments.centre - middle) @ rotation.matrix(turn).T
            return {"position": place, "orientation": np.tile(turn, (len(walls), 1))}

        for _ in range(5):
            walls.update(pose(liquid.time), pose(liquid.time + DT), liquid.time, DT)
            end = liquid.time + DT
            while liquid.time < end - 1e-9:
                liquid.step(min(liquid.stable_dt(), end - liquid.time))
        turn = rotation.matrix(rotation.from_degrees((0, 240 * liquid.time, 0)))
        own = (liquid.origin + CELL * liquid.position - middle - [2.5 * liquid.time, 0, 0]) @ turn
        self.assertLess(np.hypot(own[:, 0], own[:, 1]).max(), 0.4)
        self.assertLess(np.abs(own[:, 2]).max(), 0.3)

    def test_one_that_tumbles_and_hits_the_floor_keeps_all_its_liquid(self):
        # two thirds full, of sheet steel a tenth of a cell thick; it comes down on the rim of side and end
        shape, at, turn = Drum(radius=0.3, height=0.8, matter="hollow", wall=0.005), (1.5, 1.5, 0.6), (60, 15, 0)
        steel = put([m for m, _ in parts(shape)], at, turn)
        meshes, n = [*steel, generators.box_between((-1, -1, -0.3), (4, 4, 0.0))], len(steel)
        whole = np.array([0] * n + [1])
        rigid = solver(meshes, settings=APART, gravity=(0, 0, -G), density=7850.0, whole=whole, fixed=[n])
        b, way, spin = rigid.bodies, (2.0, 0.0, -2.0), (4.0, 3.0, 0.0)
        b.velocity[:n] = way + np.cross(spin, b.position[:n] - b.position[:n].mean(axis=0))
        b.spin[:n] = spin
        fragments = assemble(
            [Solid(0, m, np.zeros(len(m.triangles), bool), part=k, whole=whole[k]) for k, m in enumerate(meshes)]
        )
        patches = together(find_patches(fragments, 1e-3), ties(fragments, whole))
        parting = Parting(Boundary(fragments), patches, np.zeros(0, np.int64))
        room = Boundary(bodies(put(rooms(shape), at, turn)))
        settings = LiquidSettings(cell_size=CELL, low=(0, 0, -0.1), high=(3, 3, 1.8))
        liquid = LiquidSolver(settings, (0, 0, -G), boundaries=[parting.boundary])
        liquid.fill(lambda x: np.maximum(room.distance(x, 0.0), x[:, 2] - 0.9))
        start, stood, first = amount(liquid), b.position[0].copy(), b.rotation[0].copy()
        between = exchange(rigid, liquid, {id(rigid): [parting], id(liquid): []}, 1.0, 1.0)
        group = Group([Member("fall", rigid, [parting]), Member("flood", liquid, [])], [("flood", between)])

        def out():
            places = liquid.origin + liquid.cell * liquid.position.astype(float)
            within = (places - b.position[0]) @ b.rotation[0] @ first.T + stood
            return int((room.distance(within, 0.0) > 0.5 * 0.005 + 0.02 * CELL).sum())

        self.assertEqual(max(advance(group, 18, 1 / 24, out)), 0)
        self.assertEqual(amount(liquid), start)
        # it has come down and lies
        self.assertLess(float(np.abs(b.spin[0]).max()), 2.0)

    def test_an_empty_one_floats_as_deep_as_it_weighs(self):
        for wall, turn in ((0.02, (0, 0, 0)), (0.05, (0, 6, 0))):
            shape = Box(width=1.0, depth=1.0, height=0.6, matter="hollow", wall=wall)
            meshes, whole = put([m for m, _ in parts(shape)], (1.01, 1.0, 0.704), turn), np.zeros(6, np.int64)
            density = 0.5 * 0.6 * DENSITY / sum(volumes(shape))
            rigid = solver(meshes, settings=APART, gravity=(0, 0, -G), density=density, whole=whole)
            fragments = bodies(meshes, 0)
            patches = together(find_patches(fragments, 1e-3), ties(fragments, whole))
            parting = Parting(Boundary(fragments), patches, np.zeros(0, np.int64))
            liquid = LiquidSolver(
                LiquidSettings(cell_size=CELL, low=(0, 0, 0), high=(2, 2, 1.75)),
                (0, 0, -G),
                boundaries=[parting.boundary],
            )
            liquid.pool(1.0, (0.1, 0.1, 0.1))
            between = exchange(rigid, liquid, {id(rigid): [parting], id(liquid): []}, 1.0, 1.0)
            group = Group([Member("fall", rigid, [parting]), Member("flood", liquid, [])], [("flood", between)])
            mass = rigid.bodies.mass / rigid.bodies.mass.sum()
            seen = advance(group, 72, watch=lambda r=rigid, m=mass: r.bodies.position[:, 2] @ m)
            level = (amount(liquid) / 8 * CELL**3 + 0.3) / 4
            # over two of its swings
            self.assertAlmostEqual(level - (np.mean(seen[24:]) - 0.3), 0.3, delta=0.12 * CELL)
            self.assertLess(liquid.momentum_lost(), 1e-8)
