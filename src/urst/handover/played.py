"""Time held or stretched after the bake."""

from collections.abc import Iterator

import numpy as np

from urst.core.curves.varies import along
from urst.shot.document import Shot


def played(shot: Shot) -> Iterator[float]:
    """Return the moments that are shown one after another, in frames: as fast as the shot is played.

    Parameters
    ----------
    shot : Shot
    """
    moment = float(shot.start)
    while moment <= shot.end:
        yield moment
        moment += float(along(shot.played, np.array([moment]))[0])
