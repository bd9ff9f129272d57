"""The liquid: still water, falling columns, waves, walls."""

import unittest

import numpy as np

from tests.bodies import fragments_of
from urst.core.bodies.boundary import Boundary
from urst.core.geometry import generators
from urst.core.geometry.mesh import transformed
from urst.core.geometry.rotation import from_degrees, matrix
from urst.core.launch.settings import Launch
from urst.core.liquid.inflows import Inflow, Region
from urst.core.liquid.inlets import Inside
from urst.core.liquid.settings import LiquidSettings
from urst.core.liquid.solver import LiquidSolver
from urst.core.solids.walls import Walls
from urst.errors import BadValue

box = generators.box_between
G = 9.81


def tank(cell, high, *, gravity=(0, 0, -G), boundaries=(), **settings):
    """A liquid in a tank from the origin, without a lid."""
    return LiquidSolver(
        LiquidSettings(cell_size=cell, low=(0, 0, 0), high=high, **settings), gravity, boundaries=boundaries
    )


def run(solver, seconds, watch=lambda s: None, most=1 / 24):
    """Step at its own pace; return what `watch` gave after each step."""
    seen, end = [], solver.time + seconds
    while solver.time < end - 1e-9:
        solver.step(min(solver.stable_dt(), most, end - solver.time))
        seen.append(watch(solver))
    return seen


def along(velocity):
    """A launch with a velocity."""
    return Launch(speed=float(np.linalg.norm(velocity)), direction=tuple(map(float, velocity)))


def amount(solver):
    """How many particles there are, those out of sight too."""
    return len(solver.position) + solver.band.unseen


def lean(solver):
    """How far along x the middle of the liquid lies [cells]."""
    full = (np.clip(0.5 - solver.phi, 0.0, 1.0) * solver.walls.fraction).sum(axis=(1, 2))
    return full @ (np.arange(len(full)) + 0.5) / full.sum()


def speeds(solver):
    """Of the particles, in the speed that a cell's height gives."""
    return np.linalg.norm(solver.speed, axis=1) / np.sqrt(G * solver.cell)


class Still(unittest.TestCase):
    def test_water_stays_still_however_its_tank_is_turned(self):
        for tilt in (0.0, 20.0):
            turn = matrix(from_degrees(np.array([0.0, tilt, 0.0])))
            up = turn.T @ [0.0, 0.0, 1.0]
            s = tank(1 / 16, (1, 1, 1), gravity=-G * up)
            s.fill(lambda x, up=up: (x - 0.5) @ up)
            before = amount(s)
            run(s, 1.0)
            self.assertLess(np.sqrt((speeds(s) ** 2).mean()), 1e-3)
            self.assertLess(speeds(s).max(), 1e-2)
            self.assertEqual(amount(s), before)
            self.assertLess(abs(s.gauges()["volume_drift"]), 2e-3)

    def test_water_stays_still_where_its_tank_ends_within_the_grid(self):
        # twelve cells in a grid of sixteen, and walls half way through cells
        for cell, high, level in ((1 / 12, (1, 1, 1.4), 0.47), (0.1, (1.05, 0.95, 1.2), 0.53)):
            s = tank(cell, high)
            s.fill(lambda x, level=level: x[:, 2] - level)
            run(s, 1.0)
            self.assertLess(np.sqrt((speeds(s) ** 2).mean()), 1e-3)
            self.assertLess(speeds(s).max(), 1e-2)

    def test_pressure_is_the_weight_above(self):
        s = tank(1 / 16, (1, 1, 1))
        s.fill(lambda x: x[:, 2] - 0.5)
        s.step(1 / 48)
        # speeds begin half a step before the start
        s.step(1 / 48)
        # what the step took away over its length, a cell
        depth = 0.5 - (np.arange(16) + 0.5) / 16
        wanted = G * depth / 48 * 16
        np.testing.assert_allclose(s.pressure[8, 8, :7], wanted[:7], rtol=2e-3)

    def test_a_block_that_stands_in_it_holds_its_place_free(self):
        block = Boundary(
            fragments_of(
                [
                    transformed(
                        box((-0.2, -0.2, -0.2), (0.2, 0.2, 0.2)),
                        matrix(from_degrees(np.array([15.0, 0, 40.0]))),
                        np.array([0.5, 0.5, 0.3]),
                    )
                ]
            )
        )
        s = tank(1 / 16, (1, 1, 1), boundaries=[block])
        s.fill(lambda x: x[:, 2] - 0.6)
        self.assertAlmostEqual(s.volume(), 0.6 - 0.4**3, delta=0.01)
        run(s, 0.5)
        self.assertLess(speeds(s).max(), 0.02)
        self.assertAlmostEqual(s.volume(), 0.6 - 0.4**3, delta=0.01)


