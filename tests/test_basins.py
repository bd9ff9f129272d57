"""Water in what is turned, bent or of several parts: it is still, none is lost, and it has the room that there is."""

import unittest

import manifold3d
import numpy as np
from scipy.ndimage import map_coordinates

from tests.test_liquid import G, amount, box, run, speeds
from tests.test_vessels import CELL, bodies, put, vessel
from urst.core.bodies.boundary import Boundary
from urst.core.bodies.fragments import Solid, assemble
from urst.core.fracture.convex_parts import convex_parts
from urst.core.geometry import rotation
from urst.core.geometry.mesh import Mesh, transformed
from urst.core.liquid.settings import PARTICLES, LiquidSettings
from urst.core.liquid.solver import LiquidSolver
from urst.core.solids.mesh_field import mesh_fields
from urst.scene.shapes import Box, Drum, Imported, close_parts, parts, rooms

#: where basins stand, and how high water stands over that [m]
AT, LEVEL = np.array([1.1, 1.1, 0.3]), 0.75


def rms(solver):
    """Of the particles' speeds, in the speed that a cell's height gives."""
    return np.sqrt((speeds(solver) ** 2).mean())


def mesh_of(manifold):
    raw = manifold.to_mesh64()
    return Mesh(np.asarray(raw.vert_properties)[:, :3].astype(float), np.asarray(raw.tri_verts).astype(np.int64))


def basin(hollow, turn):
    """A block with a hollow, turned, as its convex parts; and how much water it holds up to LEVEL [m3]."""
    block = manifold3d.Manifold.cube((1.8, 1.8, 0.9), True).translate((0, 0, 0.45)) - hollow
    matrix = rotation.matrix(rotation.from_degrees(np.array(turn, float)))
    found = assemble(
        [
            Solid(0, transformed(m, matrix, AT), inner, part=k, whole=0)
            for k, (m, inner) in enumerate(convex_parts(mesh_of(block)))
        ]
    )
    room = hollow.transform(np.column_stack([matrix, AT]))
    return Boundary(found), room.trim_by_plane((0, 0, -1), -(AT[2] + LEVEL)).volume()


def bowl():
    return manifold3d.Manifold.sphere(0.6, 64).translate((0, 0, 0.9))


def trough():
    return manifold3d.Manifold.cylinder(1.4, 0.5, 0.5, 64).rotate((90, 0, 0)).translate((0, 0.7, 0.9))


class Turned(unittest.TestCase):
    def test_water_is_still_in_vessels_turned_about_two_axes(self):
        for shape, turn in (
            (Box(width=1, depth=1, height=1, matter="hollow", wall=3 * CELL), (15, 20, 0)),
            (Box(width=1, depth=1, height=1, matter="hollow", wall=3 * CELL), (0, 0, 30)),
            (Drum(radius=0.5, height=1.2, matter="hollow", wall=2.5 * CELL), (12, 20, 0)),
            (Box(width=1, depth=1, height=1, matter="hollow", wall=CELL), (15, 20, 0)),
        ):
            liquid, room = vessel(shape, (1.02, 1.01, 0.2), turn, 0.65)
            before = amount(liquid)
            run(liquid, 3.0)
            with self.subTest(shape=shape.kind, turn=turn):
                # 1e-3 once it has come to rest from how it was filled
                self.assertLess(rms(liquid), 1.2e-2)
                self.assertEqual(amount(liquid), before)
                self.assertLess(abs(liquid.gauges()["volume_drift"]), 2e-3)
                places = liquid.origin + CELL * liquid.position.astype(float)
                self.assertLess(room.distance(places, 0.0).max(), 0.1 * CELL)

    def test_seams_between_convex_parts_are_closed_throughout(self):
        for shape, solid in (
            (Box(width=1, depth=1, height=1, matter="hollow", wall=3 * CELL), Box(width=1, depth=1, height=1)),
            (Drum(radius=0.5, height=1.2, matter="hollow", wall=2.5 * CELL), Drum(radius=0.5, height=1.2)),
        ):
            at, turn = (1.02, 1.01, 0.3), (15, 20, 0)
            liquid, room = vessel(shape, at, turn, 0.65)
            outer = Boundary(bodies(put([m for m, _ in parts(solid)], at, turn)))
            places = np.random.default_rng(3).random((200_000, 3)) * [2, 2, 1.7]
            deep = (room.distance(places, 0.0) > 0.5 * CELL) & (outer.distance(places, 0.0) < -0.5 * CELL)
            found = map_coordinates(liquid.walls.distance, 2.0 * places[deep].T / CELL - 0.5, order=1)
            self.assertGreater(deep.sum(), 5000)
            self.assertLess(found.max(), -0.1, shape.kind)

    def test_as_many_particles_begin_as_there_is_room_for(self):
        for turn in ((0, 0, 0), (15, 20, 0), (40, 0, 10)):
            shape = Box(width=1.2, depth=1.2, height=1, matter="hollow", wall=3 * CELL)
            liquid, _ = vessel(shape, (1.02, 1.01, 0.4), turn, 0.9)
            held = amount(liquid) / PARTICLES * CELL**3
            below = [manifold_of(m).trim_by_plane((0, 0, -1), -0.9) for m in put(rooms(shape), (1.02, 1.01, 0.4), turn)]
            self.assertAlmostEqual(held / sum(m.volume() for m in below), 1.0, delta=0.01)


def manifold_of(mesh):
    return manifold3d.Manifold(manifold3d.Mesh64(mesh.vertices, mesh.triangles.astype(np.uint64)))


