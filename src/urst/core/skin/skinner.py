"""Frames of a liquid as closed surfaces."""

from collections.abc import Callable, Sequence
from dataclasses import replace

import numpy as np
from scipy import ndimage
from skimage.measure import marching_cubes

from urst.core.checkpoint import Checkpointed
from urst.core.fields.liquid_frame import LiquidFrame
from urst.core.skin import drops, horizon, kernels
from urst.core.skin.settings import SkinSettings
from urst.errors import BadValue

#: cells that a surface may be drawn on at most
MOST_CELLS = 200_000_000
#: particles so far above the surface are drops, joined by a kernel of this radius [cells of the liquid]
LOOSE, REACH = 0.3, 0.9
#: radius of the ball that a particle of an eighth of a cell fills [cells of the liquid]
_BALL = 0.5 * (3.0 / (4.0 * np.pi)) ** (1.0 / 3.0)
#: how far within the sides the sea beyond begins to be drawn [cells of the surface]
INSET = 1.7
#: what is drawn goes so far beyond the liquid, in such blocks [cells of the liquid]
ROOM, BLOCK = 4, 8
#: particles that fill a cell of the liquid
PARTICLES = 8.0
#: no drop is drawn smaller than this, or the grid would lose it [cells of the surface]
_LEAST = 0.9


Beyond = Callable[[np.ndarray, float], np.ndarray]