class Moving(unittest.TestCase):
    def test_a_falling_column_runs_out_as_martin_and_moyce_measured(self):
        # quoted from memory. The front runs 10 to 17 % ahead, as it does with every method: the real column had to be
        # let go. Once it runs its speed is that of the table
        measured_t, measured_z = (0.84, 1.19, 1.63, 1.98, 2.32, 2.65), (1.22, 1.44, 1.89, 2.33, 2.78, 3.22)
        cell = 1 / 12
        s = tank(cell, (4.5, 8 * cell, 2.4))
        s.fill(lambda x: np.maximum(x[:, 0] - 1.0, x[:, 2] - 2.0))
        seen = run(s, 2.7 / np.sqrt(2 * G), lambda s: (s.time * np.sqrt(2 * G), s.position[:, 0].max() * cell), 1 / 48)
        front = np.interp(measured_t, *np.array(seen).T)
        self.assertTrue((np.abs(front / measured_z - 1.0) < 0.18).all(), front)
        self.assertAlmostEqual((front[-1] - front[2]) / (measured_z[-1] - measured_z[2]), 1.0, delta=0.03)
        self.assertLess(abs(s.gauges()["volume_drift"]), 0.01)

    def test_a_slosh_has_the_period_of_its_depth_and_goes_on(self):
        length, depth, cell = 1.0, 0.5, 1 / 24
        s = tank(cell, (length, 8 * cell, 1.0))
        s.fill(lambda x: x[:, 2] - depth - 0.03 * np.cos(np.pi * x[:, 0] / length))
        wanted = 2 * np.pi / np.sqrt(G * np.pi / length * np.tanh(np.pi * depth / length))
        seen = np.array(run(s, 3 * wanted, lambda s: (s.time, lean(s)), 1 / 48))
        time, way = seen[:, 0], seen[:, 1] - seen[:, 1].mean()
        turns = time[:-1][(way[:-1] < 0) != (way[1:] < 0)]
        self.assertAlmostEqual(2 * np.diff(turns).mean() / wanted, 1.0, delta=0.03)
        last, first = np.abs(way[time > 2 * wanted]).max(), np.abs(way[time < wanted]).max()
        self.assertAlmostEqual(last / first, 1.0, delta=0.05)

    def test_what_is_thrown_flies_as_a_stone_does(self):
        s = tank(0.1, (3.2, 1.6, 2.4))
        s.fill(lambda x: np.linalg.norm(x - [0.6, 0.8, 1.2], axis=1) - 0.2, velocity=(2.0, 0.0, 2.0))
        start = s.position.mean(axis=0) * 0.1
        run(s, 0.4, most=1 / 48)
        fell = s.position.mean(axis=0) * 0.1 - start
        np.testing.assert_allclose(fell, [0.8, 0.0, 0.8 - 0.5 * G * 0.4**2], atol=0.01)

    def test_a_piston_lifts_what_it_displaces(self):
        block = Boundary(fragments_of([box((0.0, 0.0, -0.8), (0.5, 1.0, 0.0))]))
        rise = np.array([[0.0, 0.0, 0.2]])
        still = {"position": block.fragments.centre, "orientation": np.array([[1.0, 0, 0, 0]])}
        block.update(still, {"position": block.fragments.centre + rise, "orientation": still["orientation"]}, 0.0, 1.0)
        s = tank(1 / 16, (1, 1, 1.2), boundaries=[block])
        s.fill(lambda x: x[:, 2] - 0.5)
        before = s.volume()
        run(s, 1.0)
        self.assertAlmostEqual(s.volume() / before, 1.0, delta=0.01)
        height = s.position[s.position[:, 2] > 0, 2].max() / 16
        self.assertAlmostEqual(height, 0.6, delta=0.08)
        # none is left where the piston has come to
        inside = (s.position[:, 0] < 0.5 * 16 - 0.5) & (s.position[:, 2] < 0.2 * 16 - 0.5)
        self.assertEqual(int(inside.sum()), 0)


