"""Drag between a gas and what flies in it: what one gains the other loses."""

from collections.abc import Callable

import numpy as np

from urst.core.air import AIR_DENSITY, AIR_VISCOSITY, PUFF_RATE
from urst.core.coupling.ports import Bodies, Points
from urst.core.fields.sampled import SampledField
from urst.core.geometry.convex import Hulls

#: rounds in which drag and speed find each other
_ROUNDS = 4
#: the air about a body is felt no farther from it than this [cells]
_WIDEST = 6.0


def impulses(
    field: SampledField,
    points: np.ndarray,
    velocity: np.ndarray,
    inverse_mass: np.ndarray,
    rate: Callable[[np.ndarray], np.ndarray],
    reach: np.ndarray,
    dt: float,
    *,
    on_points: float,
    on_field: float,
) -> np.ndarray:
    """Return what drag gives to points in `dt` seconds, (n, 3) [N s].

    Taken implicitly, in the points' speed and in what all of them together do to the field, so that nothing overshoots.

    Parameters
    ----------
    field : SampledField
    points, velocity, inverse_mass : (n, 3) [m], (n, 3) [m/s], (n,) [1/kg]
    rate : callable
        Drag over speed [kg/s] at a relative speed (n,) [m/s].
    reach : (n,) float
        See `SampledField.sample`.
    on_points, on_field : float
        How strongly each side is acted on; 1 is physical.
    """
    air, response = field.sample(points, reach)
    held = (response > 0.0).all(axis=1) & (inverse_mass > 0.0)
    relative = np.where(held[:, None], air - velocity, 0.0)
    speed = np.linalg.norm(relative, axis=1)
    strength = dt * rate(speed)
    for _ in range(_ROUNDS):
        strength = dt * rate(speed / (1.0 + on_points * strength * inverse_mass))
    strength = np.where(held, strength, 0.0)
    load = on_field * field.load(points, reach, strength) if on_field > 0.0 else 0.0
    return strength[:, None] * relative / (1.0 + (on_points * strength * inverse_mass)[:, None] + load)


class BodyDrag:
    """Form drag of convex bodies: F = rho C A u^2 / 2, A the area seen along the flow.

    A convex body's shadow is half the sum of its faces' shadows (Cauchy).

    Parameters
    ----------
    bodies : Bodies
    """

    def __init__(self, bodies: Bodies) -> None:
        self.bodies, n = bodies, len(bodies.radius)
        self.start, count = bodies.hulls.face_start[:n], np.diff(bodies.hulls.face_start)[:n]
        self.face_of = np.repeat(np.arange(n), count)
        self.area, self.normal = (x[: len(self.face_of)] for x in _faces(bodies.hulls))

    def shadow(self, direction: np.ndarray) -> np.ndarray:
        """Return the area of each body seen along a direction of its own (n, 3), unit, [m2]."""
        local = np.einsum("nji,nj->ni", self.bodies.motion.rotation, direction)
        seen = self.area * np.abs(np.einsum("fi,fi->f", self.normal, local[self.face_of]))
        return 0.5 * np.add.reduceat(seen, self.start)

    def act(
        self, field: SampledField, dt: float, fraction: np.ndarray, *, on_bodies: float, on_field: float
    ) -> tuple[np.ndarray, np.ndarray, float]:
        """Let the field drag the bodies and they the field.

        Parameters
        ----------
        field : SampledField
        dt : float [s]
        fraction : (n,) float
            The part of each body's drag that is acted out here; the rest the field solves by itself.
        on_bodies, on_field : float
            How strongly each side is acted on.

        Returns
        -------
        (given, taken, exchanged)
            what the field gave and the bodies took, (3,) [N s]; and the sum of the sizes of all impulses.
        """
        bodies, motion = self.bodies, self.bodies.motion
        position, velocity, inverse_mass = motion.position, motion.velocity, bodies.inverse_mass()
        some = np.flatnonzero((inverse_mass > 0.0) & (fraction > 0.0) & field.holds(position))
        if not len(some):
            return np.zeros(3), np.zeros(3), 0.0
        along, whole = np.zeros_like(velocity), np.zeros_like(velocity)
        position, velocity = position[some], velocity[some]
        reach = np.clip(bodies.radius[some] / field.cell, 1.0, _WIDEST)
        air, _ = field.sample(position, reach)
        along[some] = air - velocity
        along /= np.maximum(np.linalg.norm(along, axis=1, keepdims=True), 1e-12)
        half = (0.5 * field.density * bodies.drag_coefficient * fraction * self.shadow(along))[some]
        impulse = impulses(
            field,
            position,
            velocity,
            inverse_mass[some],
            lambda speed: half * speed,
            reach,
            dt,
            on_points=on_bodies,
            on_field=on_field,
        )
        before = bodies.impulse_taken
        whole[some] = on_bodies * impulse
        bodies.apply_impulse(whole, np.zeros_like(whole))
        taken = bodies.impulse_taken - before
        given = -field.deposit(position, reach, -on_field * impulse) if on_field > 0.0 else taken
        return given, taken, float(np.abs(impulse).sum())

    def follow(self, field: SampledField, dt: float, strength: float) -> None:
        """Let a field drag the bodies that they do not act on.

        Parameters
        ----------
        field : SampledField
        dt : float [s]
        strength : float
            1 is physical.
        """
        self.act(field, dt, np.ones(len(self.bodies.radius)), on_bodies=strength, on_field=0.0)


