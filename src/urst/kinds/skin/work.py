"""Baking a Skin."""

import numpy as np

from urst.core.fields.liquid_frame import LiquidFrame
from urst.core.liquid.waves import Waves
from urst.core.skin.skinner import Skinner
from urst.kinds.inputs import Inputs
from urst.kinds.prepared import PreparedLayer


def prepare(inputs: Inputs) -> PreparedLayer:
    """Put together the surface of the liquid that is read.

    Raises
    ------
    BadValue
        If there is none.
    """
    facts, feed = inputs.liquid_frames(lambda arrays: skinner.take(LiquidFrame.of(arrays)))
    sea, grid = facts.sea, facts.grid
    waves = sea and Waves(sea.waves, sea.level, sea.depth, float(np.linalg.norm(inputs.shot.gravity)), sea.seed)
    skinner: Skinner = Skinner(
        inputs.layer.settings,
        grid.low,
        grid.cell,
        grid.shape,
        keeps=inputs.layer.keeps,
        beyond=waves.surface if waves else None,
        start_time=inputs.clock.seconds(inputs.shot.start),
    )
    own = {"origin": [float(x) for x in skinner.origin], "cell": skinner.cell, "shape": list(skinner.shape)}
    return PreparedLayer({}, own, skinner, inputs.feeds, settle=lambda: feed.load(inputs.shot.start))
