"""How matter looks, the same on the stage and in preview pictures."""

from typing import NamedTuple

import numpy as np

from urst.core.preview.colour import linear

#: light scattered forward goes on almost as if it had not been: the fraction of extinction that dims what lies behind
DIMMING = 0.45
#: how much brighter a chip is than the piece it came from
CHIP = 1.15
#: how the parts of one piece, such as its bricks, differ in brightness
_WOBBLE = 0.34
#: what a metre of harbour water takes of red, green and blue, and what it gives instead; one sees SIGHT metres far
_CLEAR, _DEEP, SIGHT = (1.15, 0.42, 0.36), (0.022, 0.075, 0.08), 6.0
#: of what a contrast is, so much is left at the distance one sees (Koschmieder 1924)
_LEFT = 0.02
#: how much less a liquid takes of the light that it gives most of
_OWN = 0.5


class Tint(NamedTuple):
    """How a liquid looks where it is deep."""

    clear: tuple[float, float, float]
    """what a metre of it takes of red, green and blue [1/m]"""
    deep: tuple[float, float, float]
    """what it gives instead, linear"""


def tint(colour: str, sight: float) -> Tint:
    """Return how a liquid looks.

    Parameters
    ----------
    colour : str
        '#rrggbb' of what is deep; empty: that of harbour water.
    sight : float
        How far one sees into it [m].
    """
    if not colour:
        r, g, b = (c * SIGHT / sight for c in _CLEAR)
        return Tint((r, g, b), _DEEP)
    deep = linear(colour)
    takes = 1.0 - _OWN * deep / max(float(deep.max()), 1e-6)
    clear = -np.log(_LEFT) / sight * takes / takes.mean()
    return Tint(tuple(clear.tolist()), tuple(deep.tolist()))


def shade(part: np.ndarray) -> np.ndarray:
    """Return the brightness of parts by number (n,), about 1."""
    return 1.0 + _WOBBLE * ((np.asarray(part) * 0.61803) % 1.0 - 0.5)
