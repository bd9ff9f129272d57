"""A surface: one closed mesh a frame."""

import numpy as np

from urst.drawn.representation import Drawn, places
from urst.kinds.kind import Arrays


class Surface:
    """Its triangles are others in each frame, so between two there is the first."""

    def encode(self, arrays: Arrays) -> list[Drawn]:
        out: dict = {"position": places(arrays["position"]), "normal": np.rint(127 * arrays["normal"]).astype(np.int8)}
        # neighbours in the list share corners, so that differences are small
        index = np.asarray(arrays["triangles"], np.int64).reshape(-1)
        return [(out | {"steps": np.diff(index, prepend=0).astype(np.int32)}, {})]

    def between(self, first: Arrays, second: Arrays, span: float, fraction: float) -> Arrays:
        return first
