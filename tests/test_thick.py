"""Thick liquid and surface tension: what rubs, turns as a whole, pulls itself round."""

import unittest
from unittest import mock

import numpy as np

from urst.core.liquid import viscous
from urst.core.liquid.pressing import CLOSED
from urst.core.liquid.settings import DENSITY, LiquidSettings
from urst.core.liquid.solver import LiquidSolver
from urst.core.liquid.viscous import steady_dt, thicken
from urst.core.liquid.walls import Walls
from urst.errors import SolverFailed


def drop(cell, half, inside, velocity=(0.0, 0.0, 0.0), **settings):
    """A drop without gravity, its place told by `inside` about the middle of a cube."""
    settings = LiquidSettings(
        cell_size=cell, low=(-half,) * 3, high=(half,) * 3, sides="open", most_substeps=256, **settings
    )
    liquid = LiquidSolver(settings, (0.0, 0.0, 0.0))
    liquid.fill(inside, velocity)
    return liquid


class Rubbing(unittest.TestCase):
    def test_a_shear_wave_dies_out_as_its_length_says(self):
        n, cell, dt, viscosity = 32, 0.05, 0.02, 20.0
        walls = Walls((8, n, 8), np.zeros(3), cell, [])
        walls.place(0.0)
        walls.drive(np.zeros((0, 3)), np.zeros((0, 3)))
        phi = np.full((8, n, 8), -5.0, np.float32)
        velocity = [np.zeros(w.shape, np.float32) for w in walls.weights]
        wave = np.cos(3 * np.pi * (np.arange(n) + 0.5) / n).astype(np.float32)
        velocity[0][:] = wave[None, :, None]
        thicken(velocity, phi, walls, viscosity, dt, CLOSED)
        square = (2.0 - 2.0 * np.cos(3 * np.pi / n)) / cell**2
        kept = 1.0 / (1.0 + viscosity / DENSITY * dt * square)
        np.testing.assert_allclose(velocity[0][4, :, 4], kept * wave, atol=2e-3)
        self.assertLess(np.abs(velocity[1]).max(), 1e-3)

    def test_what_turns_as_a_whole_goes_on_turning(self):
        # of tar, which would not turn if only its velocity were smoothed
        spin = 4.0
        liquid = drop(
            0.05, 0.8, lambda x: np.linalg.norm(x * [1, 1, 0.5], axis=1) - 0.4,
            lambda x: np.stack([-spin * x[:, 1], spin * x[:, 0], 0 * x[:, 0]], axis=1), viscosity=5000.0,
        )  # fmt: skip

        def turning():
            places = liquid.origin + liquid.cell * liquid.position.astype(float)
            return (places[:, 0] * liquid.speed[:, 1] - places[:, 1] * liquid.speed[:, 0]).mean()

        start = turning()
        for _ in range(12):
            liquid.step(1 / 48)
        # the grid alone loses 4 % of it meanwhile
        self.assertGreater(turning(), 0.91 * start)

    def test_syrup_spreads_far_slower_than_water(self):
        width = {}
        for viscosity in (0.0, 400.0):
            settings = LiquidSettings(
                cell_size=0.05, low=(-1.2, -0.4, 0), high=(1.2, 0.4, 0.8), viscosity=viscosity, most_substeps=64
            )
            liquid = LiquidSolver(settings)
            liquid.fill(lambda x: np.maximum(np.abs(x[:, 0]) - 0.3, x[:, 2] - 0.6))
            while liquid.time < 0.4:
                liquid.step(min(liquid.stable_dt(), 1 / 48))
            width[viscosity] = np.percentile(np.abs(liquid.origin[0] + liquid.cell * liquid.position[:, 0]), 99)
            self.assertLess(abs(liquid.gauges()["volume_drift"]), 0.03)
        self.assertGreater(width[0.0], 0.8)
        self.assertLess(width[400.0], 0.55)

    def test_what_does_not_converge_says_so(self):
        liquid = drop(0.05, 0.4, lambda x: np.linalg.norm(x, axis=1) - 0.3, viscosity=1e6)
        liquid.velocity[0][:] = np.random.default_rng(1).standard_normal(liquid.velocity[0].shape)
        with (
            mock.patch.object(viscous, "MOST", 3),
            self.assertRaisesRegex(SolverFailed, "use a viscosity under 1e\\+06"),
        ):
            liquid.step(0.1)


class Pulling(unittest.TestCase):
    def test_a_drop_swings_with_its_period(self):
        # Rayleigh 1879: the square of the frequency of the lowest mode is 8 tension / (density radius^3)
        radius, cell, tension = 0.1, 0.0125, 10.0
        long = np.array([1.0, 1.0, 1.0 / 1.05**3]) * 1.05
        liquid = drop(cell, 0.2, lambda x: np.linalg.norm(x * long, axis=1) - radius, tension=tension)
        self.assertLess(liquid.stable_dt(), 1.01 * steady_dt(tension, cell))
        places = lambda: liquid.origin + liquid.cell * liquid.position.astype(float)  # noqa: E731
        seen, times = [], []
        while liquid.time < 0.62:
            liquid.step(liquid.stable_dt())
            x = places()
            seen.append((x[:, 2] ** 2).mean() / (x[:, :2] ** 2).mean() - 1.0)
            times.append(liquid.time)
        seen, times = np.array(seen), np.array(times)
        turns = times[1:][np.diff(np.sign(seen)) != 0]
        self.assertGreaterEqual(len(turns), 2)
        period = 2 * np.pi / np.sqrt(8 * tension / (DENSITY * (np.prod(1 / long)) * radius**3))
        self.assertAlmostEqual(2 * (turns[1] - turns[0]), period, delta=0.12 * period)
