"""Baking a Billow."""

import numpy as np

from urst.core.gas.emitters import DustSource
from urst.core.gas.solver import GasSolver
from urst.core.gas.sources import Source
from urst.kinds.inputs import Inputs
from urst.kinds.prepared import PreparedLayer


def prepare(inputs: Inputs) -> PreparedLayer:
    """Put together the air, what stands in it and what gives off dust."""
    shot, layer, settings = inputs.shot, inputs.layer, inputs.layer.settings
    boundaries = [p.boundary for p in inputs.bodies("gas")] + inputs.surroundings("gas")
    sources: list[Source] = [
        *inputs.puffs(settings.number(settings.debris_gives)),
        *(
            DustSource(
                inputs.carrier(s.piece),
                s.where,
                s.rate,
                np.array(s.velocity, float),
                *inputs.window(s),
                cell=settings.cell_size,
                seed=number,
                clock=inputs.clock,
                scalar=settings.number(s.gives),
            )
            for number, s in enumerate(settings.sources)
        ),
    ]
    solver = GasSolver(
        settings,
        shot.gravity,
        boundaries=boundaries,
        sources=sources,
        clock=inputs.clock,
        keeps=layer.keeps,
        liquids=inputs.liquids(),
        check_cancelled=inputs.check_cancelled,
    )
    start = inputs.start_frame()
    if start is not None:
        solver.begin_from(start)
    meta = {"origin": list(settings.low), "cell": settings.cell_size, "shape": list(solver.shape)}
    return PreparedLayer({}, meta, solver, inputs.feeds)
