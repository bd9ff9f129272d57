"""Meshes, mass properties, hulls, generators."""

import unittest

import numpy as np
import trimesh
from scipy.spatial.transform import Rotation

from urst.core.geometry import generators, rotation
from urst.core.geometry.convex import hull_of, pack
from urst.core.geometry.mesh import Mesh, mass_properties, open_edges, transformed
from urst.core.geometry.surface import shading
from urst.errors import BadMesh

SHAPES = {
    "box": generators.box(1.0, 2.0, 3.0)[0],
    "drum": generators.prism(0.3, 0.9, 14)[0],
    "ball": generators.ball(0.5, 8)[0],
}


class Throttle(unittest.TestCase):
    def test_products_and_turned_vectors_are_scipy_s(self):
        rng = np.random.default_rng(3)
        a, b, v = rng.normal(size=(5, 4)), rng.normal(size=(5, 4)), rng.normal(size=(5, 3))
        a, b = (q / np.linalg.norm(q, axis=1, keepdims=True) for q in (a, b))
        whole = rotation.turns(a) * rotation.turns(b)
        np.testing.assert_allclose(rotation.matrix(rotation.product(a, b)), whole.as_matrix(), atol=1e-12)
        np.testing.assert_allclose(rotation.turned(a, v), rotation.turns(a).apply(v), atol=1e-12)
        np.testing.assert_allclose(rotation.turned(rotation.inverse(a), rotation.turned(a, v)), v, atol=1e-12)

    def test_the_way_between_two_turns_is_the_shorter_arc(self):
        start, end = rotation.from_degrees((0, 0, 10)), -rotation.from_degrees((0, 0, 50))
        for fraction in (0.0, 0.25, 1.0):
            expected = rotation.matrix(rotation.from_degrees((0, 0, 10 + 40 * fraction)))
            np.testing.assert_allclose(rotation.matrix(rotation.between(start, end, fraction)), expected, atol=1e-12)
        np.testing.assert_allclose(rotation.between(start, start, 0.5), start)


class MassProperties(unittest.TestCase):
    def test_box_by_formula(self):
        found = mass_properties(SHAPES["box"])
        self.assertAlmostEqual(found.volume, 6.0, places=12)
        np.testing.assert_allclose(found.centroid, [0, 0, 1.5], atol=1e-12)
        np.testing.assert_allclose(
            np.diag(found.inertia), [6 * (4 + 9) / 12, 6 * (1 + 9) / 12, 6 * (1 + 4) / 12], rtol=1e-12
        )

    def test_agrees_with_a_general_mesh_library(self):
        for name, mesh in SHAPES.items():
            other = trimesh.Trimesh(mesh.vertices, mesh.triangles, process=False)
            found = mass_properties(mesh)
            self.assertAlmostEqual(found.volume, other.volume, places=10, msg=name)
            np.testing.assert_allclose(found.inertia, other.moment_inertia, rtol=1e-9, atol=1e-12, err_msg=name)

    def test_turning_the_mesh_turns_the_tensor(self):
        turn = Rotation.from_euler("xyz", [0.3, 1.1, -0.7]).as_matrix()
        before = mass_properties(SHAPES["drum"])
        after = mass_properties(transformed(SHAPES["drum"], turn, np.array([5.0, -2.0, 1.0])))
        np.testing.assert_allclose(after.inertia, turn @ before.inertia @ turn.T, atol=1e-12)

    def test_far_from_the_origin_nothing_is_lost(self):
        far = transformed(SHAPES["box"], np.eye(3), np.array([1e5, 1e5, 0.0]))
        np.testing.assert_allclose(
            mass_properties(far).inertia, mass_properties(SHAPES["box"]).inertia, rtol=1e-8, atol=1e-8
        )

    def test_a_flat_mesh_is_refused_in_words(self):
        flat = Mesh(np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0]], float), np.array([[0, 1, 2], [0, 2, 1]]))
        with self.assertRaisesRegex(BadMesh, "positive volume: give it thickness"):
            mass_properties(flat)


