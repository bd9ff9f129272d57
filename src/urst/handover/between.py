"""Frames between baked ones, from the velocities that are kept: time held or stretched after the bake."""

from collections.abc import Iterator

import numpy as np

from urst.core.curves.varies import along
from urst.core.geometry import rotation
from urst.shot.document import Shot


def played(shot: Shot) -> Iterator[float]:
    """Return the moments that are shown one after another, in frames: as fast as the shot is played.

    Parameters
    ----------
    shot : Shot
    """
    moment = float(shot.start)
    while moment <= shot.end:
        yield moment
        moment += float(along(shot.played, np.array([moment]))[0])


def bodies(first: dict, second: dict, span: float, share: float) -> dict:
    """Return position and orientation a share of the way from a frame to the next.

    Places follow the cubic with the velocities of both (Hermite); turns are those of both spins, blended, so that
    what turns by more than half a turn a frame turns the right way round.

    Parameters
    ----------
    first, second : dict
        Frames.
    span : float
        Between them [s].
    share : float
        0 to 1.
    """
    t = share
    a, b = first["position"].astype(float), second["position"].astype(float)
    v, w = span * first["velocity"].astype(float), span * second["velocity"].astype(float)
    position = (2 * t**3 - 3 * t**2 + 1) * a + (t**3 - 2 * t**2 + t) * v + (3 * t**2 - 2 * t**3) * b + (t**3 - t**2) * w
    # what was struck in between goes straight: a cubic would swing out past both ends
    struck = np.linalg.norm(b - a - 0.5 * (v + w), axis=1) > 0.5 * np.linalg.norm(b - a, axis=1) + 1e-4
    position[struck] = ((1 - t) * a + t * b)[struck]
    ahead = _turned(first["orientation"], t * span * first["spin"].astype(float))
    back = _turned(second["orientation"], (t - 1) * span * second["spin"].astype(float))
    back *= np.where((ahead * back).sum(axis=1, keepdims=True) < 0.0, -1.0, 1.0)
    mixed = (1 - t) * ahead + t * back
    return first | {"position": position, "orientation": mixed / np.linalg.norm(mixed, axis=1, keepdims=True)}


def _turned(orientation, turn):
    angle = np.linalg.norm(turn, axis=1, keepdims=True)
    half = 0.5 * angle
    axis = np.divide(turn, angle, out=np.zeros_like(turn), where=angle > 0.0)
    return rotation.product(np.concatenate([np.cos(half), np.sin(half) * axis], axis=1), orientation.astype(float))


def points(first: dict, span: float, share: float) -> dict:
    """Return points a share of the way from a frame to the next: those there are, as they go; see `bodies`.

    Parameters
    ----------
    first : dict
    span, share : float
    """
    return first | {"position": first["position"] + share * span * first["velocity"]}


def volume(first: dict, second: dict, share: float) -> dict:
    """Return a density a share of the way from a frame to the next, blended where both are of one size.

    Parameters
    ----------
    first, second : dict
    share : float
    """
    a, b = first["density"].astype(float), second["density"].astype(float)
    return first | {"density": (1 - share) * a + share * b if a.shape == b.shape else (a if share < 0.5 else b)}
