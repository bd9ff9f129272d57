"""A narrow band of particles: it does as all of them do, loses nothing, and starts anew on other grids."""

import unittest

import numpy as np

from tests.bodies import fragments_of
from tests.test_liquid import amount, box, run, tank
from urst.core.bodies.boundary import Boundary
from urst.core.fields.liquid_frame import LiquidFrame
from urst.core.liquid import deep_kernels
from urst.core.liquid.restart import Lattice
from urst.core.liquid.solver import LiquidSolver
from urst.demo import swell


def plunge(depth):
    """A slab of water that falls into a pool of 24 cells."""
    s = tank(1 / 16, (2, 0.5, 2.5), particle_depth=depth)
    s.fill(lambda x: x[:, 2] - 1.5)
    s.fill(lambda x: np.abs(x - [1.0, 0.25, 1.8]).max(axis=1) - 0.25, velocity=(0.0, 0.0, -1.0))
    return s


def heights(s):
    """How high water stands over each column [cells]."""
    return (np.clip(0.5 - s.phi, 0.0, 1.0) * s.walls.fraction).sum(axis=2)


class Band(unittest.TestCase):
    def test_it_splashes_as_all_particles_do_with_a_third_of_them(self):
        band, full = plunge(4.0), plunge(None)
        self.assertEqual(amount(band), amount(full))
        first = amount(band)
        for s in (band, full):
            run(s, 0.35, most=1 / 48)
        self.assertLess(len(band.position), len(full.position) / 3)
        self.assertEqual(amount(band), first)
        off = heights(band) - heights(full)
        self.assertLess(np.sqrt((off**2).mean()), 0.5)
        # nothing of it is flat: the same has been thrown up
        self.assertGreater(np.ptp(heights(full)), 4.0)
        self.assertAlmostEqual(heights(band).max(), heights(full).max(), delta=1.5)
        ours, theirs = band.gauges(), full.gauges()
        self.assertAlmostEqual(ours["energy"] / theirs["energy"], 1.0, delta=0.01)
        self.assertAlmostEqual(ours["kinetic_energy"] / theirs["kinetic_energy"], 1.0, delta=0.1)
        self.assertLess(abs(ours["volume_drift"]), 0.01)

    def test_as_many_are_foreseen_as_a_sea_begins_with(self):
        shot = swell.shot()
        layer = next(x for x in shot.layers if x.kind == "flood")
        for cell in (0.3, 0.2):
            settings = layer.settings.model_copy(update={"cell_size": cell})
            sea = LiquidSolver(settings)
            sea.pool(settings.level)
            count = shot.kind_of(layer).count(shot, layer.model_copy(update={"settings": settings}))
            self.assertAlmostEqual(count / len(sea.position), 1.0, delta=0.2)

    def test_depths_beyond_the_level_set_are_distances(self):
        grid = np.moveaxis(np.indices((24, 24, 24)), 0, -1) + 0.5
        for depth in (9.5 - np.linalg.norm(grid - 12.0, axis=-1), 9.5 - np.abs(grid - 12.0).max(axis=-1)):
            found = np.clip(depth, -5.0, 5.0).astype(np.float32)
            deep_kernels.deepen(found)
            inside = depth >= 4.5
            self.assertLess((np.abs(found - depth)[inside] / depth[inside]).max(), 0.1)
            np.testing.assert_array_equal(found[~inside], np.clip(depth, -5.0, 5.0).astype(np.float32)[~inside])

    def test_a_swirl_goes_on_out_of_sight_of_particles(self):
        # solid turning of a deep tank's water about the vertical, without gravity's waves: nothing but the grid
        # carries it
        found, centre = {}, np.array([0.75, 0.75, 0.0])
        for depth in (4.0, None):
            s = tank(1 / 16, (1.5, 1.5, 1.5), particle_depth=depth)
            s.fill(lambda x: x[:, 2] - 1.2, lambda x: np.cross([0.0, 0.0, 1.0], (x - centre) * [1, 1, 0]))
            run(s, 0.5)
            found[depth] = s.gauges()["kinetic_energy"]
        self.assertAlmostEqual(found[4.0] / found[None], 1.0, delta=0.05)

    def test_what_is_driven_through_deep_water_leaves_it_whole(self):
        # a plate of two cells, beside which what wells up is not seen before
        found = {}
        for depth in (4.0, None):
            plate = Boundary(fragments_of([box((0.3, 0.5, 0.2), (0.5, 1.5, 1.4))]))
            s = tank(0.1, (4, 2, 2.5), particle_depth=depth, boundaries=[plate])
            s.fill(lambda x: x[:, 2] - 1.8)
            pose = lambda t, p=plate: {  # noqa: E731
                "position": p.fragments.centre + [[3.0 * t, 0, 0]],
                "orientation": np.array([[1.0, 0, 0, 0]]),
            }
            while s.time < 0.6 - 1e-9:
                dt = min(s.stable_dt(), 1 / 48, 0.6 - s.time)
                plate.update(pose(s.time), pose(s.time + dt), s.time, dt)
                s.step(dt)
            found[depth] = s.gauges()
            self.assertLess(abs(found[depth]["volume_drift"]), 0.015, depth)
        self.assertAlmostEqual(found[4.0]["kinetic_energy"] / found[None]["kinetic_energy"], 1.0, delta=0.05)

    def test_it_stops_and_goes_on_to_the_same_bytes(self):
        one, other = plunge(4.0), plunge(4.0)
        run(one, 0.1)
        other.restore(one.snapshot())
        for s in (one, other):
            run(s, 0.1)
        for name, array in one.snapshot().items():
            np.testing.assert_array_equal(array, other.snapshot()[name], err_msg=name)


class Restart(unittest.TestCase):
    def setUp(self):
        self.first = plunge(4.0)
        run(self.first, 0.25, most=1 / 48)
        self.of = Lattice(self.first.origin, self.first.cell, self.first.domain)

    def begun(self, cell=1 / 16, depth: float | None = 4.0, within=None):
        s = tank(cell, (2, 0.5, 2.5), particle_depth=depth)
        s.begin_from(LiquidFrame.of(self.first.frame()), self.of, within)
        return s

    def test_it_begins_as_it_was_with_particles_or_without(self):
        told = self.first.gauges()
        for depth in (4.0, None):
            s = self.begun(depth=depth)
            self.assertAlmostEqual(amount(s) / amount(self.first), 1.0, delta=0.01)
            np.testing.assert_allclose(heights(s), heights(self.first), atol=0.3)
            self.assertAlmostEqual(s.gauges()["kinetic_energy"] / told["kinetic_energy"], 1.0, delta=0.1)

    def test_it_begins_on_finer_cells(self):
        s, told = self.begun(cell=1 / 24), self.first.gauges()
        self.assertAlmostEqual(s.volume() / told["volume"], 1.0, delta=0.02)
        self.assertAlmostEqual(s.gauges()["kinetic_energy"] / told["kinetic_energy"], 1.0, delta=0.2)
        self.assertLess(abs(s.gauges()["volume_drift"]), 0.03)

    def test_no_more_is_taken_than_lies_within(self):
        s = self.begun(within=lambda x: np.maximum(x[:, 2] - 1.0, x[:, 0] - 1.5))
        self.assertAlmostEqual(s.volume(), 1.0 * 1.5 * 0.5, delta=0.01)
        self.assertLess((s.position * s.cell)[:, 2].max(), 1.0)
        self.assertLess(abs(s.gauges()["volume_drift"]), 0.03)
        # and what was held up falls
        run(s, 0.2)
        self.assertGreater((s.position * s.cell)[:, 0].max(), 1.6)