class Pouring(unittest.TestCase):
    def carrier(self, low, high):
        return Boundary(fragments_of([box(low, high)]))

    def poured(
        self,
        rate,
        *,
        level=None,
        velocity=(0.0, 0.0, 0.0),
        place=((0.4, 0.4, 0.1), (0.6, 0.6, 0.25)),
        lid=False,
        **window,
    ):
        lids = [self.carrier((-0.5, -0.5, 0.75), (1.5, 1.5, 2.0))] if lid else []
        opens, closes = window.get("opens", 0.0), window.get("closes", 10.0)
        inflow = Inflow(Inside(self.carrier(*place)), opens, closes, along(velocity), rate)
        s = LiquidSolver(
            LiquidSettings(cell_size=1 / 16, low=(0, 0, 0), high=(1, 1, 1.5)), boundaries=lids, inflows=[inflow]
        )
        if level is not None:
            s.pool(level)
        before = s.gauges()["poured"]
        run(s, 0.75)
        return s, s.gauges()["poured"] - before

    def test_as_much_comes_in_as_is_said_in_air_and_under_water(self):
        jet = {"velocity": (1.0, 0, 0), "place": ((0.1, 0.4, 0.9), (0.25, 0.6, 1.1))}
        for rate, more in ((0.03, jet), (0.1, {"level": 0.5})):
            s, came = self.poured(rate, **more)
            self.assertAlmostEqual(came / (0.75 * rate), 1.0, delta=0.05)
            self.assertLess(s.gauges()["blocked"], 0.05)
        # a basin that is filled from below rises
        self.assertAlmostEqual(s.volume(), 0.575, delta=0.01)

    def test_restored_while_it_pours_it_goes_on_to_the_same_bytes(self):
        def made():
            inflows = [
                Inflow(Inside(self.carrier((0.4, 0.4, 0.1), (0.6, 0.6, 0.25))), 0.0, 10.0, along((0, 0, 0)), 0.1),
                Inflow(Inside(self.carrier((0.1, 0.4, 0.9), (0.25, 0.6, 1.1))), 0.0, 10.0, along((1, 0, 0))),
            ]
            regions = [Region(Inside(self.carrier((0.7, 0.4, -0.1), (0.9, 0.6, 0.1))), 0.0, 10.0, takes=True)]
            settings = LiquidSettings(cell_size=1 / 16, low=(0, 0, 0), high=(1, 1, 1.5))
            return LiquidSolver(settings, inflows=inflows, regions=regions)

        one, other = made(), made()
        one.pool(0.5)
        run(one, 0.2)
        other.restore(one.snapshot())
        run(one, 0.2)
        run(other, 0.2)
        self.assertEqual(one.gauges(), other.gauges())
        for name, array in one.snapshot().items():
            np.testing.assert_array_equal(array, other.snapshot()[name], name)

    def test_into_a_closed_box_nothing_comes_and_nothing_blows_up(self):
        s, came = self.poured(5.0, level=0.75, lid=True)
        self.assertEqual(came, 0.0)
        self.assertAlmostEqual(s.gauges()["blocked"], 1.0)
        self.assertLess(s.gauges()["top_speed"], 0.1)

    def test_without_a_rate_its_velocity_says_how_much_and_a_window_when(self):
        slow, fast = (
            self.poured(None, velocity=(v, 0, 0), place=((0.1, 0.4, 0.9), (0.25, 0.6, 1.1)))[1] for v in (0.5, 2.0)
        )
        self.assertGreater(fast, 1.8 * slow)
        part = self.poured(0.1, level=0.5, opens=0.25, closes=0.5)[1]
        self.assertAlmostEqual(part, 0.025, delta=0.003)

    def test_a_drain_empties_a_pool_and_a_slow_region_calms(self):
        s = LiquidSolver(
            LiquidSettings(cell_size=1 / 16, low=(0, 0, 0), high=(1, 1, 1)),
            regions=[Region(Inside(self.carrier((0.4, 0.4, -0.1), (0.6, 0.6, 0.1))), 0.0, 10.0, takes=True)],
        )
        s.pool(0.5)
        run(s, 0.5)
        self.assertGreater(s.gauges()["drained"], 0.05)
        self.assertAlmostEqual(s.gauges()["drained"] + amount(s) / 8 / 16**3, 0.5, delta=1e-6)
        self.assertAlmostEqual(s.volume() + s.gauges()["drained"], 0.5, delta=0.02)

        def swirl(damping):
            regions = [Region(Inside(self.carrier((-1, -1, -1), (2, 2, 2))), 0.0, 10.0, damping)]
            s = LiquidSolver(LiquidSettings(cell_size=1 / 16, low=(0, 0, 0), high=(1, 1, 1)), regions=regions)
            s.fill(lambda x: np.maximum(x[:, 0] - 0.5, x[:, 2] - 0.6))
            run(s, 0.6)
            return s.gauges()["kinetic_energy"]

        self.assertLess(swirl(8.0), 0.3 * swirl(0.0))


