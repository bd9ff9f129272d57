"""Baking a Skin."""

from urst.core.skin.skinner import Liquid, Skinner
from urst.errors import BadValue
from urst.kinds.working import Begun


def begin(inputs) -> Begun:
    """Put together the surface of the liquid that is read.

    Raises
    ------
    BadValue
        If there is none.
    """
    frames = inputs.liquid()
    if frames is None:
        raise BadValue(f"'{inputs.layer.name}' has no liquid to draw: let it read a Flood.")
    meta, feed = frames
    skinner = Skinner(inputs.layer.settings, meta["origin"], meta["cell"], meta["shape"], keeps=inputs.layer.keeps)

    def take(arrays):
        skinner.liquid = Liquid(*(arrays[n] for n in ("position", "velocity", "phi", "walls")))

    feed.told = take
    own = {"origin": [float(x) for x in skinner.origin], "cell": skinner.cell, "shape": list(skinner.shape)}
    return Begun({}, own, skinner, inputs.feeds, settle=lambda: feed.load(inputs.shot.start))
