"""Baking a Froth."""

from urst.core.froth.solver import Flow, FrothSolver
from urst.errors import BadValue
from urst.kinds.working import Begun


def begin(inputs) -> Begun:
    """Put together the froth of the liquid that is read.

    Raises
    ------
    BadValue
        If there is none.
    """
    frames = inputs.liquid()
    if frames is None:
        raise BadValue(f"'{inputs.layer.name}' has no liquid to come from: let it read a Flood.")
    meta, feed = frames
    solver = FrothSolver(
        inputs.layer.settings, inputs.shot.gravity, meta["origin"], meta["cell"], meta["shape"], pulse=inputs.pulse
    )
    feed.told = lambda arrays: solver.take(Flow(*(arrays[n] for n in ("position", "velocity", "phi", "walls"))))
    return Begun({}, {}, solver, inputs.feeds)
