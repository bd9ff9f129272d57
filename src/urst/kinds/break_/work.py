"""Baking a Break."""

import numpy as np

from urst.core.fracture.breaking import break_pieces
from urst.kinds.inputs import Inputs
from urst.kinds.prepared import PreparedLayer
from urst.scene.placing import placed


def prepare(inputs: Inputs) -> PreparedLayer:
    """Break the pieces."""
    shot, layer = inputs.shot, inputs.layer
    cast = inputs.kind.cast(shot, layer)
    pieces = [(n, placed(shot.pieces[i], shot)) for n, i in enumerate(cast)]
    broken = break_pieces(pieces, layer.settings, inputs.check_cancelled)
    found = broken.fragments
    # parts of one fragment count as one
    one = np.where(found.whole < 0, np.arange(len(found)), len(found) + found.whole)
    volume = np.bincount(np.unique(one, return_inverse=True)[1], found.volume)
    gauges = {
        "fragments": float(len(volume)),
        "smallest": float(volume.min()),
        "largest": float(volume.max()),
        "volume_kept": float(volume.sum() / broken.volume),
        "shared_area": float(broken.patches.area.sum()),
    }
    return PreparedLayer(static=broken.fragments.to_arrays() | broken.patches.to_arrays(), meta={"gauges": gauges})
