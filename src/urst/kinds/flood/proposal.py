"""What a new Flood begins with."""

from typing import Any

import numpy as np

from urst.scene.placing import bounds

#: cells along the longer side of a new layer's domain
_ALONG = 64
#: how far the domain goes beyond the set, in its heights, and how much of its height is full
_ASIDE, _ABOVE, _FULL = 0.2, 0.6, 0.25


def proposal(shot: Any) -> dict:
    """Return a domain about the set with a pool in it, and cells that resolve it."""
    box = bounds(shot)
    if not box:
        return {"level": 0.5}
    low, high = (np.array(c, float) for c in box)
    tall = max(float(high[2] - low[2]), 0.2 * float((high - low)[:2].max()))
    aside = _ASIDE * tall
    low, high = low - [aside, aside, 0.0], high + [aside, aside, _ABOVE * tall]
    cell = float(f"{(high - low).max() / _ALONG:.2g}")
    corner = lambda x: [round(float(v), 2) for v in x]  # noqa: E731
    return {
        "cell_size": cell,
        "low": corner(low),
        "high": corner(high),
        "level": round(float(low[2] + _FULL * tall), 2),
    }
