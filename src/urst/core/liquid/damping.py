"""What damps a liquid's shortest waves and what is left of hardly any motion: nothing else does."""

import numpy as np

from urst.core.liquid import flow_kernels, level_kernels

#: what hardly moves loses this share in the time that a cell's height is fallen in, if slower than this fraction of the
#: speed that it gives
CALM, SLOW = 0.1, 0.02


def damped(
    velocity: list[np.ndarray], known: list[np.ndarray], gravity: float, cell: float, dt: float
) -> list[np.ndarray]:
    """Return the flow at faces, calmer.

    Parameters
    ----------
    velocity : three arrays of faces, float32 [m/s]
    known : three arrays of faces, uint8
        Which of them are of the liquid.
    gravity : float [m/s2]
    cell : float [m]
    dt : float [s]
    """
    fall = np.sqrt(gravity * cell)
    if fall == 0.0:
        return velocity
    rate, slow, found = np.float32(CALM * dt * fall / cell), np.float32(SLOW * fall), []
    for u, mine in zip(velocity, known):
        out = np.empty_like(u)
        flow_kernels.filter_short(u, mine, out)
        level_kernels.slow_down(out, rate, slow)
        found.append(out)
    return found
