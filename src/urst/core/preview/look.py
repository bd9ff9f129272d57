"""How matter looks, the same on the stage and in preview pictures."""

import numpy as np

#: light scattered forward goes on almost as if it had not been: the fraction of extinction that dims what lies behind
DIMMING = 0.45
#: how much brighter a chip is than the piece it came from
CHIP = 1.15
#: how the parts of one piece, such as its bricks, differ in brightness
_WOBBLE = 0.34


def shade(part: np.ndarray) -> np.ndarray:
    """Return the brightness of parts by number (n,), about 1."""
    return 1.0 + _WOBBLE * ((np.asarray(part) * 0.61803) % 1.0 - 0.5)
