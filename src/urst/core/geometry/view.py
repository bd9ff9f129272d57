"""Where a camera's picture lies in space."""

import numpy as np


def axes(
    eye: np.ndarray | tuple[float, float, float], target: tuple[float, float, float]
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Return right, down and forward, unit (3,) each, of a view from `eye` to `target`, z up.

    Straight up or down, where no side is up, x is to the right.

    Parameters
    ----------
    eye, target : (3,) float [m]
        In different places.
    """
    forward = np.asarray(target, float) - np.asarray(eye, float)
    forward /= np.linalg.norm(forward)
    right = np.cross(forward, [0.0, 0.0, 1.0])
    if np.linalg.norm(right) < 1e-9:
        right = np.array([1.0, 0.0, 0.0])
    right /= np.linalg.norm(right)
    return right, np.cross(forward, right), forward
