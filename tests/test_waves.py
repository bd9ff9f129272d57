"""Waves: their theory, a sea's spectrum, and how a liquid carries them."""

import unittest

import numpy as np

from tests.test_liquid import lean
from urst.core.liquid.settings import LiquidSettings, WaveSettings
from urst.core.liquid.solver import LiquidSolver
from urst.core.liquid.waves import Waves, jonswap, number, peak_frequency
from urst.errors import BadValue

G = 9.81


def run(solver, seconds, watch=lambda s: None, most=1 / 24):
    seen, end = [], solver.time + seconds
    while solver.time < end - 1e-9:
        solver.step(min(solver.stable_dt(), most, end - solver.time))
        seen.append(watch(solver))
    return seen


def height(s, i, j):
    """Where the surface crosses a column of cells [m]."""
    column = s.phi[i, j]
    k = np.flatnonzero((column[:-1] < 0) & (column[1:] >= 0))[-1]
    return s.origin[2] + s.cell * (k + 0.5 + column[k] / (column[k] - column[k + 1]))


class Theory(unittest.TestCase):
    def test_wave_numbers_obey_the_dispersion_at_any_depth(self):
        omega = np.array([0.2, 1.0, 3.0, 12.0])
        for depth in (0.1, 2.0, 4000.0):
            k = number(omega, depth, G)
            np.testing.assert_allclose(G * k * np.tanh(np.minimum(k * depth, 50)), omega**2, rtol=1e-9)

    def test_a_long_record_has_the_height_and_the_peak_of_its_sea(self):
        wind, fetch = 8.0, 5000.0
        sea = Waves(WaveSettings(wind=wind, fetch=fetch), 0.0, 50.0, G, seed=3)
        time = np.arange(0, 1800, 0.25)
        record = np.array([sea.surface(np.zeros((1, 2)), t)[0] for t in time])
        omega = np.linspace(0.3, 25, 20_000)
        wanted = 4 * np.sqrt(np.trapezoid(jonswap(omega, wind, fetch, G), omega))
        self.assertAlmostEqual(4 * record.std() / wanted, 1.0, delta=0.08)
        power = np.convolve(np.abs(np.fft.rfft(record)) ** 2, np.ones(31) / 31, "same")
        peak = 2 * np.pi * np.fft.rfftfreq(len(record), 0.25)[np.argmax(power)]
        self.assertAlmostEqual(peak / peak_frequency(wind, fetch, G), 1.0, delta=0.12)
        # irregular: it does not come again within half of that
        half = len(record) // 2
        self.assertLess(abs(np.corrcoef(record[:half], record[half : 2 * half])[0, 1]), 0.4)

    def test_the_flow_under_waves_is_free_of_divergence_and_goes_with_the_surface(self):
        waves = Waves(WaveSettings(swell_height=0.02, swell_period=2.0, swell_heading=30.0), 0.0, 1.0, G, 1)
        x, h = np.array([[0.3, 0.2, -0.4]]), 1e-4
        net = sum(
            (waves.velocity(x + h * e, 0.7) - waves.velocity(x - h * e, 0.7))[0, a] / (2 * h)
            for a, e in enumerate(np.eye(3))
        )
        scale = np.linalg.norm(waves.velocity(x, 0.7)) * waves.k[0]
        self.assertLess(abs(net), 0.03 * scale)
        top = np.array([[0.3, 0.2, 0.0]])
        rise = (waves.surface(top, 0.701) - waves.surface(top, 0.699))[0] / 0.002
        self.assertAlmostEqual(waves.velocity(top, 0.7)[0, 2], rise, delta=0.02 * abs(rise) + 1e-4)
        # nothing goes through the floor
        self.assertAlmostEqual(waves.velocity(np.array([[0.3, 0.2, -1.0]]), 0.7)[0, 2], 0.0, delta=1e-3)

    def test_without_gravity_there_are_none(self):
        with self.assertRaisesRegex(BadValue, "without gravity"):
            Waves(WaveSettings(swell_height=1.0), 0.0, 1.0, 0.0, 1)


class Carried(unittest.TestCase):
    def test_standing_waves_have_the_period_of_their_depth(self):
        length, cell = 1.0, 1 / 20
        for depth in (0.2, 0.4, 0.8):
            s = LiquidSolver(LiquidSettings(cell_size=cell, low=(0, 0, 0), high=(length, 8 * cell, depth + 0.4)))
            s.fill(lambda x, d=depth: x[:, 2] - d - 0.02 * np.cos(np.pi * x[:, 0] / length))
            wanted = 2 * np.pi / np.sqrt(G * np.pi / length * np.tanh(np.pi * depth / length))
            seen = np.array(run(s, 2.2 * wanted, lambda s: (s.time, lean(s)), 1 / 48))
            way = seen[:, 1] - seen[:, 1].mean()
            turns = seen[:-1, 0][(way[:-1] < 0) != (way[1:] < 0)]
            self.assertAlmostEqual(2 * np.diff(turns).mean() / wanted, 1.0, delta=0.05, msg=depth)

    def test_swell_goes_through_a_cut_out_of_the_sea_and_does_not_come_back(self):
        period, high, cell = 1.6, 0.12, 1 / 8
        s = LiquidSolver(
            LiquidSettings(
                cell_size=cell,
                low=(0, 0, -1.5),
                high=(6, 1, 1),
                level=0.0,
                sides="waves",
                waves=WaveSettings(swell_height=high, swell_period=period, band=1.0),
            )
        )
        s.pool(0.0)
        n = s.shape[0]
        at = [n // 3, n // 2, 2 * n // 3]
        seen = np.array(run(s, 3 * period, lambda s: [s.time, *(height(s, i, 4) for i in at)]))
        last = seen[seen[:, 0] > period]
        for column in range(3):
            self.assertAlmostEqual(np.ptp(last[:, 1 + column]) / high, 1.0, delta=0.2)
        # it goes on as the theory says: what came back would be out of step
        place = s.origin[0] + cell * (n // 2 + 0.5)
        wanted = np.array([s.waves.surface(np.array([[place, 0.5]]), t)[0] for t in last[:, 0]])
        self.assertGreater(np.corrcoef(last[:, 2], wanted)[0, 1], 0.95)
        self.assertLess(abs(last[:, 2].mean()), 0.25 * cell)

    def test_a_still_sea_stays_still(self):
        s = LiquidSolver(LiquidSettings(cell_size=1 / 8, low=(0, 0, -1), high=(3, 3, 1), level=0.06, sides="waves"))
        s.pool(0.06)
        run(s, 1.0)
        speed = np.linalg.norm(s.speed, axis=1) / np.sqrt(G / 8)
        self.assertLess(np.sqrt((speed**2).mean()), 0.03)
        self.assertLess(abs(s.gauges()["volume_drift"]), 0.02)
