"""The liquid: whole steps by size, a narrow band against all particles, bodies that float against the same held
fixed."""

import numpy as np

from benchmarks.triad import timed
from tests.bodies import fragments_of
from tests.test_afloat import APART, basin
from urst.core.bodies.boundary import Boundary
from urst.core.geometry import generators
from urst.core.liquid.settings import DENSITY, LiquidSettings
from urst.core.liquid.solver import LiquidSolver

DT = 1 / 96
#: such a share of 128^3 cells holds about 2 million particles
_SHALLOW = 0.13
#: boxes along an edge of those that float, and their densities as shares of the water's
ROW, DENSITIES = 10, (0.1, 0.5, 2.0, (0.05, 8.0))


def _moving(n, count=12):
    """Boxes that move among half a grid of water."""
    rng, side = np.random.default_rng(0), n // 10
    at = rng.uniform(1, n - side - 1, (count, 3)) * [1, 1, 0.5]
    boundary = Boundary(fragments_of([generators.box_between(x, x + side) for x in at]))
    pose = {"position": boundary.fragments.centre, "orientation": np.tile([1.0, 0, 0, 0], (count, 1))}
    shift = rng.normal(size=(count, 3)) * DT
    boundary.update(pose, pose | {"position": pose["position"] + shift}, 0.0, 2.0 * DT)
    return boundary


def _pool(n, depth, boundaries=(), fraction=0.5):
    """A pool that fills so much of n^3 cells of a metre, a slope on its surface so that it moves."""
    settings = LiquidSettings(cell_size=1.0, low=(0, 0, 0), high=(n, n, n), tolerance=1e-4, particle_depth=depth)
    s = LiquidSolver(settings, boundaries=list(boundaries))
    top = fraction * n + 0.025 * n + 1.0
    s.fill(lambda x: x[:, 2] - fraction * n - 0.05 * (x[:, 0] - 0.5 * n), box=((0, 0, 0), (n, n, top)))
    return s


def _step(solver):
    solver.step(DT)


def liquid():
    """Steps of a pool, and of boxes that float in one."""
    for n in (64, 128, 256):
        s = _pool(n, None, [_moving(n)], _SHALLOW)
        wet, count = int(((s.phi < 0) & (s.walls.fraction > 0)).sum()), len(s.position)
        label = f"liquid: a step of {n}^3, {count / 1e6:.1f} M particles, 12 moving boxes"
        yield label, wet, timed(lambda s=s: _step(s), 3)
    for depth in (None, 4.0):
        s = _pool(96, depth)
        wet = int(((s.phi < 0) & (s.walls.fraction > 0)).sum())
        label = (
            f"liquid: a step of 96^3, {'all' if depth is None else 'a band of'} {len(s.position) / 1e6:.2f} M particles"
        )
        yield label, wet, timed(lambda s=s: _step(s), 3)
    yield from afloat()


def _boxes(density):
    """A hundred boxes of half a metre that float or sink in a pool, or are held; a round of both solvers."""
    rng = np.random.default_rng(1)
    low = [(0.25 + 0.7 * i, 0.25 + 0.7 * j, 1.0 + 0.3 * rng.random()) for i in range(ROW) for j in range(ROW)]
    held = density is None
    each = (
        np.exp(rng.uniform(*np.log(density), ROW**2)) if isinstance(density, tuple) else np.full(ROW**2, density or 1.0)
    )
    rigid, liquid, group = basin(
        [generators.box_between(x, np.add(x, 0.5)) for x in low],
        1 / 16,
        (7.25, 7.25, 2.5),
        1.5,
        settings=APART,
        density=each * DENSITY,
        fixed=range(ROW**2) if held else (),
    )
    return rigid, liquid, group


def afloat():
    """The pressure of a step in which a hundred boxes float, against the same held fixed."""
    for density in (None, *DENSITIES):
        _, s, group = _boxes(density)
        group.advance(0.0, DT)
        wet = int(((s.phi < 0) & (s.walls.fraction > 0)).sum())
        name = "held" if density is None else f"density {density}"
        seconds = timed(lambda s=s: s.press(DT), 3)
        yield f"liquid: pressure with 100 boxes, {name}, {s.solution.iterations} rounds", wet, seconds
