"""Frames and the seconds that are solved between them."""

from typing import Any

import numpy as np
from scipy.optimize import brentq

from urst.core.curves.curve import Curve


class Clock:
    """When each frame is, in seconds of the shot's own time, 0 at the first.

    Parameters
    ----------
    start : int
        First frame.
    rate : float
        Frames a second [1/s].
    scale : float or Curve
        How fast time goes, at each frame; 1 is full speed, 0.33 slows by three.
    """

    def __init__(self, start: int = 0, rate: float = 24.0, scale: float | Curve = 1.0) -> None:
        self.start, self.rate, self.scale = start, rate, scale

    def seconds(self, frame: float) -> float:
        """Return the time of a frame [s]."""
        if not isinstance(self.scale, Curve):
            return self.scale * (frame - self.start) / self.rate
        return float(self.scale.integral(self.start, frame)) / self.rate

    def times(self, frames: np.ndarray) -> np.ndarray:
        """Return the times of frames (n,) [s]."""
        if not isinstance(self.scale, Curve):
            return self.scale * (frames - self.start) / self.rate
        return self.scale.integral(self.start, frames) / self.rate

    def frame(self, seconds: float) -> float:
        """Return the frame of a time [s], between frames in proportion."""
        full = self.full_speed(seconds)
        if not isinstance(self.scale, Curve):
            return self.start + (full - self.start) / self.scale
        values = [p.value for p in self.scale.points]
        # time goes at least as fast as at the slowest point, at most as at the fastest
        ends = sorted(self.start + (full - self.start) / v for v in (min(values), max(values)))
        return brentq(lambda f: self.seconds(f) - seconds, ends[0] - 1e-6, ends[1] + 1e-6, xtol=1e-9)

    def dt(self, frame: int) -> float:
        """Return the time from the frame before to this one [s]."""
        return self.seconds(frame) - self.seconds(frame - 1)

    def full_speed(self, seconds: Any) -> Any:
        """Return the frame that a time would be at full speed, by which paths are keyed."""
        return self.start + seconds * self.rate
