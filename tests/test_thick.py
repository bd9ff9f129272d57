"""Thick liquid and surface tension: what rubs, turns as a whole, pulls itself round."""

import unittest
from unittest import mock

import numpy as np

from tests.bodies import fragments_of, solver
from tests.test_afloat import APART, advance
from urst.core.bodies.boundary import Boundary
from urst.core.bodies.nodes import Nodes
from urst.core.bodies.parting import Parting
from urst.core.bodies.patches import find_patches
from urst.core.coupling.exchanges import exchange
from urst.core.coupling.group import Group, Member
from urst.core.geometry import generators
from urst.core.geometry.mesh import transformed
from urst.core.liquid import viscous
from urst.core.liquid.pressure_step import PressureStep
from urst.core.liquid.settings import DENSITY, LiquidSettings
from urst.core.liquid.solver import LiquidSolver
from urst.core.liquid.viscous import apply_viscosity, steady_dt
from urst.core.solids.walls import Walls
from urst.errors import SolverFailed


def drop(cell, half, inside, velocity=(0.0, 0.0, 0.0), **settings):
    """A drop without gravity, its place told by `inside` about the middle of a cube."""
    settings = LiquidSettings(
        cell_size=cell, low=(-half,) * 3, high=(half,) * 3, sides="open", most_substeps=256, **settings
    )
    liquid = LiquidSolver(settings, (0.0, 0.0, 0.0))
    liquid.fill(inside, velocity)
    return liquid


def carried(cell, density, viscosity, velocity, *, gravity=(0.0, 0.0, 0.0), radius=0.25, side=2.0):
    """A ball in the middle of a cube of thick liquid that is to go as it is said, coupled."""
    mesh = generators.ball(radius, 16)[0]
    mesh = transformed(mesh, np.eye(3), np.full(3, side / 2) - mesh.vertices.mean(axis=0))
    rigid = solver([mesh], settings=APART, gravity=gravity, density=density)
    fragments = fragments_of([mesh])
    parting = Parting(Boundary(fragments), find_patches(fragments, 1e-3), np.zeros(0, np.int64))
    settings = LiquidSettings(
        cell_size=cell, low=(0, 0, 0), high=(side, side, side + 0.25), viscosity=viscosity, tolerance=1e-4
    )
    liquid = LiquidSolver(settings, gravity, boundaries=[parting.boundary])
    liquid.fill(lambda x: x[:, 2] - side, velocity)
    between = exchange(rigid, liquid, {id(rigid): [parting], id(liquid): []}, 1.0, 1.0)
    return rigid, liquid, Group([Member("fall", rigid, [parting]), Member("flood", liquid, [])], [("flood", between)])


