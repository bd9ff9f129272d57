"""The surface of a liquid: closed, where the liquid is, of its volume."""

import unittest

import numpy as np
import trimesh

from urst.core.fields.liquid_frame import LiquidFrame
from urst.core.skin.settings import SkinSettings
from urst.core.skin.skinner import Skinner
from urst.errors import BadValue

CELL = 0.1


def grid(shape):
    """Middles of cells [cells]."""
    return np.stack(np.meshgrid(*(np.arange(n) + 0.5 for n in shape), indexing="ij"), axis=-1)


def particles(inside, shape, seed=0):
    """Eight a cell where a distance is negative [m], and their velocities."""
    corner = np.stack(np.meshgrid(*(np.arange(2 * n) for n in shape), indexing="ij"), axis=-1).reshape(-1, 3)
    places = (corner + np.random.default_rng(seed).random(corner.shape)) / 2
    places = places[inside(places) < 0.0]
    return CELL * places


def liquid(inside, shape, walls=None, more=(), velocity=(0.0, 0.0, 0.0)):
    """A liquid as a distance has it [cells], with drops beside."""
    places = np.concatenate([particles(inside, shape), np.reshape(more, (-1, 3))])
    away = np.full(shape, 2.0) if walls is None else walls(grid(shape))
    phi = np.clip(inside(grid(shape)), -3, 3)
    flow, still, number = np.tile(np.array(velocity, float), (*shape, 1)), np.zeros(shape), np.array([len(places)])
    return LiquidFrame(
        places,
        np.tile(velocity, (len(places), 1)),
        phi.astype(np.float16),
        np.clip(away, -2, 2).astype(np.float16),
        flow,
        number,
        still.astype(np.uint8),
    )


def skin(found, shape, **settings):
    """The surface of a liquid, as a mesh and as a frame."""
    skinner = Skinner(SkinSettings(**settings), (0, 0, 0), CELL, shape)
    skinner.liquid = found
    frame = skinner.frame()
    return trimesh.Trimesh(frame["position"], frame["triangles"], process=False), frame, skinner.gauges()


def ball(x):
    return np.linalg.norm(x - 8.0, axis=-1) - 5.0


