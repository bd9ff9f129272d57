"""What rigid bodies are made of."""

from dataclasses import dataclass

import numpy as np


@dataclass(frozen=True)
class Matter:
    """What the bodies are made of and what may move them; one entry a body."""

    density: np.ndarray
    """(n,) [kg/m3]"""
    friction: np.ndarray
    """(n,)"""
    restitution: np.ndarray
    """(n,)"""
    kind: np.ndarray
    """(n,) int64: FIXED, DRIVEN or LOOSE"""
    velocity: np.ndarray
    """(n, 3) at the start [m/s]"""
    spin: np.ndarray
    """(n, 3) at the start [rad/s]"""
    bonded: np.ndarray
    """(n,) bool: whether bonds may join it to its neighbours"""
    whole: np.ndarray | None = None
    """(n,) int64: the same for bodies that are parts of one solid and never part, -1 for all else; not given: -1"""
    holds: np.ndarray | None = None
    """(n,) how many times the settings' strength its bonds have; between two the lesser counts; all 1, if not given"""
    rolling: np.ndarray | None = None
    """(n,) rolling resistance of balls, as a fraction of load times radius; not given: none"""
    compression: np.ndarray | None = None
    """(n,) compressive strength; not given: endless [Pa]"""
    force: np.ndarray | None = None
    """(n,) greatest force with which its piece is driven; 0, or not given: whatever it takes [N]"""
    elongation: np.ndarray | None = None
    """(n,) stretch of its bonds before they part; NaN: the settings'; between two the lesser counts"""