class Closedness(unittest.TestCase):
    def test_generators_are_closed(self):
        for mesh in [*SHAPES.values(), *generators.brick_wall(2, 0.2, 1, 0.4, 0.2)]:
            self.assertEqual(len(open_edges(mesh)), 0)
            self.assertGreater(mass_properties(mesh).volume, 0)

    def test_a_missing_triangle_opens_three_edges(self):
        box = SHAPES["box"]
        self.assertEqual(len(open_edges(Mesh(box.vertices, box.triangles[1:]))), 3)

    def test_a_turned_triangle_is_noticed(self):
        box = SHAPES["box"]
        turned = box.triangles.copy()
        turned[0] = turned[0][::-1]
        self.assertGreater(len(open_edges(Mesh(box.vertices, turned))), 0)


class Walls(unittest.TestCase):
    def test_bricks_fill_the_wall(self):
        bricks = generators.brick_wall(3.0, 0.25, 2.0, 0.5, 0.25)
        self.assertAlmostEqual(sum(mass_properties(b).volume for b in bricks), 1.5, places=10)
        self.assertEqual(len(bricks), 4 * 6 + 4 * 7)

    def test_joints_of_neighbouring_courses_do_not_line_up(self):
        bricks = generators.brick_wall(2.0, 0.25, 0.5, 0.5, 0.25)
        low = {round(float(b.vertices[:, 0].min()), 6) for b in bricks if b.vertices[:, 2].min() < 0.1}
        high = {round(float(b.vertices[:, 0].min()), 6) for b in bricks if b.vertices[:, 2].min() > 0.1}
        self.assertEqual(low & high, {-1.0})


class Hulls(unittest.TestCase):
    def test_faces_of_a_box_are_whole(self):
        hull = hull_of(SHAPES["box"].vertices)
        self.assertEqual(sorted(len(p) for p in hull.loops), [4] * 6)
        self.assertAlmostEqual(mass_properties(hull.mesh()).volume, 6.0, places=10)

    def test_euler_s_formula_holds_in_the_packed_form(self):
        packed = pack([hull_of(m.vertices) for m in SHAPES.values()])
        v, f, e = (np.diff(s) for s in (packed.vertex_start, packed.face_start, packed.edge_start))
        np.testing.assert_array_equal(v - e + f, 2)

    def test_points_in_a_plane_are_refused_in_words(self):
        with self.assertRaisesRegex(BadMesh, "span no volume"):
            hull_of(np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0], [1, 1, 0]], float))


class Shading(unittest.TestCase):
    def shading(self, mesh, inner=None):
        t = len(mesh.triangles)
        return shading(mesh.vertices[mesh.triangles], np.zeros(t, int), np.zeros(t) if inner is None else inner)

    def test_a_box_creases_at_its_edges_and_not_across_its_faces(self):
        normals, crease = self.shading(generators.box(1, 2, 3)[0])
        self.assertEqual(crease.sum(), 2 * 12)
        self.assertTrue((crease.sum(axis=1) == 2).all())
        np.testing.assert_allclose(np.abs(normals).max(axis=2), 1.0)

    def test_a_ball_is_smooth_and_its_normals_point_away_from_its_middle(self):
        ball = generators.ball(0.5, 12)[0]
        normals, crease = self.shading(ball)
        self.assertEqual(crease.sum(), 0)
        away = (ball.vertices - [0, 0, 0.5])[ball.triangles] / 0.5
        self.assertGreater((normals * away).sum(axis=2).min(), 0.995)

    def test_crack_faces_stay_flat_and_make_no_crease(self):
        box = generators.box(1, 1, 1)[0]
        inner = (box.vertices[box.triangles].mean(axis=1)[:, 2] > 0.99).astype(np.uint8)
        _, crease = self.shading(box, inner)
        self.assertEqual(crease[inner == 1].sum(), 0)
        self.assertEqual(crease.sum(), 2 * 12 - 4 - 4)

    def test_surfaces_that_touch_do_not_mix(self):
        box = generators.box(1, 1, 1)[0].vertices[generators.box(1, 1, 1)[0].triangles]
        two = np.concatenate([box, box + [1, 0, 0]])
        _, crease = shading(two, np.repeat([0, 1], 12), np.zeros(24))
        self.assertEqual(crease.sum(), 2 * 24)


if __name__ == "__main__":
    unittest.main()
