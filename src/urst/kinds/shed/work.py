"""Baking a Shed."""

import numpy as np

from urst.core.coupling.baked import Dragged
from urst.core.coupling.wetted import Wetted
from urst.core.debris.solver import DebrisSolver
from urst.core.debris.sources import PointSource
from urst.kinds.working import Begun


def begin(inputs) -> Begun:
    """Put together what sheds, what is bounced off and what gives off points."""
    shot, settings = inputs.shot, inputs.layer.settings
    partings = inputs.bodies("chips")
    boundaries = [p.boundary for p in partings] + inputs.surroundings("chips")
    sources = [
        PointSource(
            inputs.carrier(s.piece), s.where, s.rate, s.dust_share, np.array(s.velocity, float), s.spread,
            *inputs.window(s), seed=settings.seed + 101 * number, clock=inputs.clock,
        )
        for number, s in enumerate(settings.sources)
    ]  # fmt: skip
    solver = DebrisSolver(
        settings, shot.gravity, partings=partings, boundaries=boundaries, sources=sources, clock=inputs.clock
    )
    start, air = inputs.start_frame(), inputs.air()
    if start is not None:
        solver.begin_from(start)
    liquids = inputs.liquids()
    flying = Dragged(solver, air) if air else solver
    return Begun({}, {}, Wetted(flying, liquids) if liquids else flying, inputs.feeds)
