"""The representations there are."""

from urst.drawn.bodies import Bodies
from urst.drawn.points import Points
from urst.drawn.representation import Drawn, Representation
from urst.drawn.surface import Surface
from urst.drawn.volume import Volume
from urst.kinds.kind import Arrays

REPRESENTATIONS: dict[str, Representation] = {
    "bodies": Bodies(),
    "points": Points(),
    "volume": Volume(),
    "surface": Surface(),
}


def frame(representation: str, arrays: Arrays) -> list[Drawn]:
    """Return a frame's arrays for the browser; see `Representation.encode`.

    Parameters
    ----------
    representation : str
    arrays : dict
    """
    return REPRESENTATIONS[representation].encode(arrays)
