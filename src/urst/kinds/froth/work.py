"""Baking a Froth."""

from urst.core.fields.liquid_frame import LiquidFrame
from urst.core.froth.solver import FrothSolver
from urst.kinds.inputs import Inputs
from urst.kinds.prepared import PreparedLayer


def prepare(inputs: Inputs) -> PreparedLayer:
    """Put together the froth of the liquid that is read.

    Raises
    ------
    BadValue
        If there is none.
    """
    facts, _ = inputs.liquid_frames(lambda arrays: solver.take(LiquidFrame.of(arrays)))
    grid = facts.grid
    solver: FrothSolver = FrothSolver(
        inputs.layer.settings,
        inputs.shot.gravity,
        grid.low,
        grid.cell,
        grid.shape,
        check_cancelled=inputs.check_cancelled,
    )
    return PreparedLayer({}, {}, solver, inputs.feeds)
