"""Air that liquid shuts in: it keeps its volume, rises, and bears."""

import unittest

import numpy as np

from tests.bodies import fragments_of, solver
from tests.test_afloat import APART, G, advance
from tests.test_liquid import amount, box, run, tank
from tests.test_vessels import bodies
from urst.core.bodies.boundary import Boundary
from urst.core.bodies.parting import Parting
from urst.core.bodies.patches import find_patches, ties, together
from urst.core.coupling.exchanges import exchange
from urst.core.coupling.group import Group, Member
from urst.core.liquid import air
from urst.core.liquid.settings import LiquidSettings
from urst.core.liquid.solver import LiquidSolver

CELL = 1 / 16
KEEPS = "keeps its volume"


def cup(low, high, wall=0.125):
    """The walls of a cup that stands on its head: four sides and a lid."""
    (a, b, c), (d, e, f) = low, high
    return [
        box((a, b, c), (a + wall, e, f)),
        box((d - wall, b, c), (d, e, f)),
        box((a + wall, b, c), (d - wall, b + wall, f)),
        box((a + wall, e - wall, c), (d - wall, e, f)),
        box((a + wall, b + wall, f - wall), (d - wall, e - wall, f)),
    ]


def bubble(s):
    """The height of the middle of the air below 1.9 m [m]."""
    n = int(1.9 / s.cell)
    air_ = np.clip(0.5 + s.phi, 0, 1)[:, :, :n]
    return float((air_ * (np.arange(n) + 0.5)).sum() / air_.sum()) * s.cell


def room(x, side, low, high):
    """Distance from a shaft about (1, 1), between two heights [m]."""
    return np.maximum(np.abs(x[:, :2] - 1.0).max(axis=1) - side, np.abs(x[:, 2] - (low + high) / 2) - (high - low) / 2)


class Kept(unittest.TestCase):
    def test_a_cup_held_under_water_keeps_its_air_or_fills(self):
        held = {}
        for way in (KEEPS, "vents"):
            walls = Boundary(fragments_of(cup((0.625, 0.625, 0.5), (1.375, 1.375, 1.125))))
            s = tank(CELL, (2, 2, 2), boundaries=[walls], air=way)
            # full to 1.5 m but for the room in the cup
            s.fill(lambda x: np.maximum(x[:, 2] - 1.5, -room(x, 0.25, 0.5, 1.0)))
            dry = lambda s: float(((s.phi > 0) & (s.walls.fraction > 0.5))[12:20, 12:20, 8:16].sum())  # noqa: E731
            before = dry(s)
            run(s, 0.6, most=1 / 48)
            held[way] = dry(s) / before
            self.assertLess(abs(s.gauges()["volume_drift"]), 0.02)
        self.assertGreater(held[KEEPS], 0.95)
        self.assertLess(held["vents"], 0.5)

    def test_a_bubble_sets_off_with_twice_gravity(self):
        # it weighs nothing and moves half of what it displaces along (Lamb 1932, sec. 92); a bubble of four cells'
        # radius is a fifth too slow, and the more cells the better
        found, radius = [], 0.25
        for cell in (1 / 16, 1 / 24):
            s = tank(cell, (2, 2, 2.5), air=KEEPS)
            s.fill(lambda x: np.maximum(x[:, 2] - 2.25, radius - np.linalg.norm(x - [1.0, 1.0, 1.0], axis=1)))
            start = bubble(s)
            seen = np.array(run(s, 1 / 16, lambda s, z=start: (s.time, bubble(s) - z), 1 / 192))
            found.append(2.0 * np.polyfit(seen[:, 0] ** 2, seen[:, 1], 1)[0] / G)
            held = s.pockets.volume.sum() * cell**3 / (4 / 3 * np.pi * radius**3)
            self.assertAlmostEqual(held, 1.0, delta=0.02)
        self.assertGreater(found[0], 1.45)
        self.assertGreater(found[1], found[0] + 0.05)
        self.assertLess(found[1], 2.0)
        run(s, 0.25, most=1 / 96)
        volume = air.volumes(s.pockets.label, s.phi, s.walls.fraction).sum() * s.cell**3
        self.assertAlmostEqual(volume / (4 / 3 * np.pi * radius**3), 1.0, delta=0.06)

    def test_a_bell_floats_on_the_air_in_it(self):
        # five plates in one piece, heavier than water: without the air they would sink
        meshes, whole = cup((0.5, 0.5, 0.6), (1.5, 1.5, 1.35)), np.zeros(5, np.int64)
        sinks = {}
        for way in (KEEPS, "vents"):
            rigid = solver(meshes, settings=APART, gravity=(0, 0, -G), density=1500.0, whole=whole)
            fragments = bodies(meshes, 0)
            parting = Parting(
                Boundary(fragments),
                together(find_patches(fragments, 1e-3), ties(fragments, whole)),
                np.zeros(0, np.int64),
            )
            settings = LiquidSettings(cell_size=CELL, low=(0, 0, 0), high=(2, 2, 2.25), air=way)
            liquid = LiquidSolver(settings, (0, 0, -G), boundaries=[parting.boundary])
            liquid.fill(lambda x: np.maximum(x[:, 2] - 1.2, -room(x, 0.375, 0.6, 1.6)))
            between = exchange(rigid, liquid, {id(rigid): [parting], id(liquid): []}, 1.0, 1.0)
            group = Group([Member("fall", rigid, [parting]), Member("flood", liquid, [])], [("flood", between)])
            seen = advance(group, 20, 1 / 48, lambda r=rigid: r.bodies.position[4, 2])
            sinks[way] = seen[0] - seen[-1]
            self.assertLess(liquid.momentum_lost(), 1e-6)
        self.assertLess(sinks[KEEPS], 0.3 * sinks["vents"], sinks)


class Followed(unittest.TestCase):
    def test_pockets_that_part_and_join_hold_together_what_they_held(self):
        before = np.zeros((20, 8, 8), np.int32)
        before[2:8, 2:6, 2:6] = 1
        before[12:18, 2:6, 2:6] = 2
        first = air.Kept(before, np.array([100.0, 60.0]))
        one = (before > 0).astype(np.int32)
        one[8:12, 2:6, 2:6] = 1
        joined = air.followed(first, one, np.array([150.0]))
        self.assertAlmostEqual(joined.volume.sum(), 160.0)
        parted = air.followed(joined, before, np.array([90.0, 90.0]))
        self.assertAlmostEqual(parted.volume.sum(), 160.0)
        new = np.zeros_like(before)
        new[0:2, 0:2, 0:3] = 1
        self.assertEqual(
            air.followed(air.Kept(np.roll(before, 10, axis=0) * 0, np.array([5.0])), new, np.array([12.0])).volume[0],
            12.0,
        )

    def test_a_full_vessel_s_only_pocket_is_none(self):
        s = tank(CELL, (1, 1, 1), boundaries=[Boundary(fragments_of([box((-1, -1, 0.75), (2, 2, 2))]))], air=KEEPS)
        s.fill(lambda x: x[:, 2] - 0.5)
        run(s, 0.2)
        self.assertEqual(s.gauges()["pockets"], 0.0)
        self.assertEqual(amount(s), s.poured)
        self.assertEqual(LiquidSettings().air, "vents")
