"""Kernels give what their plain references say, compiled and with the compiler off."""

import os
import subprocess
import sys
import unittest
from pathlib import Path

import numpy as np

from tests import naive
from urst.core import trilinear
from urst.core.air import AIR_DENSITY, AIR_VISCOSITY
from urst.core.debris import kernels as debris
from urst.core.debris.settings import CHIP
from urst.core.fields import sampled_kernels
from urst.core.fields.face_fields import FaceFields
from urst.core.gas import kernels as gas
from urst.core.geometry import generators
from urst.core.geometry.convex import hull_of, pack
from urst.core.jit import serial
from urst.core.liquid import flow_kernels, particle_kernels
from urst.core.skin import kernels as skin
from urst.core.solids import cell_kernels
from urst.core.solids.thin_kernels import ALL

SHAPE = (6, 5, 4)
FACES = [tuple(n + (a == axis) for a, n in enumerate(SHAPE)) for axis in range(3)]


@serial
def _sampled(field, places, out):
    for p in range(len(places)):
        out[p] = trilinear.held(field, places[p, 0], places[p, 1], places[p, 2])


@serial
def _between(field, places, out):
    for p in range(len(places)):
        out[p] = trilinear.in_cells(field, places[p, 0], places[p, 1], places[p, 2])


class Naive(unittest.TestCase):
    def setUp(self):
        self.rng = np.random.default_rng(3)

    def faces(self):
        return [self.rng.standard_normal(f).astype(np.float32) for f in FACES]

    def weights(self):
        return [np.where(self.rng.random(f) < 0.3, 0.0, self.rng.random(f)).astype(np.float32) for f in FACES]

    def test_fields_are_sampled_trilinearly_and_held_beyond_their_ends(self):
        field = self.rng.standard_normal(SHAPE).astype(np.float32)
        places = self.rng.uniform(-1.0, 7.0, (60, 3)).astype(np.float32)
        for kernel, offset in ((_sampled, 0.0), (_between, 0.5)):
            out = np.empty(len(places), np.float32)
            kernel(field, places, out)
            wanted = [naive.trilinear(field, p.astype(float) - offset) for p in places]
            np.testing.assert_allclose(out, wanted, atol=5e-6)

    def test_points_sample_and_deposit_with_the_same_hats(self):
        points, reach = self.rng.uniform(0.3, 3.0, (12, 3)), self.rng.uniform(1.0, 2.5, 12)
        origin, cell, amount = np.array([-0.2, 0.1, 0.0]), 0.7, self.rng.standard_normal(12)
        about = sampled_kernels.About(points, reach, origin, cell)
        for axis in range(3):
            u, open_ = self.faces()[axis], self.weights()[axis]
            sampled, response = np.zeros((12, 3)), np.zeros((12, 3))
            sampled_kernels.sample(u, open_, axis, about, sampled, response)
            held, wanted = np.zeros(u.shape), np.zeros(u.shape)
            sampled_kernels.deposit(held, open_, axis, about, amount)
            for p in range(12):
                at = (points[p] - origin) / cell - np.where(np.arange(3) == axis, 0.0, 0.5)
                weight = naive.hat_weights(u.shape, at, reach[p], open_)
                self.assertAlmostEqual(sampled[p, axis], float((weight * u).sum()), places=6)
                self.assertAlmostEqual(response[p, axis], float((weight**2).sum()), places=6)
                wanted += amount[p] * weight
            np.testing.assert_allclose(held, wanted, atol=1e-7)

    def test_particles_go_to_the_faces_with_their_velocity_and_its_gradient(self):
        n = 40
        position = self.rng.uniform(0.05, np.array(SHAPE) - 0.05, (n, 3)).astype(np.float32)
        velocity = self.rng.standard_normal((n, 3)).astype(np.float32)
        affine = self.rng.standard_normal((n, 3, 3)).astype(np.float32)
        start, order = np.zeros(int(np.prod(SHAPE)) + 1, np.int64), np.empty(n, np.int64)
        particle_kernels.sort(position, SHAPE, start, order)
        particles = particle_kernels.Particles(position[order], velocity[order], affine[order])
        cell = np.floor(particles.position).astype(int)
        owner = np.ravel_multi_index(tuple(cell.T), SHAPE).astype(np.int32)
        cell_list = particle_kernels.CellList(start, owner, np.full(SHAPE, ALL, np.uint32))
        mass = FaceFields(*(np.zeros(f, np.float32) for f in FACES))
        momentum = FaceFields(*(np.zeros(f, np.float32) for f in FACES))
        particle_kernels.scatter(particles, cell_list, mass, momentum)
        for axis in range(3):
            wanted = naive.scatter(*(a.astype(float) for a in particles), axis, FACES[axis])
            np.testing.assert_allclose(mass[axis], wanted[0], atol=2e-5)
            np.testing.assert_allclose(momentum[axis], wanted[1], atol=5e-5)

    def test_what_flows_out_of_a_cell_goes_through_open_faces_and_with_walls(self):
        velocity, weights, walls = self.faces(), self.weights(), self.faces()
        phi, out = np.full(SHAPE, -1.0, np.float32), np.empty(SHAPE, np.float32)
        phi[2, 2, 2] = 1.0
        source = self.rng.standard_normal(SHAPE).astype(np.float32)
        flow_kernels.outflow(*(FaceFields(*f) for f in (velocity, weights, walls)), phi, np.float32(0.1), source, out)
        wanted = source - naive.outflow(velocity, weights, walls)
        wanted[2, 2, 2] = 0.0
        np.testing.assert_allclose(out, wanted, atol=1e-5)

    def test_a_body_takes_the_cells_whose_middles_it_holds_and_pressure_pushes_open_faces(self):
        mesh = generators.ball(1.6, 10)[0]
        hulls = pack([hull_of(mesh.vertices + np.array([3.0, 2.4, 2.1]))])
        low, high = hulls.vertices.min(axis=0)[None], hulls.vertices.max(axis=0)[None]
        solid = np.full(SHAPE, cell_kernels.NONE, np.int32)
        cell_kernels.rasterise(hulls, low, high, 5, np.zeros(3), 1.0, solid)
        middles = np.argwhere(np.ones(SHAPE)) + 0.5
        wanted = np.where(naive.inside(hulls.planes, middles), 5, cell_kernels.NONE).reshape(SHAPE)
        np.testing.assert_array_equal(solid, wanted)
        self.assertGreater((solid == 5).sum(), 5)
        pressure, weights = self.rng.standard_normal(SHAPE).astype(np.float32), self.weights()
        for axis, u in enumerate(self.faces()):
            before = u.copy()
            cell_kernels.subtract_gradient(u, weights[axis], pressure, axis)
            np.testing.assert_allclose(u, before - naive.pressure_gradient(weights[axis], pressure, axis), atol=1e-5)

    def test_diffusion_along_lines(self):
        field, weight = self.rng.random(SHAPE).astype(np.float32), self.weights()[2]
        is_open, before = np.ones(SHAPE, bool), field.copy()
        is_open[1, 1, 2] = False
        gas.diffuse(field, weight, is_open, np.float32(0.7))
        for i, j in np.ndindex(SHAPE[:2]):
            passes = weight[i, j, 1:-1] * is_open[i, j, :-1] * is_open[i, j, 1:]
            np.testing.assert_allclose(field[i, j], naive.diffused(before[i, j].astype(float), passes, 0.7), atol=1e-6)

    def test_chips_fall_with_the_drag_of_spheres(self):
        n, gravity = 9, np.array([0.0, 0.0, -9.81])
        position, velocity = self.rng.standard_normal((n, 3)), 5.0 * self.rng.standard_normal((n, 3))
        size = self.rng.uniform(1e-3, 0.05, n)
        points = debris.Points(
            position.copy(), velocity.copy(), size, np.zeros(n), np.full(n, CHIP, np.uint8), np.zeros(n, np.uint8)
        )
        debris.fly(points.position, points.velocity, points, gravity, 1900.0, 0.01)
        wanted = naive.fly(
            position, velocity, size, 1900.0, gravity, 0.01, air_density=AIR_DENSITY, air_viscosity=AIR_VISCOSITY
        )
        np.testing.assert_allclose(points.position, wanted[0], rtol=1e-12)
        np.testing.assert_allclose(points.velocity, wanted[1], rtol=1e-12)

    def test_a_surface_encloses_the_cells_below_its_level(self):
        distance, out = self.rng.standard_normal(SHAPE).astype(np.float32), np.empty(SHAPE[0])
        skin.volume(distance, np.float32(0.2), 1.5, out)
        self.assertAlmostEqual(out.sum(), naive.volume_below(distance.astype(float), 0.2, 1.5), places=5)


class WithoutCompiler(unittest.TestCase):
    def test_kernels_mean_the_same_uncompiled(self):
        env = os.environ | {"NUMBA_DISABLE_JIT": "1"}
        words = [sys.executable, "-m", "unittest", "tests.test_naive.Naive"]
        done = subprocess.run(words, cwd=Path(__file__).parent.parent, env=env, capture_output=True, text=True)
        self.assertEqual(done.returncode, 0, done.stderr[-3000:])


if __name__ == "__main__":
    unittest.main()
