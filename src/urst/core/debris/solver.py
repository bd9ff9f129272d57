"""Debris and dust points: born where fragments part or where something gives them off, flying and bouncing."""

from collections.abc import Sequence

import numpy as np
from scipy.spatial.transform import Rotation

from urst.core.bodies.boundary import Boundary
from urst.core.bodies.parting import Parting
from urst.core.bodies.placing import Placed, obstacles
from urst.core.checkpoint import Checkpointed
from urst.core.curves.clock import Clock
from urst.core.curves.curve import Curve
from urst.core.curves.varies import along, at_time
from urst.core.debris import kernels
from urst.core.debris.kernels import Bins, Bounce, Faces, Flight, Points, Rule, Screws
from urst.core.debris.settings import CHIP, PUFF, DebrisSettings
from urst.core.debris.sources import PointSource
from urst.errors import SolverFailed

#: cells along the longest side of the grid that bodies are sorted into
_GRID_CELLS = 64
#: speeds of impact at which restitution is looked up
_BOUNCES = 257
#: a body that spans more of them is met by every point
_MOST_CELLS = 4096


class _Shed(Checkpointed):
    """The patches of one set of bodies, and what they have given so far."""

    STATE = ("spent", "given", "born")

    def __init__(self, parting: Parting) -> None:
        self.parting = parting
        patches, bonds, fragments = parting.patches, parting.bonds, parting.boundary.fragments
        centre = patches.centre[bonds]
        i, j = patches.pair[bonds].T
        anchor = np.stack([centre - fragments.centre[i], centre - fragments.centre[j]], axis=1)
        self.faces = Faces(
            patches.pair[bonds],
            patches.area[bonds],
            patches.extent[bonds],
            patches.axis[bonds],
            patches.normal[bonds],
            anchor,
        )
        self.rounding_offsets = np.empty((len(bonds), 2))
        kernels.rounding_offsets(self.rounding_offsets)
        self.spent = np.zeros(len(bonds))
        self.given = np.zeros((len(bonds), 2))
        self.born = np.zeros((len(bonds), 2), np.int64)


