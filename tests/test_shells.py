"""Hollow pieces and voids: their walls, what they weigh, the room within."""

import unittest

import manifold3d
import numpy as np

from urst.core.fracture.breaking import break_pieces
from urst.core.fracture.settings import FractureSettings
from urst.core.geometry import generators, shell
from urst.core.geometry.mesh import Mesh, mass_properties, open_edges
from urst.errors import BadMesh
from urst.scene.shapes import Ball, Box, Drum, displaced, is_hollow, meshes, no_room, parts, room, rooms, volumes


def volume(mesh):
    return mass_properties(mesh).volume


def mesh_of(body):
    raw = body.to_mesh64()
    return Mesh(np.asarray(raw.vert_properties)[:, :3].astype(float), np.asarray(raw.tri_verts).astype(np.int64))


class Shells(unittest.TestCase):
    def test_a_wall_has_its_thickness_on_the_side_it_grows_to(self):
        for grows, outer, inner in (("inward", 1.0, 0.8), ("outward", 1.2, 1.0), ("both ways", 1.1, 0.9)):
            shape = Box(matter="hollow", wall=0.1, grows=grows)
            self.assertAlmostEqual(displaced(shape), outer**3, places=9)
            self.assertAlmostEqual(room(shape), inner**3, places=9)
            self.assertAlmostEqual(volumes(shape)[0], outer**3 - inner**3, places=9)
            self.assertEqual(len(open_edges(meshes(shape)[0])), 0)

    def test_its_parts_are_convex_and_together_the_wall(self):
        for shape in (
            Drum(matter="hollow", wall=0.02),
            Drum(matter="hollow", wall=0.02, sides=120),
            Ball(matter="hollow", wall=0.05),
            Box(matter="void", wall=0.2),
        ):
            found = [m for m, _ in parts(shape)]
            self.assertAlmostEqual(sum(volume(m) for m in found), sum(volumes(shape)), places=9)
            self.assertTrue(all(shell.is_convex(m) for m in found))
            self.assertAlmostEqual(sum(volume(m) for m in rooms(shape)), room(shape), places=6)

    def test_a_void_is_a_block_about_its_surface(self):
        shape = Ball(radius=0.5, matter="void", wall=0.1)
        inner = volume(generators.ball(0.5, 6)[0])
        low, high = generators.ball(0.5, 6)[0].bounds()
        self.assertAlmostEqual(volumes(shape)[0], float(np.prod(high - low + 0.2)) - inner, places=9)
        self.assertAlmostEqual(room(shape), inner, places=9)

    def test_a_bent_one_has_a_wall_along_all_its_faces(self):
        bent = mesh_of(manifold3d.Manifold.cube((2, 1, 1)) + manifold3d.Manifold.cube((1, 1, 3)))
        inner = shell.moved_in(bent, 0.1)
        # 1.8 x 0.8 x 0.8 and 0.8 x 0.8 x 2 above it
        self.assertAlmostEqual(volume(inner), 1.8 * 0.64 + 0.64 * 2.0, places=9)
        walls = shell.wall_parts(bent, inner)
        self.assertAlmostEqual(sum(volume(m) for m in walls), volume(bent) - volume(inner), delta=0.03 * 1.57)
        self.assertTrue(all(shell.is_convex(m) for m in walls))

    def test_a_wall_too_thick_is_told_with_what_would_do(self):
        with self.assertRaisesRegex(BadMesh, "leaves no room where this shape is narrow: use at most"):
            Box(matter="hollow", wall=0.6).walls()
        shape = Box(matter="hollow", wall=0.6)
        self.assertIn("no room", no_room(shape))
        # it is solid until that is mended
        self.assertEqual(volumes(shape), (1.0,))
        self.assertTrue(is_hollow(shape))
        self.assertEqual(len(parts(shape)), 1)
        half_open = Mesh(*(lambda m: (m.vertices, m.triangles[:-2]))(generators.box(1, 1, 1)[0]))
        with self.assertRaisesRegex(BadMesh, "not a sound solid"):
            shell.moved_in(half_open, 0.1)

    def test_what_is_hollow_breaks_into_pieces_of_its_wall(self):
        drum = Drum(radius=0.5, height=1.0, matter="hollow", wall=0.05)
        for count in (1, 12):
            broken = break_pieces([(0, list(meshes(drum)))], FractureSettings(count=count, seed=2))
            self.assertAlmostEqual(float(broken.fragments.volume.sum()), volumes(drum)[0], delta=1e-6)
            # nothing fills the room
            h = broken.fragments.world_hulls()
            inside = [
                (h.planes[a:b, 3] > h.planes[a:b, :3] @ [0, 0, 0.5]).all()
                for a, b in zip(h.face_start[:-1], h.face_start[1:])
            ]
            self.assertFalse(any(inside))
