"""Baking a Froth."""

from urst.core.fields.liquid_frame import LiquidFrame
from urst.core.froth.solver import FrothSolver
from urst.kinds.working import Begun


def begin(inputs) -> Begun:
    """Put together the froth of the liquid that is read.

    Raises
    ------
    BadValue
        If there is none.
    """
    facts, _ = inputs.liquid_frames(lambda arrays: solver.take(LiquidFrame.of(arrays)))
    grid = facts.grid
    solver = FrothSolver(
        inputs.layer.settings, inputs.shot.gravity, grid.low, grid.cell, grid.shape, pulse=inputs.pulse
    )
    return Begun({}, {}, solver, inputs.feeds)
