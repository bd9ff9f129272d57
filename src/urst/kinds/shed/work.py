"""Baking a Shed."""

from collections.abc import Callable

import numpy as np

from urst.core.coupling.drag import PointDrag, in_baked_gases
from urst.core.coupling.wetted import PointsInLiquids
from urst.core.debris.solver import DebrisSolver
from urst.core.debris.sources import PointSource
from urst.kinds.inputs import Inputs
from urst.kinds.prepared import PreparedLayer


def prepare(inputs: Inputs) -> PreparedLayer:
    """Put together what sheds, what is bounced off and what gives off points."""
    shot, settings = inputs.shot, inputs.layer.settings
    partings = inputs.bodies("chips")
    boundaries = [p.boundary for p in partings] + inputs.surroundings("chips")
    sources = [
        PointSource(
            inputs.carrier(s.piece),
            s.where,
            s.rate,
            s.dust_share,
            np.array(s.velocity, float),
            s.spread,
            opens,
            closes,
            seed=settings.seed + 101 * number,
            clock=inputs.clock,
        )
        for number, s in enumerate(settings.sources)
        for opens, closes in [inputs.window(s)]
    ]
    solver = DebrisSolver(
        settings, shot.gravity, partings=partings, boundaries=boundaries, sources=sources, clock=inputs.clock
    )
    start, gases, liquids = inputs.start_frame(), inputs.gases(), inputs.liquids()
    if start is not None:
        solver.begin_from(start)
    acting: list[Callable[[float], None]] = []
    if liquids:
        acting.append(PointsInLiquids(solver, liquids))
    if gases:
        acting.append(in_baked_gases(PointDrag(solver), gases, lambda: solver.time))
    return PreparedLayer({}, {}, solver, inputs.feeds, before_step=acting)
