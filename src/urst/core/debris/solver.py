"""Debris and dust points: born where fragments part, flying and bouncing among them."""

import numpy as np

from urst.core.debris import kernels
from urst.core.debris.settings import DebrisSettings
from urst.core.fracture.fragments import Fragments, Patches
from urst.core.geometry import placing
from urst.core.geometry.motion import Motion
from urst.errors import SolverFailed

#: cells along the longest side of the grid that bodies are sorted into
_GRID_CELLS = 64


class DebrisSolver:
    """Points shed by patches whose bond has snapped.

    The number born is `per area x area` in all, handed out as the faces part over `reach`. Each point's birth is
    drawn from a hash of seed, patch and number, so more chips leave the earlier ones where they are.
    """

    def __init__(
        self, fragments: Fragments, patches: Patches, bonds: np.ndarray, settings: DebrisSettings, gravity=(0, 0, -9.81)
    ):
        """`bonds` (b,) int64: the patch under each bond, in the order of the frames' `bond_alive`."""
        self.fragments, self.settings = fragments, settings
        self.gravity = np.array(gravity, float)
        self.pair = patches.pair[bonds]
        self.area, self.extent = patches.area[bonds], patches.extent[bonds]
        self.axis, self.normal = patches.axis[bonds], patches.normal[bonds]
        centre = patches.centre[bonds]
        i, j = self.pair.T
        self.anchor = np.stack([centre - fragments.centre[i], centre - fragments.centre[j]], axis=1)
        self.given = np.zeros((len(bonds), 2))
        self.born = np.zeros((len(bonds), 2), np.int64)
        self.position, self.velocity = np.zeros((0, 3)), np.zeros((0, 3))
        self.size, self.age = np.zeros(0), np.zeros(0)
        self.kind = np.zeros(0, np.uint8)
        self.deepest = 0.0

    def step(self, before: dict[str, np.ndarray], after: dict[str, np.ndarray], dt: float) -> None:
        """Advance by one frame of `dt` seconds, between two frames of the rigid bodies (see `RigidSolver.frame`)."""
        s = self.settings
        h = dt / s.substeps
        motion = Motion(before, after, dt)
        self.deepest = 0.0
        self._drop_old(dt)
        for k in range(s.substeps):
            position, turned = motion.pose((k + 1) / s.substeps)
            self._give_birth(position, turned, motion.velocity, motion.spin, after["bond_alive"] == 0, h)
            self._fly(position, turned, motion.velocity, motion.spin, h, measure=k == s.substeps - 1)
        if not np.isfinite(self.position).all():
            raise SolverFailed("A debris point has no finite position: lower the spread or raise the substeps.")

    def _drop_old(self, dt):
        self.age += dt
        life = np.where(self.kind == kernels.PUFF, self.settings.puff_life, self.settings.life)
        keep = self.age <= life
        if not keep.all():
            for name in ("position", "velocity", "size", "age", "kind"):
                setattr(self, name, getattr(self, name)[keep])

    def _give_birth(self, position, turned, velocity, spin, parted, h):
        s = self.settings
        count, speed = np.zeros((len(self.area), 2), np.int64), np.zeros(len(self.area))
        kernels.due(
            self.pair, self.area, self.anchor, self.normal, parted.astype(np.uint8), self.given,
            np.array([s.chips, s.dust]), s.reach, s.least_speed, position, turned, velocity, spin, h, speed, count,
        )  # fmt: skip
        total = int(count.sum())
        if not total:
            return
        new_position, new_velocity = np.empty((total, 3)), np.empty((total, 3))
        size, kind = np.empty(total), np.empty(total, np.uint8)
        kernels.bear(
            self.pair, self.area, self.extent, self.axis, self.normal, self.anchor, count, speed, self.born, s.seed,
            s.spread, s.smallest, s.largest, position, turned, velocity, spin, new_position, new_velocity, size, kind,
        )  # fmt: skip
        self.born += count
        self.position = np.concatenate([self.position, new_position])
        self.velocity = np.concatenate([self.velocity, new_velocity])
        self.size = np.concatenate([self.size, size])
        self.kind = np.concatenate([self.kind, kind])
        self.age = np.concatenate([self.age, np.zeros(total)])

    def _fly(self, position, turned, velocity, spin, h, measure):
        n = len(self.position)
        if not n:
            return
        kernels.fly(self.position, self.velocity, self.size, self.kind, self.gravity, self.settings.density, h)
        hulls = self.fragments.hulls
        margin = np.full(len(self.fragments), 0.5 * self.settings.largest)
        vertices, planes = np.empty_like(hulls.vertices), np.empty_like(hulls.planes)
        low, high = np.empty((len(margin), 3)), np.empty((len(margin), 3))
        placing.place(
            position, turned, hulls.vertices, hulls.vertex_start, hulls.planes, hulls.face_start, margin,
            vertices, planes, low, high,
        )  # fmt: skip
        first, last = self.position.min(axis=0), self.position.max(axis=0)
        cell = max((last - first).max() / _GRID_CELLS, 0.05, 2 * self.settings.largest)
        shape = np.maximum(np.ceil((last - first) / cell).astype(np.int64) + 1, 1)
        large = np.empty(len(margin), np.int64)
        room = 64 * len(margin)
        while True:
            start, items = np.zeros(shape.prod() + 1, np.int64), np.empty(room, np.int64)
            found, bulky = kernels.bin_bodies(low, high, first, cell, shape, 4096, start, items, large)
            if found >= 0:
                break
            room *= 4
        kernels.collide(
            self.position, self.velocity, self.size, planes, hulls.face_start, low, high, position, velocity, spin,
            first, cell, shape, start, items[:found], large[:bulky], self.settings.restitution,
            self.settings.friction,
        )  # fmt: skip
        if measure:
            depth = np.zeros(n)
            kernels.buried(
                self.position, planes, hulls.face_start, first, cell, shape, start, items[:found], large[:bulky], depth
            )
            self.deepest = float(depth.max())

    def frame(self) -> dict[str, np.ndarray]:
        """Return what a frame keeps, float32 and uint8."""
        return {
            "position": self.position.astype(np.float32),
            "velocity": self.velocity.astype(np.float32),
            "size": self.size.astype(np.float32),
            "age": self.age.astype(np.float32),
            "kind": self.kind.copy(),
        }

    def gauges(self) -> dict[str, float]:
        """Return the numbers judged on every frame."""
        speed = np.linalg.norm(self.velocity, axis=1)
        return {
            "chips": float((self.kind == kernels.CHIP).sum()),
            "puffs": float((self.kind == kernels.PUFF).sum()),
            "born": float(self.born.sum()),
            "top_speed": float(speed.max()) if len(speed) else 0.0,
            "deepest_overlap": self.deepest,
        }

    _STATE = ("given", "born", "position", "velocity", "size", "age", "kind")

    def snapshot(self) -> dict[str, np.ndarray]:
        """Return the whole state as named arrays."""
        return {name: getattr(self, name).copy() for name in self._STATE}

    def restore(self, state: dict[str, np.ndarray]) -> None:
        """Take up the state that `snapshot` returned."""
        for name in self._STATE:
            setattr(self, name, state[name].copy())
