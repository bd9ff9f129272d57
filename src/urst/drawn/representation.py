"""What a representation is: how a frame is encoded for the stage, and what lies between two frames.

How it is drawn on the stage is the module of the same name among the scripts.
"""

from typing import Protocol

import numpy as np

from urst.drawn.codec import Quantised, quantised
from urst.kinds.kind import Arrays

#: arrays and what is said of them
Drawn = tuple[dict[str, np.ndarray | Quantised], dict]

#: coarser levels at most
LEVELS = 2
#: coarsest step that a quantised place may have [m]; farther flung ones are kept in 32 bits
_COARSEST = 2e-3


class Representation(Protocol):
    """A way of drawing frames and handing them over."""

    def encode(self, arrays: Arrays) -> list[Drawn]:
        """Return a frame's arrays for the browser, the full level first, then coarser ones if it is large.

        Parameters
        ----------
        arrays : dict
            In the terms of the representation; see `Kind.drawn`.
        """

    def between(self, first: Arrays, second: Arrays, span: float, fraction: float) -> Arrays:
        """Return what there is a fraction of the way from a frame to the next.

        Parameters
        ----------
        first, second : dict
            Frames, in the terms of the representation.
        span : float
            Between them [s].
        fraction : float
            0 to 1.
        """


def places(position: np.ndarray) -> np.ndarray | Quantised:
    """Return places as the browser takes them: in 16 bits where these are fine enough.

    Parameters
    ----------
    position : (n, 3) float [m]
    """
    found = quantised(position)
    fine = (found.high - found.low).max(initial=0.0) / 65535 <= _COARSEST
    return found if fine else np.asarray(position, np.float32)