class DebrisSolver(Checkpointed):
    """Points shed by patches whose bond has snapped, and given off by sources.

    The number shed is `per area x area` in all, handed out as the faces part over `reach`. Each point's birth is
    drawn from a hash of seed, patch and number, so more chips leave the earlier ones where they are.

    Parameters
    ----------
    settings : DebrisSettings
    gravity : (3,) float [m/s2]
    partings : list of Parting
        Bodies that shed.
    boundaries : list of Boundary
        Bodies that points bounce off.
    sources : list of PointSource
    clock : Clock
        When each frame is: curves over frames go by it, and by its frames a second `substeps` is meant.
    start_time : float [s]
    """

    STATE = ("points", "sheds", "time", "given_off", "impulse_taken")

    def __init__(
        self,
        settings: DebrisSettings,
        gravity: tuple[float, float, float] = (0, 0, -9.81),
        *,
        partings: Sequence[Parting] = (),
        boundaries: Sequence[Boundary] = (),
        sources: Sequence[PointSource] = (),
        clock: Clock | None = None,
        start_time: float = 0.0,
    ) -> None:
        self.settings, self.gravity = settings, np.array(gravity, float)
        self.sheds = [_Shed(p) for p in partings]
        self.boundaries, self.sources = list(boundaries), list(sources)
        self.clock = clock or Clock()
        self.time, self.step_dt = start_time, 1.0 / (self.clock.rate * settings.substeps)
        self.points = _no_points()
        self.given_off = 0
        self.impulse_taken = np.zeros(3)
        """impulse from outside that points have taken [N s]"""

    def stable_dt(self) -> float:
        """Return the longest step [s]."""
        return self.step_dt

    def step(self, dt: float) -> None:
        """Advance by `dt` seconds, to where the boundaries are then.

        Raises
        ------
        SolverFailed
            If a point has no finite place any more.
        """
        s, end = at_time(self.settings, self.clock, self.time + 0.5 * dt), self.time + dt
        self._grow_older(dt)
        before = self.points.position.copy()
        kernels.fly(self.points.position, self.points.velocity, self.points, self.gravity, s.density, dt)
        for number, shed in enumerate(self.sheds):
            self._give_birth(shed, number, shed.parting.boundary.at(end), dt, s)
        for source in self.sources:
            born = source.between(self.time, dt, s)
            self.given_off += len(born.size)
            self._add(born)
        # what has been born within the step is where it is
        before = np.concatenate([before, self.points.position[len(before) :]])
        for boundary in self.boundaries:
            self._bounce(boundary, before, dt, s)
        self.time = end
        if not np.isfinite(self.points.position).all():
            raise SolverFailed("A debris point has no finite position: lower the spread or raise the substeps.")

    def _grow_older(self, dt: float) -> None:
        points, s = self.points, self.settings
        points.age[:] += dt
        # a puff stays for the step in which it is spent, so that the rest of its dust is given
        life = np.where(points.kind == PUFF, s.puff_life + self.step_dt * s.substeps, s.life)
        keep = points.age <= life
        if not keep.all():
            self.points = Points(*(a[keep] for a in points))

    def _add(self, born: Points) -> None:
        if len(born.size):
            self.points = Points(*(np.concatenate(pair) for pair in zip(self.points, born)))

    def _give_birth(self, shed: _Shed, number: int, bodies: Placed, h: float, s: DebrisSettings) -> None:
        faces, speed = shed.faces, np.zeros(len(shed.faces.area))
        kernels.parting(faces, shed.parting.parted.astype(np.uint8), bodies, speed)
        # a face gives what is asked of it at the speed it parts with, until it has parted by the whole reach
        fraction = np.where(speed >= s.least_speed, np.minimum(speed * h / s.reach, 1.0 - shed.spent), 0.0)
        owed = np.column_stack([along(per_area, speed) * faces.area * fraction for per_area in (s.chips, s.dust)])
        # a fraction of a point is owed by luck of the draw, fixed for the patch
        before = np.floor(shed.given + shed.rounding_offsets)
        shed.given += owed
        shed.spent += fraction
        count = (np.floor(shed.given + shed.rounding_offsets) - before).astype(np.int64)
        rule = Rule(s.seed, number, s.spread, s.smallest, s.largest)
        total = int(count.sum())
        if total:
            born = _no_points(total)
            kernels.spawn(faces, count, speed, shed.born, rule, bodies, h, born)
            shed.born += count
            self._add(born)

    def _bounce(self, boundary: Boundary, before: np.ndarray, dt: float, s: DebrisSettings) -> None:
        if not len(self.points.size):
            return
        p, margin = self.points, 0.5 * s.largest
        was, now = boundary.at(self.time, margin), boundary.at(self.time + dt, margin)
        # how each body goes, and all that it passes over; what turns bulges beyond where it was and is
        screws, angle = _screws(was, now)
        there = np.isfinite(now.low).all(axis=1)
        across = np.linalg.norm(np.where(there[:, None], now.high - now.low, 0.0), axis=1)
        bulge = (0.5 * across * (1.0 - np.cos(0.5 * angle)))[:, None]
        travel = float(np.abs(now.position - was.position).max(initial=0.0)) + float(bulge.max(initial=0.0))
        now = now._replace(low=np.minimum(was.low, now.low) - bulge, high=np.maximum(was.high, now.high) + bulge)
        kernels.collide(
            p.position,
            p.velocity,
            Flight(before, p.size, dt),
            obstacles(now),
            screws,
            self._bins(now, before, travel),
            _bounce(s.restitution, s.friction),
        )

    def _bins(self, bodies: Placed, before: np.ndarray | None = None, travel: float = 0.0) -> Bins:
        position, room = self.points.position, 0.0
        if before is not None:
            # as far as any may come, thrown back by what comes towards it
            room = float(np.abs(position - before).max()) + 2.0 * travel
            position = np.concatenate([before, position])
        first, last = position.min(axis=0) - room, position.max(axis=0) + room
        cell = max(float((last - first).max()) / _GRID_CELLS, 0.05, 2 * self.settings.largest)
        shape = np.maximum(np.ceil((last - first) / cell).astype(np.int64) + 1, 1)
        large = np.empty(len(bodies.low), np.int64)
        room = 64 * len(large)
        while True:
            start, items = np.zeros(shape.prod() + 1, np.int64), np.empty(room, np.int64)
            bins = Bins(first, cell, shape, start, items, large)
            found, bulky = kernels.bin_bodies(bodies.low, bodies.high, bins, _MOST_CELLS)
            if found >= 0:
                return bins._replace(items=items[:found], large=large[:bulky])
            room *= 4

    @property
    def born(self) -> int:
        """How many points have been born so far."""
        return int(sum(shed.born.sum() for shed in self.sheds)) + self.given_off

    def mass(self) -> np.ndarray:
        """Return the mass of each point (n,) [kg]; a puff's is that of the dust it gives to the air, so none here."""
        return np.where(self.is_chip(), self.settings.density * np.pi / 6.0 * self.points.size**3, 0.0)

    def density(self) -> float:
        """Return that of the chips [kg/m3]."""
        return self.settings.density

    def is_chip(self) -> np.ndarray:
        """Return which points are chips (n,) bool; the others are puffs."""
        return self.points.kind == CHIP

    def outputs(self) -> dict[str, np.ndarray]:
        """Return position [m], velocity [m/s] and age [s] of the puffs, as they are now."""
        puff, p = ~self.is_chip(), self.points
        return {"position": p.position[puff], "velocity": p.velocity[puff], "age": p.age[puff]}

    def frame(self) -> dict[str, np.ndarray]:
        """Return what a frame keeps, float32 and uint8."""
        p = self.points
        return {
            "position": p.position.astype(np.float32),
            "velocity": p.velocity.astype(np.float32),
            "size": p.size.astype(np.float32),
            "age": p.age.astype(np.float32),
            "kind": p.kind.copy(),
        }

    def gauges(self) -> dict[str, float]:
        """Return the numbers judged on every frame."""
        p = self.points
        speed, depth = np.linalg.norm(p.velocity, axis=1), np.zeros(len(p.size))
        for boundary in self.boundaries:
            if len(depth):
                bodies = boundary.at(self.time, 0.5 * self.settings.largest)
                h = bodies.hulls
                kernels.buried(p.position, h.planes, h.face_start, self._bins(bodies), depth)
        return {
            "chips": float((p.kind == CHIP).sum()),
            "puffs": float(((p.kind == PUFF) & (p.age <= self.settings.puff_life)).sum()),
            "born": float(self.born),
            "top_speed": float(speed.max()) if len(speed) else 0.0,
            "deepest_overlap": float(depth.max()) if len(depth) else 0.0,
        }

    def begin_from(self, frame: dict[str, np.ndarray]) -> None:
        """Begin with the points of a baked frame."""
        n = len(frame["size"])
        plain = {k: frame[k].astype(float) for k in ("position", "velocity", "size", "age")}
        self.points = Points(kind=frame["kind"].copy(), airborne=np.zeros(n, np.uint8), **plain)


