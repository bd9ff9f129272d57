"""Frames and the seconds that are solved between them."""

from urst.scene.curve import Curve


class Clock:
    """When each frame is, in seconds of the shot's own time, 0 at the first.

    Parameters
    ----------
    start : int
        First frame.
    rate : float
        Frames a second [1/s].
    scale : Curve or None
        How fast time goes at each frame; 1 is full speed, 0.33 slows by three.
    """

    def __init__(self, start: int, rate: float, scale: Curve | None = None):
        self.start, self.rate, self.scale = start, rate, scale

    def seconds(self, frame: float) -> float:
        """Return the time of a frame [s]."""
        if self.scale is None:
            return (frame - self.start) / self.rate
        return self.scale.integral(self.start, frame) / self.rate

    def dt(self, frame: int) -> float:
        """Return the time from the frame before to this one [s]."""
        return self.seconds(frame) - self.seconds(frame - 1)

    def full_speed(self, seconds: float) -> float:
        """Return the frame that a time would be at full speed, by which paths are keyed."""
        return self.start + seconds * self.rate
