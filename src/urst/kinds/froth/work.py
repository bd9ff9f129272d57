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
    _, meta, feed = inputs.liquid()
    solver = FrothSolver(
        inputs.layer.settings, inputs.shot.gravity, meta["origin"], meta["cell"], meta["shape"], pulse=inputs.pulse
    )
    feed.told = lambda arrays: solver.take(LiquidFrame.of(arrays))
    return Begun({}, {}, solver, inputs.feeds)
