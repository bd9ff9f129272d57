"""How much of something has been given off by a time."""

import numpy as np

from urst.core.curves.clock import Clock
from urst.core.curves.curve import Curve

#: the rate is taken at so many moments a frame, straight between them, but at no more between two points of the curve
_FINE, _MOST = 16, 4096


class Stream:
    """A rate, constant or a curve over frames, within a window of time.

    Parameters
    ----------
    rate : float or Curve
        Given off in a second.
    opens, closes : float [s]
    clock : Clock
        Needed for a curve only.
    """

    def __init__(self, rate: float | Curve, opens: float, closes: float, clock: Clock | None = None) -> None:
        self.opens, self.closes = opens, closes
        frames = np.zeros(1)
        if isinstance(rate, Curve) and len(rate.points) > 1:
            frames = _moments(rate.places())
        self._rates = rate.along(frames) if isinstance(rate, Curve) else np.array([float(rate)])
        self._times = clock.times(frames) if clock else np.zeros(1)
        steps = np.diff(self._times) * (self._rates[1:] + self._rates[:-1]) / 2
        self._sums = np.concatenate([[0.0], np.cumsum(steps)])
        self._before = float(self._total(np.array(opens)))

    def given(self, time: float) -> float:
        """Return how much has been given off by a time [s]."""
        return float(self._total(np.array(min(max(time, self.opens), self.closes)))) - self._before

    def when(self, amounts: np.ndarray, first: float, last: float) -> np.ndarray:
        """Return when so much had been given off, by bisection between two times, (n,) [s].

        Parameters
        ----------
        amounts : (n,) float
        first, last : float [s]
        """
        low, high = np.full(len(amounts), max(first, self.opens)), np.full(len(amounts), min(last, self.closes))
        for _ in range(50):
            middle = 0.5 * (low + high)
            early = self._total(middle) - self._before < amounts
            low, high = np.where(early, middle, low), np.where(early, high, middle)
        return high

    def _total(self, time: np.ndarray) -> float | np.ndarray:
        """All that would have been given off between the first point and a time: the rate is straight between
        moments."""
        times, rates, sums = self._times, self._rates, self._sums
        i = np.clip(np.searchsorted(times, time, side="right") - 1, 0, len(times) - 1)
        beyond = time - times[i]
        width = np.append(np.diff(times), np.inf)[i]
        slope = (np.append(rates[1:], rates[-1])[i] - rates[i]) / width
        return sums[i] + beyond * (rates[i] + 0.5 * slope * np.where(beyond > 0.0, beyond, 0.0))


def _moments(places: list[float]) -> np.ndarray:
    """Frames at which a rate is taken, from the first to the last point of its curve."""
    parts = [
        np.linspace(a, b, int(np.clip(np.ceil((b - a) * _FINE), 1, _MOST)) + 1)[:-1] for a, b in zip(places, places[1:])
    ]
    return np.concatenate([*parts, places[-1:]])
