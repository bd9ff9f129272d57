"""Liquid that sets off from faces of bodies, as a launch says, and from what moves."""

import unittest

import numpy as np

from tests.bodies import fragments_of
from urst.core.bodies.boundary import Boundary
from urst.core.bodies.faces import chosen
from urst.core.fields.liquid_frame import LiquidFrame
from urst.core.geometry import generators
from urst.core.launch.settings import Launch
from urst.core.liquid.inflows import Inflow
from urst.core.liquid.inlets import Before, Inside
from urst.core.liquid.settings import PARTICLES, LiquidSettings
from urst.core.liquid.solver import LiquidSolver
from urst.core.skin.settings import SkinSettings
from urst.core.skin.skinner import Skinner

box = generators.box_between
CELL = 1 / 16


def poured(mouth, launch, *, seconds=0.25, gravity=0.0, boundaries=(), rate=None, move=lambda s, dt: None):
    """What has come in from somewhere into an empty room of 2 m."""
    settings = LiquidSettings(cell_size=CELL, low=(-1, -1, -1), high=(1, 1, 1), sides="open")
    s = LiquidSolver(
        settings, (0, 0, -gravity), boundaries=list(boundaries), inflows=[Inflow(mouth, 0.0, 9.0, launch, rate)]
    )
    while s.time < seconds - 1e-9:
        dt = min(s.stable_dt(), 1 / 48, seconds - s.time)
        move(s, dt)
        s.step(dt)
    return s


def places(s):
    return s.origin + s.cell * s.position


class Chosen(unittest.TestCase):
    block = fragments_of([box((-0.3, -0.2, -0.1), (0.3, 0.2, 0.1))])

    def test_points_stand_for_the_area_of_the_faces_that_look_a_way(self):
        whole = chosen(self.block, 0.03)
        self.assertAlmostEqual(float(whole.area.sum()), 2 * (0.6 * 0.4 + 0.6 * 0.2 + 0.4 * 0.2), places=6)
        top = chosen(self.block, 0.03, (0, 0, 2.0))
        self.assertAlmostEqual(float(top.area.sum()), 0.24, places=6)
        np.testing.assert_allclose(self.block.centre[top.body][:, 2] + top.local[:, 2], 0.1, atol=1e-6)
        self.assertEqual(len(chosen(self.block, 0.03, (1, 1, 1), 20.0)), 0)

    def test_a_region_cuts_faces_where_it_ends(self):
        half = fragments_of([box((-1, -1, 0.0), (0.1, 1, 1))])
        found = chosen(self.block, 0.02, (0, 0, 1), within=half)
        self.assertAlmostEqual(float(found.area.sum()), 0.4 * 0.4, delta=0.02)


class Faces(unittest.TestCase):
    def setUp(self):
        self.slab = Boundary(fragments_of([box((-0.5, -0.5, -0.25), (0.5, 0.5, 0.0))]))

    def test_a_face_pours_as_much_as_its_area_times_its_speed(self):
        for facing, moves in (((1, 0, 0), 0), ((0, 0, 1), 2)):
            faces = chosen(self.slab.fragments, CELL / 4, facing)
            s = poured(Before(self.slab, faces, CELL), Launch(way="outward", speed=2.0), boundaries=[self.slab])
            area = float(faces.area.sum())
            # what has left its layer, and the layer
            expected = area * (2.0 * 0.25 + CELL)
            self.assertAlmostEqual(s.gauges()["poured"] / expected, 1.0, delta=0.12)
            self.assertAlmostEqual(float(s.speed[:, moves].mean()), 2.0, delta=0.1)
            front = float(np.percentile(places(s)[:, moves], 98)) - (0.5 if moves == 0 else 0.0)
            self.assertAlmostEqual(front, 2.0 * 0.25, delta=2 * CELL)

    def test_only_what_lies_in_its_region_pours(self):
        within = fragments_of([box((-0.2, -0.2, -1), (0.2, 0.2, 1))])
        faces = chosen(self.slab.fragments, CELL / 4, (0, 0, 1), within=within)
        s = poured(Before(self.slab, faces, CELL), Launch(way="outward", speed=2.0), boundaries=[self.slab])
        self.assertLess(np.abs(places(s)[:, :2]).max(), 0.2 + CELL)
        self.assertGreater(s.gauges()["poured"], 0.8 * 0.16 * 0.5)

    def test_a_face_that_rides_along_pours_where_it_is(self):
        # a plate that turns a quarter about x: what looked up looks along y
        plate = Boundary(fragments_of([box((-0.2, -0.2, -0.02), (0.2, 0.2, 0.02))]))
        turn = {
            "position": plate.fragments.centre,
            "orientation": np.array([[np.sqrt(0.5), np.sqrt(0.5), 0.0, 0.0]]),
        }
        plate.update(turn, turn, 0.0, 10.0)
        faces = chosen(plate.fragments, CELL / 4, (0, 0, 1))
        s = poured(Before(plate, faces, CELL), Launch(way="outward", speed=2.0))
        self.assertAlmostEqual(float(s.speed[:, 1].mean()), -2.0, delta=0.1)
        self.assertLess(np.abs(places(s)[:, 2]).max(), 0.2 + CELL)


