"""What acts on rigid bodies from outside, before each check: regions that pull, air that may blow."""

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np

from urst.core.rigid.settings import Region, RigidSettings
from urst.core.rigid.state import Bodies


class Span(NamedTuple):
    """The time of a step."""

    before: float
    """moment a step earlier, in frames"""
    now: float
    """its beginning, in frames"""
    first: bool
    """whether it is the first step of all"""
    dt: float
    """how long it is [s]"""


def _inside(bodies: Bodies, region: Region) -> np.ndarray:
    inside = (bodies.position >= np.array(region.low)) & (bodies.position <= np.array(region.high))
    return np.all(inside, axis=1)


def woken(bodies: Bodies, regions: Sequence[Region], free: np.ndarray, span: Span) -> np.ndarray:
    """Return which bodies wake since a region about their centre begins or ends to act, (n,) bool.

    Parameters
    ----------
    bodies : Bodies
    regions : sequence of Region
    free : (n,) bool
        Which bodies forces may move.
    span : Span
    """
    found = np.zeros(len(bodies.mass), bool)
    for r in regions:
        acts = r.acts(span.now)
        if acts != r.acts(span.before) or (span.first and acts):
            found |= _inside(bodies, r) & free
    return found


def pull(bodies: Bodies, regions: Sequence[Region], gravity: np.ndarray, inverse_mass: np.ndarray, span: Span) -> None:
    """Let regions pull at the bodies whose centres are in them, in place.

    Parameters
    ----------
    bodies : Bodies
    regions : sequence of Region
    gravity : (3,) float
        What acts on all bodies beside [m/s2].
    inverse_mass : (n,) float
        0 for what does not move now [1/kg].
    span : Span
    """
    for r in regions:
        if not r.acts(span.now):
            continue
        inside = _inside(bodies, r) & (inverse_mass > 0.0)
        keep = np.exp(-r.damping * span.dt)
        bodies.velocity[inside] = keep * (bodies.velocity[inside] + span.dt * (np.array(r.pull) - gravity))
        bodies.spin[inside] *= keep


def blow(bodies: Bodies, settings: RigidSettings, surface: np.ndarray, inverse_mass: np.ndarray, dt: float) -> None:
    """Drag by air that may blow, in place: a convex body's shadow is a quarter of its surface on average (Cauchy).

    Parameters
    ----------
    bodies : Bodies
    settings : RigidSettings
        With the air's density and its wind.
    surface : (n,) float
        Of each body [m2].
    inverse_mass : (n,) float
        0 for what does not move now [1/kg].
    dt : float [s]
    """
    against = np.array(settings.wind) - bodies.velocity
    rate = 0.5 * settings.air * settings.drag * 0.25 * surface * np.linalg.norm(against, axis=1) / bodies.mass
    change = against * (1.0 - np.exp(-dt * rate))[:, None]
    bodies.velocity[:] += np.where((inverse_mass > 0.0)[:, None], change, 0.0)