class Filling(unittest.TestCase):
    def basin(self):
        floor, walls = box((0.2, 0.2, 0.0), (1.4, 1.4, 0.2)), []
        for low, high in (
            ((0.2, 0.2), (0.4, 1.4)),
            ((1.2, 0.2), (1.4, 1.4)),
            ((0.4, 0.2), (1.2, 0.4)),
            ((0.4, 1.2), (1.2, 1.4)),
        ):
            walls.append(box((*low, 0.2), (*high, 0.9)))
        return Boundary(fragments_of([floor, *walls]))

    def test_a_pool_keeps_to_what_is_joined_to_its_place(self):
        s = tank(0.1, (1.6, 1.6, 1.6), boundaries=[self.basin()], sides="open")
        s.pool(0.6, (0.8, 0.8, 0.5))
        places = s.position * 0.1
        self.assertTrue(((places[:, :2] > 0.4) & (places[:, :2] < 1.2)).all())
        self.assertAlmostEqual(len(places) / 8 * 1e-3, 0.8 * 0.8 * 0.4, delta=0.01)
        run(s, 1.0)
        self.assertEqual(s.lost, 0)
        self.assertLess(np.sqrt((speeds(s) ** 2).mean()), 0.02)
        self.assertLess(speeds(s).max(), 0.1)
        for place in ((0.8, 0.8, 0.9), (0.3, 0.8, 0.5), (9.0, 0.8, 0.5)):
            with self.assertRaisesRegex(BadValue, "The place of the pool, .* choose one in the open below the level"):
                s.pool(0.6, place)

    def test_seams_between_pieces_let_nothing_through(self):
        walls = Walls((16, 16, 16), np.zeros(3), 0.1, [self.basin()])
        walls.place(0.0)
        # faces in the middle of floor and walls, wherever pieces meet
        self.assertEqual(float(walls.weights[2][3:13, 3:13, 1].max()), 0.0)
        self.assertEqual(float(walls.weights[0][3, 3:13, 1:8].max()), 0.0)
        self.assertEqual(float(walls.weights[1][3:13, 13, 1:8].max()), 0.0)
        # and the open share of a cell is what a slanting wall leaves of it
        turn = matrix(from_degrees(np.array([0.0, 25.0, 0.0])))
        slab = Boundary(fragments_of([transformed(box((-3, -3, -2.0), (3, 3, 0.0)), turn, np.array([0.8, 0.8, 0.8]))]))
        slanting = Walls((16, 16, 16), np.zeros(3), 0.1, [slab])
        slanting.place(0.0)
        self.assertAlmostEqual(float(slanting.fraction.mean()), 0.5, delta=0.003)

    def test_fills_that_overlap_are_filled_once(self):
        s = tank(0.1, (1.6, 1.6, 1.6))
        s.fill(lambda x: x[:, 2] - 0.4)
        s.fill(lambda x: np.maximum(x[:, 0] - 0.5, x[:, 2] - 0.8))
        self.assertEqual(amount(s), 8 * (16 * 16 * 4 + 5 * 16 * 4))
        self.assertAlmostEqual(s.volume(), amount(s) / 8 * 1e-3, delta=0.02)

    def test_what_goes_out_at_open_sides_is_counted(self):
        s = tank(0.1, (1.6, 1.6, 1.6), sides="open")
        s.fill(lambda x: np.linalg.norm(x - 0.8, axis=1) - 0.3, velocity=(5.0, 0.0, 0.0))
        run(s, 0.5)
        self.assertEqual(s.lost, s.poured)
        self.assertEqual(s.gauges()["lost"], 1.0)
