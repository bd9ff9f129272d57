"""A liquid against what is known: under a gate, round what sinks, thrown up, and a thick thread that coils."""

import unittest

import numpy as np

from tests.bodies import fragments_of
from tests.test_afloat import G, advance, basin, box
from tests.test_liquid import along
from urst.core.bodies.boundary import Boundary
from urst.core.geometry import generators
from urst.core.geometry.mesh import transformed
from urst.core.liquid.inflows import Inflow
from urst.core.liquid.inlets import Inside
from urst.core.liquid.settings import LiquidSettings
from urst.core.liquid.solver import LiquidSolver


def depth(s, x):
    """How high water stands over a line across, without the cells at its ends [m]."""
    full = np.clip(0.5 - s.phi, 0.0, 1.0) * s.walls.fraction
    return full[int((x - s.origin[0]) / s.cell)].sum(axis=1)[1:-1].mean() * s.cell


def ball(radius, at):
    mesh = generators.ball(radius, 16)[0]
    return transformed(mesh, np.eye(3), np.array(at, float) - mesh.vertices.mean(axis=0))


class Gate(unittest.TestCase):
    def test_what_runs_out_under_a_gate_is_as_fast_as_it_has_fallen(self):
        # Torricelli with the speed of approach; the jet draws in to 0.61 of the opening (Henderson, Open channel
        # flow, 1966, quoted from memory). The gate is half a cell thick
        cell, opening = 1 / 16, 0.25
        walls = [
            box((0.0, -1, opening), (0.03, 2, 3)),
            box((-9, -1, -1), (9, 2, 0)),
            box((-9, -1, -1), (-2.5, 2, 3)),
            box((-9, -1, -1), (9, 0, 3)),
            box((-9, 8 * cell, -1), (9, 2, 3)),
        ]
        settings = LiquidSettings(cell_size=cell, low=(-2.625, 0, -0.125), high=(1.5, 8 * cell, 1.25), sides="open")
        s = LiquidSolver(settings, (0, 0, -G), boundaries=[Boundary(fragments_of(walls))])
        s.fill(lambda x: np.maximum(np.maximum(x[:, 2] - 1.0, x[:, 0] - 0.01), -2.5 - x[:, 0]))
        seen = []
        while s.time < 0.8:
            s.step(min(s.stable_dt(), 1 / 48))
            near = np.abs(s.origin[0] + cell * s.position[:, 0] - 0.4) < 0.08
            if s.time > 0.6:
                seen.append((depth(s, -0.3), depth(s, 0.4), s.speed[near, 0].mean()))
        high, low, speed = np.mean(seen, axis=0)
        fallen = np.sqrt(2 * G * (high - low) + (speed * low / high) ** 2)
        self.assertAlmostEqual(speed / fallen, 1.0, delta=0.05)
        self.assertAlmostEqual(low / opening, 0.61, delta=0.065)


class Thrown(unittest.TestCase):
    def test_what_is_heavy_sinks_with_half_of_what_it_displaces(self):
        for density in (4000.0, 8000.0):
            rigid, _, group = basin([ball(0.25, (1, 1, 1.5))], 1 / 16, (2, 2, 2.25), 2.0, density=density)
            dt = 1 / 240
            seen = np.array(advance(group, 12, dt, lambda r=rigid: r.bodies.velocity[0, 2]))
            wanted = -(density - 1000.0) / (density + 500.0)
            self.assertAlmostEqual((seen[5] - seen[0]) / (5 * dt * G), wanted, delta=0.04 * abs(wanted))

    def test_a_splash_is_as_high_on_finer_cells(self):
        # the height that 20 litres are thrown to where a ball goes in. The thinnest sheets are as thin as cells let
        # them be, so that a litre's height differs by more than half
        found = []
        for cell in (0.08, 0.07, 0.06):
            _, liquid, group = basin(
                [ball(0.3, (1.5, 1.5, 1.5))], cell, (3, 3, 2.5), 1.0, density=2500.0, velocity=[[0, 0, -5.0]]
            )
            litres = int(0.02 / (cell / 2) ** 3)
            found.append(
                max(
                    advance(
                        group, 9, 1 / 48, lambda s=liquid, n=litres, c=cell: c * np.sort(s.position[:, 2])[-n] - 1.0
                    )
                )
            )
        self.assertGreater(min(found), 0.03)
        self.assertLess(np.abs(found / np.mean(found) - 1.0).max(), 0.1, found)


class Thread(unittest.TestCase):
    def test_a_thick_thread_coils(self):
        # what is thick and slender buckles where it lands, and winds itself up (Taylor 1969; Ribe 2004)
        cell, high, radius, seen = 0.012, 0.36, 0.02, []
        spout = Boundary(
            fragments_of([transformed(generators.prism(radius, 0.03, 16)[0], np.eye(3), np.array([0, 0, high]))])
        )
        slab = Boundary(fragments_of([box((-1, -1, -1), (1, 1, 0))]))
        settings = LiquidSettings(
            cell_size=cell, low=(-0.12, -0.12, -0.02), high=(0.12, 0.12, high + 0.05), sides="open", viscosity=500.0
        )
        # a hair off the vertical, as all are
        pour = Inflow(Inside(spout), 0.0, 1e9, along((0.0, 0.012, -0.4)))
        s = LiquidSolver(settings, (0, 0, -G), boundaries=[slab], inflows=[pour])
        while s.time < 1.1:
            s.step(min(s.stable_dt(), 1 / 48))
            places = s.origin + cell * s.position
            thread = places[np.abs(places[:, 2] - 0.4 * high) < cell, :2]
            if s.time > 0.6 and len(thread):
                seen.append(thread.mean(axis=0))
        seen = np.array(seen)
        self.assertGreater(np.linalg.norm(seen, axis=1).max(), 0.5 * radius)
        # it goes round, and not to and fro
        turns = np.diff(np.unwrap(np.arctan2(seen[:, 1], seen[:, 0]))).sum() / (2 * np.pi)
        self.assertGreater(abs(turns), 0.5)
