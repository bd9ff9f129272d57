"""A volume: a density on a grid."""

import numpy as np

from urst.drawn.representation import LEVELS, Drawn
from urst.kinds.kind import Arrays

#: cells from which on a frame has coarser levels
_MANY_CELLS = 2_000_000


class Volume:
    """Between frames of one size the density is blended, else that of the nearer one."""

    def encode(self, arrays: Arrays) -> list[Drawn]:
        density = np.asarray(arrays["density"], np.float32)
        most = float(density.max(initial=0.0))
        found: list[Drawn] = []
        for level in range(LEVELS + 1):
            if level:
                if density.size <= _MANY_CELLS:
                    break
                density = _halved(density)
            # a square root keeps thin dust apart from none within eight bits
            share = np.sqrt(density / most) * 255.0 if most > 0 else density
            bytes_ = np.ascontiguousarray(np.rint(share).astype(np.uint8).transpose(2, 1, 0))
            found.append(({"density": bytes_}, {"most": most, "shape": list(density.shape), "across": 2**level}))
        return found

    def between(self, first: Arrays, second: Arrays, span: float, share: float) -> Arrays:
        a, b = first["density"].astype(float), second["density"].astype(float)
        return first | {"density": (1 - share) * a + share * b if a.shape == b.shape else (a if share < 0.5 else b)}


def _halved(density):
    """Means of 2 x 2 x 2 cells; a last odd layer counts with empty air beyond it."""
    padded = np.pad(density, [(0, n % 2) for n in density.shape])
    nx, ny, nz = (n // 2 for n in padded.shape)
    return padded.reshape(nx, 2, ny, 2, nz, 2).mean(axis=(1, 3, 5))
