"""Waves of open water: a sea that wind has raised, and swell, by linear theory."""

import numpy as np

from urst.core.liquid import wave_kernels as kernels
from urst.core.liquid.settings import LiquidSettings, WaveSettings
from urst.errors import BadValue

#: waves that a sea is made of: frequencies, and directions of each
FREQUENCIES, WAYS = 32, 3
#: the sea's spectrum is taken between these fractions of its peak
_LOW, _HIGH = 0.55, 3.2
#: peak enhancement, and widths of the peak below and above (Hasselmann et al. 1973)
_GAMMA, _BELOW, _ABOVE = 3.3, 0.07, 0.09


def number(omega: np.ndarray, depth: float, gravity: float) -> np.ndarray:
    """Return wave numbers from omega^2 = g k tanh(k d), by Newton's method [1/m].

    Parameters
    ----------
    omega : (n,) float [rad/s]
    depth : float [m]
    gravity : float [m/s2]
    """
    deep = omega**2 / gravity
    k = np.where(deep * depth > 1.0, deep, omega / np.sqrt(gravity * depth))
    for _ in range(30):
        t = np.tanh(np.minimum(k * depth, 50.0))
        k = np.maximum(k - (gravity * k * t - omega**2) / (gravity * (t + k * depth * (1.0 - t * t))), 1e-9)
    return k


def jonswap(omega: np.ndarray, wind: float, fetch: float, gravity: float) -> np.ndarray:
    """Return the spectrum of a sea that wind has raised over a fetch [m2 s] (Hasselmann et al. 1973).

    Parameters
    ----------
    omega : (n,) float [rad/s]
    wind : float
        10 m up [m/s].
    fetch : float [m]
    gravity : float [m/s2]
    """
    peak = peak_frequency(wind, fetch, gravity)
    alpha = 0.076 * (wind**2 / (fetch * gravity)) ** 0.22
    width = np.where(omega <= peak, _BELOW, _ABOVE)
    bump = _GAMMA ** np.exp(-((omega - peak) ** 2) / (2.0 * width**2 * peak**2))
    return alpha * gravity**2 / omega**5 * np.exp(-1.25 * (peak / omega) ** 4) * bump


def peak_frequency(wind: float, fetch: float, gravity: float) -> float:
    """Return the frequency of the highest waves of such a sea [rad/s].

    Parameters
    ----------
    wind, fetch, gravity : float
        As for `jonswap`.
    """
    return 22.0 * (gravity**2 / (wind * fetch)) ** (1.0 / 3.0)


class Waves:
    """Trains of waves over water of a depth: where the surface is, and how the water under it goes (Airy 1845).

    Parameters
    ----------
    settings : WaveSettings
    level : float
        Of the still water [m].
    depth : float
        Of the water, where the settings say nothing [m].
    gravity : float [m/s2]
    seed : int

    Raises
    ------
    BadValue
        Without gravity.
    """

    def __init__(self, settings: WaveSettings, level: float, depth: float, gravity: float, seed: int) -> None:
        if gravity <= 0.0:
            raise BadValue("There are no waves without gravity: give the shot some, or take the waves out.")
        self.level, self.depth, self.gravity = level, float(settings.depth or depth), gravity
        rng = np.random.default_rng([seed, 77])
        omega, amplitude, heading = [np.zeros(0)], [np.zeros(0)], [np.zeros(0)]
        if settings.wind > 0.0:
            peak = peak_frequency(settings.wind, settings.fetch, gravity)
            edge = peak * np.geomspace(_LOW, _HIGH, FREQUENCIES + 1)
            # not at even steps, so that it does not come again
            own = edge[:-1] + rng.random(FREQUENCIES) * np.diff(edge)
            energy = np.array([_mean(a, b, settings, gravity) for a, b in zip(edge[:-1], edge[1:])])
            omega.append(np.repeat(own, WAYS) * (1.0 + 0.01 * rng.standard_normal(FREQUENCIES * WAYS)))
            amplitude.append(np.repeat(np.sqrt(2.0 * energy / WAYS), WAYS))
            heading.append(np.radians(settings.heading) + _turns(settings.spread, FREQUENCIES * WAYS, rng))
        if settings.swell_height > 0.0:
            omega.append(np.array([2.0 * np.pi / settings.swell_period]))
            amplitude.append(np.array([0.5 * settings.swell_height]))
            heading.append(np.array([np.radians(settings.swell_heading)]))
        self.omega, self.amplitude = np.concatenate(omega), np.concatenate(amplitude)
        angle = np.concatenate(heading)
        self.k = number(self.omega, self.depth, gravity)
        self.direction = np.stack([np.cos(angle), np.sin(angle)], axis=1)
        self.phase = rng.uniform(0.0, 2.0 * np.pi, len(self.omega))
        self._trains = kernels.Trains(self.amplitude, self.omega, self.k, self.direction, self.phase)

    @classmethod
    def over(cls, settings: LiquidSettings, gravity: float) -> "Waves | None":
        """Return the waves on a liquid's pool, None where it is still and ends at its sides.

        Parameters
        ----------
        settings : LiquidSettings
        gravity : float [m/s2]
        """
        if not settings.waves.any() and settings.sides != "waves":
            return None
        level = float(settings.level or 0.0)
        return cls(settings.waves, level, level - settings.low[2], gravity, settings.seed)

    def height(self) -> float:
        """Return the significant height, four times the root of the variance [m]."""
        return 4.0 * float(np.sqrt(0.5 * (self.amplitude**2).sum()))

    def surface(self, places: np.ndarray, time: float) -> np.ndarray:
        """Return how high the surface stands over places (n, 2) or (n, 3) at a time, (n,) [m].

        Parameters
        ----------
        places : (n, 2) float [m]
        time : float [s]
        """
        out = np.full(len(places), float(self.level))
        kernels.surface(np.asarray(places, float), self._trains, time, out)
        return out

    def velocity(self, places: np.ndarray, time: float) -> np.ndarray:
        """Return how the water goes at places (n, 3) at a time, (n, 3) [m/s]; depths are stretched to the surface
        (Wheeler 1970).

        Parameters
        ----------
        places : (n, 3) float [m]
        time : float [s]
        """
        top = self.surface(places, time) - self.level
        z = np.clip(
            (places[:, 2] - self.level - top) * self.depth / np.maximum(self.depth + top, 1e-6), -self.depth, 0.0
        )
        out = np.empty((len(places), 3))
        kernels.velocity(np.asarray(places, float), z, self.depth, self._trains, time, out)
        return out


def _mean(low: float, high: float, settings: WaveSettings, gravity: float) -> float:
    """The variance between two frequencies [m2]."""
    omega = np.linspace(low, high, 33)
    return float(np.trapezoid(jonswap(omega, settings.wind, settings.fetch, gravity), omega))


def _turns(spread: float, count: int, rng: np.random.Generator) -> np.ndarray:
    """Angles about the heading, by cos^2s of half of each (Longuet-Higgins et al. 1963) [rad]."""
    angle = np.linspace(-np.pi, np.pi, 2001)
    fraction = np.cumsum(np.cos(0.5 * angle) ** (2.0 * spread))
    return np.interp(rng.random(count), fraction / fraction[-1], angle)
