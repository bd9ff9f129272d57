"""How what is let go or born sets off: the velocities and spins that a launch gives."""

import numpy as np

from urst.core.launch.settings import Launch, SpinningLaunch

#: waves of which the noise is made
_WAVES = 24


def velocities(launch: Launch, places: np.ndarray, outward: np.ndarray, carried: np.ndarray) -> np.ndarray:
    """Return the velocities with which things set off, (n, 3) [m/s].

    Parameters
    ----------
    launch : Launch
    places : (n, 3) float
        Where they are [m].
    outward : (n, 3) float
        Which way their faces look; 0 where they have none.
    carried : (n, 3) float
        How they, or what carries them, move [m/s].
    """
    rng = np.random.default_rng(launch.seed)
    heading = scattered(headings(launch, places, outward), launch.cone, rng)
    uneven = 1.0 + launch.noise * _noise(places / launch.noise_size, rng) if launch.noise > 0.0 else 1.0
    speed = launch.speed * fallen(launch, places) * uneven
    out = speed[:, None] * heading + launch.carried * carried
    size = np.linalg.norm(out, axis=1)
    bound = np.clip(size, launch.least, launch.most)
    return out * np.divide(bound, size, out=np.ones_like(size), where=size > 0.0)[:, None]


def spins(launch: SpinningLaunch, count: int) -> np.ndarray:
    """Return the spins with which things set off, about axes all round and up to the fastest, (n, 3) [rad/s].

    Parameters
    ----------
    launch : SpinningLaunch
    count : int
    """
    rng = np.random.default_rng([launch.seed, 1])
    axis = rng.standard_normal((count, 3))
    axis /= np.linalg.norm(axis, axis=1, keepdims=True)
    return launch.spin * rng.random((count, 1)) * axis


def headings(launch: Launch, places: np.ndarray, outward: np.ndarray) -> np.ndarray:
    """Return which way each sets off before it is scattered, unit vectors (n, 3), or 0 where there is none.

    Parameters
    ----------
    launch : Launch
    places, outward : (n, 3) float
    """
    if launch.way == "direction":
        heading = np.broadcast_to(np.array(launch.direction, float), places.shape)
    else:
        heading = outward if launch.way == "outward" else places - np.array(launch.centre)
    size = np.linalg.norm(heading, axis=1, keepdims=True)
    return np.divide(heading, size, out=np.zeros(places.shape), where=size > 1e-12)


def fallen(launch: Launch, places: np.ndarray) -> np.ndarray:
    """Return the fraction of the speed that is left at some places, (n,).

    Parameters
    ----------
    launch : Launch
    places : (n, 3) float [m]
    """
    far = np.linalg.norm(places - np.array(launch.centre), axis=1) / launch.reach
    return np.maximum(far, 1.0) ** -launch.fall_off


def scattered(heading: np.ndarray, cone: float, rng: np.random.Generator) -> np.ndarray:
    """Return unit vectors (n, 3) turned at random within a cone, evenly over its solid angle.

    Parameters
    ----------
    heading : (n, 3) float
    cone : float
        Half its opening [deg].
    rng : Generator
    """
    n = len(heading)
    cosine = 1.0 - rng.random(n) * (1.0 - np.cos(np.radians(cone)))
    turn = rng.random(n) * 2.0 * np.pi
    if cone == 0.0:
        return heading
    other = np.eye(3)[np.abs(heading).argmin(axis=1)]
    first = np.cross(heading, other)
    size = np.linalg.norm(first, axis=1, keepdims=True)
    first = np.divide(first, size, out=np.zeros_like(first), where=size > 0.0)
    second = np.cross(heading, first)
    off = np.sqrt(1.0 - cosine**2)[:, None] * (np.cos(turn)[:, None] * first + np.sin(turn)[:, None] * second)
    return cosine[:, None] * heading + off


def _noise(places: np.ndarray, rng: np.random.Generator) -> np.ndarray:
    """Smooth noise of unit size from -1 to 1: waves in all directions, each about as long as two lumps."""
    axis = rng.standard_normal((_WAVES, 3))
    axis *= (np.pi * rng.uniform(0.7, 1.3, _WAVES) / np.linalg.norm(axis, axis=1))[:, None]
    phase = rng.random(_WAVES) * 2.0 * np.pi
    total = np.sin(places @ axis.T + phase).sum(axis=1) * np.sqrt(2.0 / _WAVES)
    return np.clip(0.5 * total, -1.0, 1.0)
