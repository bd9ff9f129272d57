"""Baking a Skin."""

import numpy as np

from urst.core.fields.liquid_frame import LiquidFrame
from urst.core.liquid.waves import Waves
from urst.core.skin.skinner import Skinner
from urst.kinds.working import Begun


def begin(inputs) -> Begun:
    """Put together the surface of the liquid that is read.

    Raises
    ------
    BadValue
        If there is none.
    """
    layer, meta, feed = inputs.liquid()
    source, sea = layer.settings, None
    if source.sides == "waves":
        waves = Waves.over(source, float(np.linalg.norm(inputs.shot.gravity)))
        assert waves is not None
        sea = waves.surface
    skinner = Skinner(
        inputs.layer.settings, meta["origin"], meta["cell"], meta["shape"], keeps=inputs.layer.keeps, beyond=sea,
        start_time=inputs.clock.seconds(inputs.shot.start),
    )  # fmt: skip

    def take(arrays):
        skinner.liquid = LiquidFrame.of(arrays)

    feed.told = take
    own = {"origin": [float(x) for x in skinner.origin], "cell": skinner.cell, "shape": list(skinner.shape)}
    return Begun({}, own, skinner, inputs.feeds, settle=lambda: feed.load(inputs.shot.start))