class Surface(unittest.TestCase):
    def test_a_ball_is_closed_and_round_and_of_its_volume(self):
        mesh, frame, gauges = skin(liquid(ball, (16, 16, 16), velocity=(1, 2, 3)), (16, 16, 16))
        self.assertTrue(mesh.is_watertight and mesh.is_winding_consistent)
        self.assertAlmostEqual(mesh.volume / (4 / 3 * np.pi * 0.5**3), 1.0, delta=0.01)
        away = frame["position"] - 0.8
        np.testing.assert_allclose(np.linalg.norm(away, axis=1), 0.5, atol=0.005)
        normal = frame["normal"].astype(float)
        np.testing.assert_allclose((normal * away).sum(axis=1) / 0.5, 1.0, atol=0.02)
        np.testing.assert_allclose(frame["velocity"], np.tile([1, 2, 3], (len(away), 1)), atol=0.01)
        self.assertLess(abs(gauges["surface_drift"]), 0.02)

    def test_finer_cells_come_nearer(self):
        def off(cell):
            _, frame, _ = skin(liquid(ball, (16, 16, 16)), (16, 16, 16), cell_size=cell)
            return np.abs(np.linalg.norm(frame["position"] - 0.8, axis=1) - 0.5).max()

        self.assertLess(off(0.04), off(0.1))

    def test_it_stands_against_walls_and_is_cut_where_the_grid_ends(self):
        # a pool of half the height, beside a wall at a quarter
        shape = (16, 16, 16)
        found = liquid(lambda x: x[..., 2] - 8.0, shape, walls=lambda x: x[..., 0] - 4.0)
        mesh, frame, _ = skin(found, shape, overlap=0.0)
        self.assertTrue(mesh.is_watertight)
        low, high = frame["position"].min(axis=0), frame["position"].max(axis=0)
        np.testing.assert_allclose(low, [0.4, 0.0, 0.0], atol=0.004)
        np.testing.assert_allclose(high, [1.6, 1.6, 0.8], atol=0.004)
        self.assertAlmostEqual(mesh.volume / (1.2 * 1.6 * 0.8), 1.0, delta=0.01)
        # with some overlap no gap is left
        _, frame, _ = skin(found, shape, overlap=0.2)
        self.assertAlmostEqual(frame["position"][:, 0].min(), 0.38, delta=0.004)

    def test_single_drops_are_drawn_and_may_be_left_out(self):
        drop = [[1.45, 1.45, 1.45]]
        with_drop, _, gauges = skin(liquid(ball, (16, 16, 16), more=drop), (16, 16, 16), cell_size=0.0125)
        without, _, _ = skin(liquid(ball, (16, 16, 16), more=drop), (16, 16, 16), cell_size=0.0125, drops=0.0)
        self.assertEqual(gauges["drops"], 1.0)
        self.assertEqual(len(with_drop.split()), 2)
        self.assertEqual(len(without.split()), 1)
        # an eighth of a cell
        small = min(m.volume for m in with_drop.split())
        self.assertAlmostEqual(small / (CELL**3 / 8), 1.0, delta=1e-3)

    def test_a_drop_is_round_however_coarse_the_cells_and_melts_into_the_next(self):
        nothing = lambda x: np.full(x.shape[:-1], 3.0)  # noqa: E731
        apart, near = [[0.4, 0.4, 0.4], [0.4, 0.4, 1.2]], [[0.4, 0.4, 0.4], [0.4, 0.4, 0.47]]
        for cell in (0.025, 0.1):
            mesh, frame, gauges = skin(
                liquid(nothing, (16, 16, 16), more=apart, velocity=(0, 0, 2)), (16, 16, 16), cell_size=cell
            )
            self.assertTrue(mesh.is_watertight)
            self.assertAlmostEqual(gauges["surface_volume"] / (CELL**3 / 4), 1.0, delta=1e-3)
            middle = np.array(apart)[np.arange(len(frame["position"])) // (len(frame["position"]) // 2)]
            out = frame["position"] - middle
            far = np.linalg.norm(out, axis=1)
            self.assertLess(np.ptp(far), 0.07 * far.max())
            np.testing.assert_allclose(frame["normal"], out / far[:, None], atol=2e-3)
            self.assertTrue((frame["velocity"] == (0, 0, 2)).all())
        together, _, _ = skin(liquid(nothing, (16, 16, 16), more=near), (16, 16, 16))
        self.assertEqual(len(together.split()), 1)

    def test_bumps_are_smoothed_and_the_volume_stays(self):
        def bumpy(x):
            return x[..., 2] - 8.0 - 0.4 * np.cos(0.5 * np.pi * x[..., 0]) * np.cos(0.5 * np.pi * x[..., 1])

        def height(frame):
            x = frame["position"]
            return np.ptp(x[(x[:, 2] > 0.5) & (np.abs(x[:, :2] - 0.8) < 0.4).all(axis=1), 2])

        rough, before, _ = skin(liquid(bumpy, (16, 16, 16)), (16, 16, 16))
        smooth, frame, _ = skin(liquid(bumpy, (16, 16, 16)), (16, 16, 16), smoothing=0.4)
        self.assertGreater(height(before), 0.05)
        self.assertLess(height(frame), 0.1 * height(before))
        self.assertAlmostEqual(smooth.volume / rough.volume, 1.0, delta=0.01)

    def test_what_is_shut_in_is_no_shell(self):
        def hollow(x):
            r = np.linalg.norm(x - 8.0, axis=-1)
            return np.maximum(r - 6.0, 2.0 - r)

        mesh, _, _ = skin(liquid(hollow, (16, 16, 16)), (16, 16, 16))
        self.assertEqual(len(mesh.split()), 1)

    def test_the_sea_goes_on_to_the_horizon_without_a_step(self):
        def beyond(x, time):
            return 0.8 + 0.05 * np.sin(2.0 * x[:, 0] + time)

        def sea(x):
            return x[..., 2] - 10.0 * beyond(CELL * x.reshape(-1, 3), 0.0).reshape(x.shape[:-1])

        skinner = Skinner(SkinSettings(horizon=True), (0, 0, 0), CELL, (16, 16, 16), beyond=beyond)
        skinner.liquid = liquid(sea, (16, 16, 16))
        frame = skinner.frame()
        place = frame["position"]
        self.assertGreater(np.abs(place).max(), 1000.0)
        # all of it is the surface, none of it a side or the floor
        near = np.linalg.norm(place[:, :2] - 0.8, axis=1) < 3.0
        used = np.zeros(len(place), bool)
        used[np.unique(frame["triangles"])] = True
        np.testing.assert_allclose(place[near & used, 2], beyond(place[near & used], 0.0), atol=0.012)
        self.assertGreater(frame["normal"][used, 2].min(), 0.5)

    def test_nothing_has_an_empty_surface_and_too_much_is_refused(self):
        _, frame, _ = skin(liquid(lambda x: np.full(x.shape[:-1], 3.0), (8, 8, 8)), (8, 8, 8))
        self.assertEqual(len(frame["triangles"]), 0)
        with self.assertRaisesRegex(BadValue, "more than"):
            Skinner(SkinSettings(cell_size=0.001), (0, 0, 0), CELL, (64, 64, 64))