def _screws(was: Placed, now: Placed) -> tuple[Screws, np.ndarray]:
    """How bodies go from one pose to another, and by what angle (m,) [rad] they turn; the logarithm of a rigid
    motion."""
    turned = Rotation.from_matrix(now.rotation @ np.transpose(was.rotation, (0, 2, 1)))
    turn, shift = turned.as_rotvec(), now.position - turned.apply(was.position)
    angle = np.linalg.norm(turn, axis=1)
    safe = np.maximum(angle, 1e-4)
    third = np.where(angle < 1e-3, 1.0 / 12.0, 1.0 / safe**2 - 0.5 / (safe * np.tan(0.5 * safe)))[:, None]
    once = np.cross(turn, shift)
    return Screws(turn, shift - 0.5 * once + third * np.cross(turn, once)), angle


def _bounce(restitution: float | Curve, friction: float) -> Bounce:
    """Restitution as kernels look it up: over the speed of impact, where it is a curve."""
    if not isinstance(restitution, Curve):
        return Bounce(np.full(2, float(restitution)), 1.0, friction)
    last = max(1e-3, restitution.places()[-1])
    return Bounce(restitution.table(last, _BOUNCES), last / (_BOUNCES - 1), friction)


def _no_points(n: int = 0) -> Points:
    return Points(
        np.zeros((n, 3)), np.zeros((n, 3)), np.zeros(n), np.zeros(n), np.zeros(n, np.uint8), np.zeros(n, np.uint8)
    )