class Launched(unittest.TestCase):
    def setUp(self):
        self.ball = Boundary(fragments_of([generators.ball(0.25, 12)[0]]))

    def test_away_from_a_centre_it_goes_all_round(self):
        middle = tuple(self.ball.fragments.centre[0])
        s = poured(Inside(self.ball), Launch(way="centre", centre=middle, speed=1.5), rate=0.2)
        out = places(s) - np.array(middle)
        far = np.linalg.norm(out, axis=1)
        free = far > 0.25 + CELL
        radial = np.einsum("ni,ni->n", out[free] / far[free, None], s.speed[free])
        self.assertGreater(free.sum(), 500)
        self.assertGreater(radial.mean(), 0.7)
        self.assertLess(np.abs(out.mean(axis=0)).max(), CELL)

    def test_a_launch_that_differs_from_place_to_place_is_uneven(self):
        jet = {"way": "direction", "direction": (1, 0, 0), "speed": 2.0}
        even, uneven = (poured(Inside(self.ball), Launch(**jet, noise=noise, noise_size=0.2)) for noise in (0.0, 0.9))
        self.assertGreater(np.std(uneven.speed[:, 0]), 2.0 * np.std(even.speed[:, 0]) + 0.1)

    def test_it_keeps_so_much_of_its_carriers_motion(self):
        for kept in (1.0, 0.0):
            nozzle = Boundary(fragments_of([box((-0.15, -0.15, -0.15), (0.15, 0.15, 0.15))]))
            still = {"position": nozzle.fragments.centre, "orientation": np.array([[1.0, 0, 0, 0]])}
            later = still | {"position": still["position"] + np.array([0.5, 0.0, 0.0])}
            nozzle.update(still, later, 0.0, 0.25)
            s = poured(Inside(nozzle), Launch(way="direction", direction=(0, 0, 1), speed=2.0, carried=kept))
            left = places(s)[:, 2] > 0.15 + CELL
            self.assertAlmostEqual(float(s.speed[left, 0].mean()), 2.0 * kept, delta=0.2)
            # the trail has no gaps: what sets off earlier stands as high as it has flown
            columns = np.unique(np.floor(places(s)[left, 0] / CELL))
            self.assertEqual(len(columns), columns.max() - columns.min() + 1)


class Pool(unittest.TestCase):
    def test_it_holds_what_has_been_poured_however_it_froths(self):
        # a jet that plunges into a pool it makes itself: under it particles are thin, and nothing is filled up there
        mouth = Boundary(fragments_of([box((0.3, 0.3, 0.9), (0.5, 0.5, 1.1))]))
        settings = LiquidSettings(cell_size=CELL, low=(0, 0, 0), high=(1, 1, 1.3))
        down = Launch(way="direction", direction=(0, 0, -1), speed=1.0)
        s = LiquidSolver(settings, inflows=[Inflow(Inside(mouth), 0.0, 1.2, down, 0.2)])
        skinner = Skinner(SkinSettings(), settings.low, CELL, settings.shape())
        while s.time < 2.2:
            s.step(min(s.stable_dt(), 1 / 24))
            booked = PARTICLES / CELL**3 * s.gauges()["poured"]
            self.assertAlmostEqual(len(s.position) + s.band.unseen, booked, delta=1)
            self.assertLess(abs(s.band.mismatch(s.walls)), 0.01 * booked)
            if s.time > 1.3:
                # it is 4 cells deep and swings from side to side
                self.assertLess(abs(s.gauges()["volume_drift"]), 0.02)
        self.assertAlmostEqual(s.gauges()["poured"], 0.24, delta=0.005)
        self.assertLess(abs(s.gauges()["volume_drift"]), 0.01)
        skinner.liquid = LiquidFrame.of(s.frame())
        skinner.frame()
        self.assertAlmostEqual(skinner.gauges()["surface_volume"], s.gauges()["poured"], delta=0.01 * 0.24)


if __name__ == "__main__":
    unittest.main()