class PointDrag:
    """Drag of chips by Schiller & Naumann (1933); puffs take on the speed of the air and weigh nothing here.

    Parameters
    ----------
    points : Points
    """

    def __init__(self, points: Points) -> None:
        self.of = points

    def act(
        self, field: SampledField, dt: float, *, on_points: float, on_field: float
    ) -> tuple[np.ndarray, np.ndarray, float]:
        """Let the field drag the points and they the field; see `BodyDrag.act`."""
        points = self.of.points
        inside = field.holds(points.position)
        points.airborne[:] = inside
        if not inside.any():
            return np.zeros(3), np.zeros(3), 0.0
        mass, reach = self.of.mass(), np.ones(len(inside))
        inverse_mass = np.where(inside & (mass > 0.0), 1.0 / np.maximum(mass, 1e-30), 0.0)
        thick = 3.0 * np.pi * AIR_VISCOSITY * points.size

        def rate(speed: np.ndarray) -> np.ndarray:
            return thick * (1.0 + 0.15 * (AIR_DENSITY * speed * points.size / AIR_VISCOSITY) ** 0.687)

        impulse = impulses(
            field,
            points.position,
            points.velocity,
            inverse_mass,
            rate,
            reach,
            dt,
            on_points=on_points,
            on_field=on_field,
        )
        points.velocity[:] += on_points * impulse * inverse_mass[:, None]
        taken = on_points * impulse.sum(axis=0)
        self.of.impulse_taken += taken
        self._hang(field, inside & ~self.of.is_chip(), reach, dt)
        given = -field.deposit(points.position, reach, -on_field * impulse) if on_field > 0.0 else taken
        return given, taken, float(np.abs(impulse).sum())

    def follow(self, field: SampledField, dt: float, strength: float) -> None:
        """Let a field drag the points that they do not act on; see `BodyDrag.follow`."""
        self.act(field, dt, on_points=strength, on_field=0.0)

    def _hang(self, field: SampledField, puff: np.ndarray, reach: np.ndarray, dt: float) -> None:
        points = self.of.points
        if puff.any():
            air, response = field.sample(points.position[puff], reach[puff])
            toward = np.where(np.all(response > 0.0, axis=1)[:, None], air - points.velocity[puff], 0.0)
            points.velocity[puff] += (1.0 - np.exp(-PUFF_RATE * dt)) * toward


def in_baked_gases(
    drag: BodyDrag | PointDrag, gases: list[tuple[Callable[[float], SampledField], float]], now: Callable[[], float]
) -> Callable[[float], None]:
    """Return what lets gases that are on disk act before a step, which is not acted back on.

    Parameters
    ----------
    drag : BodyDrag or PointDrag
    gases : list of (callable, float)
        The velocity at a time [s], and how strongly it acts; 1 is physical.
    now : callable
        Gives the time [s].

    Returns
    -------
    callable
        Takes the length of the step [s].
    """

    def act(dt: float) -> None:
        for gas, strength in gases:
            drag.follow(gas(now()), dt, strength)

    return act


def _faces(hulls: Hulls) -> tuple[np.ndarray, np.ndarray]:
    """Area (f,) and normal (f, 3) of every face."""
    size = np.diff(hulls.loop_start)
    face = np.repeat(np.arange(len(size)), size)
    owner = np.repeat(np.arange(hulls.size), np.diff(hulls.face_start))
    corner = hulls.vertices[hulls.loops + hulls.vertex_start[owner[face]]]
    after = np.arange(1, len(face) + 1)
    after[hulls.loop_start[1:] - 1] = hulls.loop_start[:-1]
    first = corner[hulls.loop_start[:-1]][face]
    cross = np.cross(corner - first, corner[after] - first)
    total = np.add.reduceat(cross, hulls.loop_start[:-1])
    normal = hulls.planes[:, :3]
    return 0.5 * np.abs(np.einsum("fi,fi->f", total, normal)), normal
