"""A volume: scalars on a grid, by name."""

from collections.abc import Sequence

import numpy as np

from urst.core.air import DUST_EXTINCTION
from urst.drawn.codec import Quantised
from urst.drawn.representation import LEVELS, Drawn
from urst.kinds.kind import Arrays

#: cells from which on a frame has coarser levels
_MANY_CELLS = 2_000_000


class Volume:
    """Each scalar as fractions of its greatest value; what is below none counts as none. Between frames of one size
    they are blended, else those of the nearer one stand."""

    def encode(self, arrays: Arrays) -> list[Drawn]:
        scalars = {name: np.maximum(np.asarray(x, np.float32), 0.0) for name, x in arrays.items()}
        most = {name: float(x.max(initial=0.0)) for name, x in scalars.items()}
        found: list[Drawn] = []
        for level in range(LEVELS + 1):
            if level:
                if max(x.size for x in scalars.values()) <= _MANY_CELLS:
                    break
                scalars = {name: _halved(x) for name, x in scalars.items()}
            shape = next(iter(scalars.values())).shape
            drawn: dict[str, np.ndarray | Quantised] = {name: _bytes(x, most[name]) for name, x in scalars.items()}
            found.append((drawn, {"most": most, "shape": list(shape), "across": 2**level}))
        return found

    def between(self, first: Arrays, second: Arrays, span: float, fraction: float) -> Arrays:
        both = {n: (first[n].astype(float), second[n].astype(float)) for n in first if n in second}
        if any(a.shape != b.shape for a, b in both.values()):
            return first if fraction < 0.5 else second
        return first | {n: (1 - fraction) * a + fraction * b for n, (a, b) in both.items()}


def as_dust(arrays: Arrays, shades: Sequence[tuple[str, np.ndarray, float]]) -> tuple[np.ndarray, np.ndarray]:
    """Return concentrations as one: how much dust of the ordinary extinction takes as much light, and its colour.

    Parameters
    ----------
    arrays : dict
        Of a frame, in the terms of the representation.
    shades : list of (name, linear colour (3,), extinction [m2/kg])

    Returns
    -------
    density : (nx, ny, nz) float64 [kg/m3]
    albedo : (nx, ny, nz, 3) float64, or (3,) where all are of one colour
    """
    parts = [arrays[name].astype(float) * (extinction / DUST_EXTINCTION) for name, _, extinction in shades]
    density = np.sum(parts, axis=0)
    colours = np.array([colour for _, colour, _ in shades])
    if np.ptp(colours, axis=0).max() < 1e-6:
        return density, colours[0]
    fraction = [p / np.maximum(density, 1e-12) for p in parts]
    return density, np.sum([s[..., None] * c for s, c in zip(fraction, colours)], axis=0)


def _bytes(scalar: np.ndarray, most: float) -> np.ndarray:
    """A square root keeps thin dust apart from none within eight bits."""
    fraction = np.sqrt(scalar / most) * 255.0 if most > 0 else scalar
    return np.ascontiguousarray(np.rint(fraction).astype(np.uint8).transpose(2, 1, 0))


def _halved(density: np.ndarray) -> np.ndarray:
    """Means of 2 x 2 x 2 cells; a last odd layer counts with empty air beyond it."""
    padded = np.pad(density, [(0, n % 2) for n in density.shape])
    nx, ny, nz = (n // 2 for n in padded.shape)
    return padded.reshape(nx, 2, ny, 2, nz, 2).mean(axis=(1, 3, 5))
