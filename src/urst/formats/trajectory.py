"""How a part of a file moves, whatever the format."""

from dataclasses import dataclass

import numpy as np

#: turns y up into z up
UPRIGHT = np.array([[1, 0, 0], [0, 0, -1], [0, 1, 0]], float)


@dataclass(frozen=True)
class Trajectory:
    """How a node stands when nothing moves it, and at moments; z up."""

    place: np.ndarray
    """(3,) [m]"""
    turn: np.ndarray
    """(3, 3)"""
    places: np.ndarray
    """(k, 3) [m]"""
    turns: np.ndarray
    """(k, 3, 3)"""


def trajectory(rest: np.ndarray, now: np.ndarray, upright: np.ndarray, metres: float = 1.0) -> Trajectory:
    """Return the way of a node from what takes it to the world; sizes are no part of it.

    Parameters
    ----------
    rest : (4, 4)
        As it stands.
    now : (k, 4, 4)
        At moments.
    upright : (3, 3)
        Turns the file's axes so that z is up.
    metres : float
        Length of the file's unit [m].
    """
    (turn,), turns = _turns(rest[None], upright), _turns(now, upright)
    return Trajectory(metres * upright @ rest[:3, 3], turn, metres * now[:, :3, 3] @ upright.T, turns)


def _turns(matrices: np.ndarray, upright: np.ndarray) -> np.ndarray:
    """The turn in each of some matrices (polar decomposition), z up, (k, 3, 3)."""
    u, _, v = np.linalg.svd(matrices[:, :3, :3])
    u[:, :, 2] *= np.sign(np.linalg.det(u @ v))[:, None]
    return upright @ (u @ v) @ upright.T