class Basins(unittest.TestCase):
    def test_water_has_the_room_that_a_mesh_leaves_it_and_is_still(self):
        for hollow, turn in ((bowl(), (0, 0, 0)), (bowl(), (8, 6, 0)), (trough(), (0, 5, 20))):
            walls, room = basin(hollow, turn)
            liquid = LiquidSolver(
                LiquidSettings(cell_size=CELL, low=(0, 0, 0), high=(2.25, 2.25, 1.75)), (0, 0, -G), boundaries=[walls]
            )
            liquid.pool(AT[2] + LEVEL, tuple(AT + [0.0, 0.0, 0.6]))
            with self.subTest(turn=turn):
                self.assertAlmostEqual(amount(liquid) / PARTICLES * CELL**3 / room, 1.0, delta=0.01)
                run(liquid, 2.0)
                self.assertLess(rms(liquid), 8e-3)
                self.assertAlmostEqual(liquid.volume() / room, 1.0, delta=0.01)

    def test_a_thin_bowl_that_only_holds_water_leaves_it_nearly_its_room(self):
        ball = manifold3d.Manifold.sphere(0.6, 64)
        shell = (manifold3d.Manifold.sphere(0.6 + 0.5 * CELL, 64) - ball).trim_by_plane((0, 0, -1), 0)
        found = close_parts(Imported.from_mesh(mesh_of(shell)))
        middle = AT + [0.0, 0.0, 0.9]
        walls = assemble(
            [Solid(0, transformed(m, np.eye(3), middle), inner, part=k, whole=0) for k, (m, inner) in enumerate(found)]
        )
        liquid = LiquidSolver(
            LiquidSettings(cell_size=CELL, low=(0, 0, 0), high=(2.25, 2.25, 1.75)),
            (0, 0, -G),
            boundaries=[Boundary(walls)],
        )
        liquid.pool(AT[2] + LEVEL, tuple(AT + [0.0, 0.0, LEVEL - CELL]))
        room = ball.translate(middle).trim_by_plane((0, 0, -1), -(AT[2] + LEVEL)).volume()
        # 14 % short as it collides
        self.assertAlmostEqual(amount(liquid) / PARTICLES * CELL**3 / room, 1.0, delta=0.04)
        run(liquid, 0.5)
        away = np.linalg.norm(liquid.origin + CELL * liquid.position - middle, axis=1)
        self.assertLess(away.max(), 0.6 + 0.25 * CELL)

    def test_the_distance_from_a_mesh_is_that_of_its_surface(self):
        walls, _ = basin(bowl(), (8, 6, 0))
        fields = mesh_fields(walls.fragments, CELL)
        self.assertEqual(len(fields), 1)
        matrix = rotation.matrix(rotation.from_degrees(np.array([8.0, 6.0, 0.0])))
        rng = np.random.default_rng(1)
        own = rng.random((4000, 3)) * [1.7, 1.7, 1.0] + [-0.85, -0.85, 0.0]
        block = np.abs(own - [0, 0, 0.45]) - [0.9, 0.9, 0.45]
        outside = np.linalg.norm(np.maximum(block, 0.0), axis=1) + np.minimum(block.max(axis=1), 0.0)
        exact = np.maximum(outside, 0.6 - np.linalg.norm(own - [0, 0, 0.9], axis=1))
        # beyond edges the greater of two is no distance, and the ball is of 64 sides
        near = (np.abs(exact) < 3.0 * CELL) & (own[:, 2] < 0.8)
        found = fields[0].at(own @ matrix.T + AT - walls.fragments.centre[fields[0].parts[0]])
        off = np.abs(found - exact)[near]
        self.assertGreater(near.sum(), 1000)
        self.assertLess(np.quantile(off, 0.95), 0.05 * CELL)
        self.assertTrue(((found < 0.0) == (exact < 0.0))[near & (np.abs(exact) > 0.1 * CELL)].all())

    def test_what_is_convex_or_broken_open_has_no_field(self):
        self.assertEqual(mesh_fields(bodies([box((0, 0, 0), (1, 1, 1))], 0), CELL), [])
        shell = Drum(radius=0.5, height=1.2, matter="hollow", wall=0.2)
        self.assertEqual(mesh_fields(bodies([m for m, _ in parts(shell)], 0), CELL), [])


class Deep(unittest.TestCase):
    def test_a_dam_breaks_in_a_tank_of_pieces_in_an_open_domain_without_loss(self):
        thick, inner, height = 3 * CELL, np.array([3.0, 1.0]), 3.0
        (x, y), w = inner, thick
        walls = Boundary(
            bodies(
                [
                    box((-w, -w, -w), (x + w, y + w, 0)),
                    box((-w, -w, 0), (0, y + w, height)),
                    box((x, -w, 0), (x + w, y + w, height)),
                    box((0, -w, 0), (x, 0, height)),
                    box((0, y, 0), (x, y + w, height)),
                ]
            )
        )
        # the tank's floor lies a cell above the domain's bottom, where particles are kept at all depths
        low, high = (-4 * CELL, -4 * CELL, -CELL), (x + 4 * CELL, y + 4 * CELL, 3.0)
        liquid = LiquidSolver(
            LiquidSettings(cell_size=CELL, low=low, high=high, sides="open"), (0, 0, -G), boundaries=[walls]
        )
        liquid.fill(lambda p: np.maximum(p - 1.0, -p).max(axis=1))
        self.assertGreater(liquid.band.unseen, 0.25 * amount(liquid))
        before = amount(liquid)
        seen = run(liquid, 1.25, lambda s: (s.gauges()["volume_drift"], s.gauges()["deep_mismatch"]))
        self.assertEqual(amount(liquid) + liquid.lost, before)
        drift, mismatch = np.abs(seen).max(axis=0)
        self.assertLess(drift, 0.02)
        self.assertLess(mismatch, 0.02)
