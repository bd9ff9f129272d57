"""Baking a Flood."""

from functools import partial

import numpy as np

from urst.core.bodies.boundary import Boundary
from urst.core.liquid.inflows import Inflow, Region
from urst.core.liquid.solver import LiquidSolver
from urst.kinds.working import Begun
from urst.scene.placing import hollows


def _within(room, level, places):
    """Signed distance of places (n, 3) from what is filled of a room [m]."""
    away = room.distance(places, 0.0)
    return away if level is None else np.maximum(away, places[:, 2] - level)


def begin(inputs) -> Begun:
    """Put together what holds the liquid and what is full of it at the start."""
    shot, settings = inputs.shot, inputs.layer.settings
    boundaries = [p.boundary for p in inputs.bodies("liquid")] + inputs.surroundings("liquid")
    inflows = [
        Inflow(
            inputs.carrier(x.piece),
            *inputs.window(x),
            np.array(x.velocity, float),
            x.rate,
            settings.seed + n,
            inputs.clock,
        )
        for n, x in enumerate(settings.inflows)
    ]
    regions = [
        Region(inputs.carrier(x.piece), *inputs.window(x), x.damping, x.does == "take away") for x in settings.regions
    ]
    solver = LiquidSolver(
        settings,
        shot.gravity,
        boundaries=boundaries,
        inflows=inflows,
        regions=regions,
        clock=inputs.clock,
        pulse=inputs.pulse,
    )
    start = inputs.start_frame()

    def settle():
        # what stands where at the first frame is known only when the feeds have been loaded
        if start is not None:
            solver.begin_from(start)
            return
        if settings.level is not None:
            solver.pool(settings.level, settings.pool_at)
        for fill in settings.fills:
            number = next(i for i, p in enumerate(shot.pieces) if p.name == fill.piece)
            room = Boundary(hollows(shot, [number]))
            found = room.at(0.0)
            box = (found.low.min(axis=0), found.high.max(axis=0)) if len(room) else None
            solver.fill(partial(_within, room, fill.level), fill.velocity, box=box)
        if settings.settle > 0.0:
            solver.settle(settings.settle)

    meta = {"origin": list(settings.low), "cell": settings.cell_size, "shape": list(solver.shape)}
    return Begun({}, meta, solver, inputs.feeds, settle=settle)