class Dragged(unittest.TestCase):
    def test_a_ball_sinks_and_rises_as_stokes_says_at_any_step(self):
        # alone 2/9 of what it weighs over its viscosity; among walls at four radii about 0.55 to 0.6 of that (Haberman
        # & Sayre 1958, quoted from memory)
        radius = 0.25
        for viscosity, density, dt, frames in (
            (400.0, 2000.0, 1 / 48, 24),
            (400.0, 300.0, 1 / 48, 24),
            (4e3, 2e3, 1 / 24, 9),
        ):
            alone = 2 / 9 * (density - 1000.0) * 9.81 * radius**2 / viscosity
            rigid, _, group = carried(1 / 12, density, viscosity, (0, 0, 0), gravity=(0, 0, -9.81))
            speed = advance(group, frames, dt, lambda r=rigid: -r.bodies.velocity[0, 2])[-1]
            self.assertGreater(speed / alone, 0.53)
            self.assertLess(speed / alone, 0.66)

    def test_it_goes_and_turns_with_what_is_thick_about_it(self):
        spin = 1.0
        turning = lambda x: spin * np.stack([1.0 - x[:, 1], x[:, 0] - 1.0, 0 * x[:, 0]], axis=1)  # noqa: E731
        for density in (100.0, 1000.0, 8000.0):
            rigid, _, group = carried(1 / 12, density, 2000.0, turning)
            advance(group, 2, 1 / 96)
            # the walls hold the outside, so that all slows down meanwhile; what is heavy comes along later
            self.assertGreater(rigid.bodies.spin[0, 2], 0.15 * spin)
            self.assertLess(rigid.bodies.spin[0, 2], spin)
            self.assertLess(np.abs(rigid.bodies.velocity[0]).max(), 0.02)

    def test_what_a_body_gets_the_liquid_loses(self):
        # free of walls: a drop that flies past a ball within it takes it along
        mesh = generators.ball(0.25, 12)[0]
        mesh = transformed(mesh, np.eye(3), np.full(3, 1.0) - mesh.vertices.mean(axis=0))
        walls = Walls((24, 24, 24), np.zeros(3), 1 / 12, [Boundary(fragments_of([mesh]))])
        walls.place(0.0)
        phi = (
            (np.linalg.norm(np.moveaxis(np.indices((24, 24, 24)), 0, -1) / 12 + 1 / 24 - 1.0, axis=-1) - 0.7) * 12
        ).astype(np.float32)
        velocity = [np.full(w.shape, v, np.float32) for w, v in zip(walls.weights, (1.0, 0.0, 0.5))]
        mass = 2000.0 * 4 / 3 * np.pi * 0.25**3
        nodes = Nodes(
            np.zeros(1, np.int64),
            np.ones(1, bool),
            np.full((1, 3), 1.0),
            np.array([1 / mass]),
            np.eye(3)[None] / (0.4 * mass * 0.25**2),
            np.zeros((1, 6)),
        )
        pressure_step = PressureStep(walls, phi, np.array([0, 0, 1.0]), velocity, nodes)
        pressure_step.drive(pressure_step.node_velocity)
        fraction = [np.empty_like(u) for u in velocity]
        kind = [np.empty(u.shape, np.uint8) for u in velocity]
        for axis in range(3):
            viscous.kernels.faces(phi, walls.weights[axis], axis, kind[axis], fraction[axis])
        full = DENSITY / 12**3

        def held():
            wet = [k != viscous.kernels.AIR for k in kind]
            return [full * float((s * u)[f].sum(dtype=float)) for s, u, f in zip(fraction, velocity, wet)]

        before = held()
        pressure_step.apply_viscosity(velocity, 500.0, 1 / 48)
        lost = np.subtract(before, held())
        np.testing.assert_allclose(pressure_step.viscous_impulse[0, :3], lost, rtol=2e-3, atol=0.02)
        np.testing.assert_allclose(
            mass * pressure_step.node_velocity[0, :3], pressure_step.viscous_impulse[0, :3], rtol=1e-3, atol=1e-3
        )
        self.assertGreater(pressure_step.node_velocity[0, 0], 0.1)


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
        apply_viscosity(velocity, phi, walls, viscosity / 1000.0, dt)
        square = (2.0 - 2.0 * np.cos(3 * np.pi / n)) / cell**2
        kept = 1.0 / (1.0 + viscosity / DENSITY * dt * square)
        np.testing.assert_allclose(velocity[0][4, :, 4], kept * wave, atol=2e-3)
        self.assertLess(np.abs(velocity[1]).max(), 1e-3)

    def test_what_turns_as_a_whole_goes_on_turning(self):
        # of tar, which would not turn if only its velocity were smoothed
        spin = 4.0
        liquid = drop(
            0.05,
            0.8,
            lambda x: np.linalg.norm(x * [1, 1, 0.5], axis=1) - 0.4,
            lambda x: np.stack([-spin * x[:, 1], spin * x[:, 0], 0 * x[:, 0]], axis=1),
            viscosity=5000.0,
        )

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
            self.assertRaisesRegex(SolverFailed, "use a lower viscosity"),
        ):
            liquid.step(0.1)


class Pulling(unittest.TestCase):
    def test_a_drop_swings_with_its_period(self):
        # Rayleigh 1879: the square of the frequency of the lowest mode is 8 tension / (density radius^3)
        radius, cell, tension = 0.1, 0.0125, 10.0
        long = np.array([1.0, 1.0, 1.0 / 1.05**3]) * 1.05
        liquid = drop(cell, 0.2, lambda x: np.linalg.norm(x * long, axis=1) - radius, tension=tension)
        self.assertLess(liquid.stable_dt(), 1.01 * steady_dt(tension / 1000.0, cell))
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