class Skinner(Checkpointed):
    """Draws surfaces of a liquid: its level set on a finer grid, bounded by walls, and its drops, joined where they
    are near each other (Zhu & Bridson 2005) and balls where they are not.

    Parameters
    ----------
    settings : SkinSettings
    origin : (3,) float [m]
        Least corner of the liquid's grid.
    cell : float
        Edge of its cells [m].
    shape : (nx, ny, nz)
        Its cells.
    keeps : sequence of str
        What frames hold beside what they always do: `levels`.
    beyond : callable, optional
        How high the sea beyond stands over places (n, 2) [m] at a time [s], (n,) [m].
    start_time : float [s]

    Raises
    ------
    BadValue
        If the surface would have too many cells.
    """

    STATE = ("time",)

    def __init__(
        self,
        settings: SkinSettings,
        origin: np.ndarray | tuple[float, float, float],
        cell: float,
        shape: tuple[int, int, int],
        keeps: Sequence[str] = (),
        beyond: Beyond | None = None,
        start_time: float = 0.0,
    ) -> None:
        self.keeps, self._beyond = keeps, beyond
        self.settings, self.origin, self.coarse = settings, np.asarray(origin, float), float(cell)
        self.cell = float(settings.cell_size or 0.5 * cell)
        self.shape = tuple(max(4, int(np.ceil(n * cell / self.cell - 1e-6))) for n in shape)
        if np.prod(self.shape, dtype=float) > MOST_CELLS:
            raise BadValue(
                f"The surface would have {np.prod(self.shape, dtype=float):,.0f} cells, more than {MOST_CELLS:,}: use "
                "larger ones."
            )
        self.time = start_time
        self.liquid: LiquidFrame | None = None
        self._gauges: dict[str, float] = {}

    def stable_dt(self) -> float:
        """Return the longest step [s]: any."""
        return np.inf

    def take(self, liquid: LiquidFrame) -> None:
        """Take up the liquid whose surface is drawn from now on.

        Parameters
        ----------
        liquid : LiquidFrame
        """
        self.liquid = liquid

    def step(self, dt: float) -> None:
        """Go on by `dt` seconds: nothing moves by itself."""
        self.time += dt

    def distance(self, liquid: LiquidFrame) -> np.ndarray:
        """Return the distance from the surface on the finer grid, negative within [cells of the liquid].

        Parameters
        ----------
        liquid : LiquidFrame
        """
        phi = _level(liquid)
        return self._distance(liquid, phi, self._flying(liquid, phi)[0])

    def _distance(self, liquid: LiquidFrame, phi: np.ndarray, flying: np.ndarray) -> np.ndarray:
        """The same, with the drops at some places (k, 3) [cells of the liquid]."""
        ratio = self.cell / self.coarse
        out = np.empty(self.shape, np.float32)
        kernels.refine(
            phi, np.ascontiguousarray(liquid.walls, np.float32), ratio, np.float32(self.settings.overlap), out
        )
        if self.settings.smoothing > 0.0:
            out = self._smoothed(out, ratio)
        if len(flying):
            self._join_drops(flying, ratio, out)
        # what is shut in by the liquid is no surface of it
        label, count = ndimage.label(out > 0.0)
        if count > 1:
            rim = np.unique(np.concatenate([np.take(label, e, axis=a).ravel() for a in range(3) for e in (0, -1)]))
            shut = np.ones(count + 1, bool)
            shut[rim] = shut[0] = False
            out[shut[label]] = -ratio
        return out

    def _smoothed(self, distance: np.ndarray, ratio: float) -> np.ndarray:
        """The same without short bumps, of the same volume."""
        sums = np.empty(len(distance))
        kernels.volume(distance, 0.0, ratio, sums)
        wanted = sums.sum()
        out = ndimage.gaussian_filter(distance, 0.5 * self.settings.smoothing / self.cell, mode="nearest")
        low, high = -1.5, 1.5
        for _ in range(20):
            level = 0.5 * (low + high)
            kernels.volume(out, level, ratio, sums)
            low, high = (level, high) if sums.sum() < wanted else (low, level)
        return out - np.float32(0.5 * (low + high))

    @property
    def _radius(self) -> float:
        """Of a drop [cells of the liquid]."""
        return self.settings.drops * _BALL

    def _flying(self, liquid: LiquidFrame, phi: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Drops: places (k, 3) and how far above the surface [cells of the liquid], and velocities [m/s]."""
        place = (liquid.position - self.origin) / self.coarse
        above = ndimage.map_coordinates(phi, place.T - 0.5, order=1, mode="nearest")
        some = (above > LOOSE) & (self._radius > 0.0)
        return place[some], above[some], liquid.velocity[some]

    def _join_drops(self, flying: np.ndarray, ratio: float, out: np.ndarray) -> None:
        weight, sums = np.zeros(self.shape, np.float32), np.zeros((*self.shape, 3), np.float32)
        radius = max(self._radius / ratio, _LEAST)
        kernels.gather_drops((flying / ratio).astype(np.float32), max(REACH / ratio, 1.8 * radius), weight, sums)
        kernels.join_drops(weight, sums, np.float32(radius), np.float32(ratio), out)

    def frame(self) -> dict[str, np.ndarray]:
        """Return what a frame keeps: corners [m] with normals and velocities [m/s], and triangles; by choice the
        distance on the grid, negative within, float16 [m]."""
        self._gauges = {}
        if self.liquid is None:
            return _nothing()
        if not self.keeps and self._beyond is None and len(self.liquid.position):
            part = self._about(self.liquid)
            assert part.liquid is not None
            found = part._drawn(part.liquid)
            self._gauges = part._gauges
            return found
        return self._drawn(self.liquid)

    def _about(self, liquid: LiquidFrame) -> "Skinner":
        """The same for no more of the grid than the liquid takes up."""
        count = np.array(liquid.phi.shape)
        wet = np.argwhere(liquid.phi < 1.0)
        places = (liquid.position - self.origin) / self.coarse
        low, high = np.floor(places.min(axis=0)), np.ceil(places.max(axis=0))
        if len(wet):
            low, high = np.minimum(low, wet.min(axis=0)), np.maximum(high, wet.max(axis=0) + 1)
        first = np.clip(BLOCK * np.floor((low - ROOM) / BLOCK), 0, count - 1).astype(int)
        last = np.clip(BLOCK * np.ceil((high + ROOM) / BLOCK), first + 1, count).astype(int)
        cells = tuple(slice(a, b) for a, b in zip(first, last))
        part = Skinner(self.settings, self.origin + self.coarse * first, self.coarse, tuple(last - first))
        there = {n: getattr(liquid, n)[cells] for n in ("phi", "walls", "flow", "blocked")}
        part.liquid = replace(liquid, **there)
        return part

    def _drawn(self, liquid: LiquidFrame) -> dict[str, np.ndarray]:
        phi = _level(liquid)
        place, above, velocity = self._flying(liquid, phi)
        alone = drops.alone(place, above, self._radius, REACH)
        self._gauges["drops"] = float(len(place))
        distance = self._distance(liquid, phi, place[~alone])
        found = self._triangulated(liquid, distance)
        if alone.any():
            balls = drops.balls(
                self.origin + self.coarse * place[alone], velocity[alone], float(self.coarse * self._radius)
            )
            found = _joined(found, balls)
        self._gauges["surface_volume"] = _volume(found["position"].astype(float), found["triangles"])
        self._gauges["triangles"] = float(len(found["triangles"]))
        if "levels" in self.keeps:
            if alone.any():
                distance = self._distance(liquid, phi, place)
            found["levels"] = (self.coarse * distance).astype(np.float16)
        return self._with_horizon(liquid, found)

    def _triangulated(self, liquid: LiquidFrame, distance: np.ndarray) -> dict[str, np.ndarray]:
        if not (distance < 0.0).any():
            return _nothing()
        # closed, just where the grid ends
        padded = np.abs(np.pad(distance, 1, mode="edge"))
        padded[1:-1, 1:-1, 1:-1] = distance
        places, triangles, _, _ = marching_cubes(padded, 0.0, gradient_direction="descent", allow_degenerate=False)
        normal = np.empty((len(places), 3), np.float32)
        kernels.normals(padded, places, normal)
        at = self.origin + self.cell * (places - 0.5)
        return {
            "position": at.astype(np.float32),
            "normal": normal.astype(np.float16),
            "velocity": self._velocities(liquid, at).astype(np.float16),
            "triangles": triangles.astype(np.int32),
        }

    def _with_horizon(self, liquid: LiquidFrame, found: dict[str, np.ndarray]) -> dict[str, np.ndarray]:
        """The same with the sea beyond joined to it."""
        beyond = self._beyond
        if beyond is not None and self.settings.horizon:
            low, high = self.origin, self.origin + self.coarse * np.array(liquid.phi.shape)
            # the water goes on there, so nothing of it ends; the sheet begins a little before
            at = found["position"].astype(float)
            edge = (np.minimum(at - low, high - at)[:, :2] < 0.6 * self.cell).any(axis=1) | (
                at[:, 2] < low[2] + 0.6 * self.cell
            )
            found["triangles"] = found["triangles"][~edge[found["triangles"]].any(axis=1)]
            inset = INSET * self.cell
            low, high = low[:2] + inset, high[:2] - inset
            found |= _joined(found, horizon.sheet(low, high, self.cell, lambda x: beyond(x, self.time)))
        return found

    def _velocities(self, liquid: LiquidFrame, at: np.ndarray) -> np.ndarray:
        count, total = np.zeros(liquid.phi.shape, np.float32), np.zeros((*liquid.phi.shape, 3), np.float32)
        kernels.mean_velocity(
            ((liquid.position - self.origin) / self.coarse).astype(np.float32),
            liquid.velocity.astype(np.float32),
            total,
            count,
        )
        out = np.empty((len(at), 3), np.float32)
        kernels.velocities((at - self.origin) / self.coarse, total, count, out)
        return out

    def gauges(self) -> dict[str, float]:
        """Return the numbers judged on every frame."""
        liquid = self.liquid
        if liquid is None:
            return {}
        wanted = float(liquid.filled[0]) / PARTICLES * self.coarse**3
        have = self._gauges.get("surface_volume", 0.0)
        return {
            "triangles": self._gauges.get("triangles", 0.0),
            "drops": self._gauges.get("drops", 0.0),
            "surface_volume": have,
            "surface_drift": have / wanted - 1.0 if wanted else 0.0,
        }


def _joined(first: dict[str, np.ndarray], second: dict[str, np.ndarray]) -> dict[str, np.ndarray]:
    """One mesh of two."""
    shift = {"triangles": len(first["position"])}
    return {n: np.concatenate([first[n], (a + shift.get(n, 0)).astype(first[n].dtype)]) for n, a in second.items()}


def _nothing() -> dict[str, np.ndarray]:
    return {
        "position": np.zeros((0, 3), np.float32),
        "normal": np.zeros((0, 3), np.float16),
        "velocity": np.zeros((0, 3), np.float16),
        "triangles": np.zeros((0, 3), np.int32),
    }


def _volume(corners: np.ndarray, triangles: np.ndarray) -> float:
    """What a closed mesh encloses [m3]."""
    if not len(corners):
        return 0.0
    a, b, c = (corners[triangles[:, n]] - corners[0] for n in range(3))
    return float(np.einsum("ij,ij->i", a, np.cross(b, c)).sum() / 6.0)


def _level(liquid: LiquidFrame) -> np.ndarray:
    """The liquid's distance from its surface, along thin walls where it meets them."""
    phi, walls = (np.ascontiguousarray(x, np.float32) for x in (liquid.phi, liquid.walls))
    return _beside_thin(phi, walls, liquid.blocked) if liquid.blocked.any() else phi


def _beside_thin(phi: np.ndarray, walls: np.ndarray, blocked: np.ndarray) -> np.ndarray:
    """Distances from the surface such that it runs along thin walls."""
    met, found, out = np.empty(phi.shape, np.uint8), np.empty_like(phi), np.empty_like(phi)
    kernels.meet_thin(phi, walls, blocked, found, met)
    kernels.follow_thin(found, met, blocked, out)
    return out
