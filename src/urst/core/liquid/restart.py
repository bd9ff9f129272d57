"""A frame of a liquid as the start of another, on whatever grid that has."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from scipy.ndimage import map_coordinates

from urst.core.fields.liquid_frame import LiquidFrame
from urst.core.liquid.filling import grid
from urst.core.liquid.level_kernels import BAND

#: grids whose cells and corners differ by less than this fraction of a cell are one
SAME = 1e-4


@dataclass(frozen=True)
class Lattice:
    """Where the cells of a grid lie."""

    origin: np.ndarray
    """(3,) its least corner [m]"""
    cell: float
    """[m]"""
    shape: tuple[int, ...]

    def middles(self) -> np.ndarray:
        """Return the cells' middles, (n, 3) [m]."""
        return self.origin + self.cell * (grid((0, 0, 0), self.shape) + 0.5)


@dataclass(frozen=True)
class Taken:
    """What is taken over of a frame."""

    position: np.ndarray
    """particles (n, 3) [cells of the new grid], none where its cells are of another size"""
    speed: np.ndarray
    """theirs (n, 3) [m/s]"""
    phi: np.ndarray
    """distance from the surface (nx, ny, nz) [cells]"""
    flow: list[np.ndarray]
    """at faces [m/s]"""
    velocity: Callable[[np.ndarray], np.ndarray]
    """at places (n, 3) [m], (n, 3) [m/s]"""
    inside: Callable[[np.ndarray], np.ndarray]
    """distance of places (n, 3) [m] from the surface, negative within [m]"""
    whole: bool
    """whether nothing of it was left out"""


def taken_up(
    frame: LiquidFrame, of: Lattice, on: Lattice, within: Callable[[np.ndarray], np.ndarray] | None = None
) -> Taken:
    """Return what a frame holds, on another grid.

    Parameters
    ----------
    frame : LiquidFrame
    of : Lattice
        Its grid.
    on : Lattice
        The grid that it is taken to.
    within : callable, optional
        Signed distance of places (n, 3) [m] from what is taken of it, negative within (n,) [m].
    """
    shift = (on.origin - of.origin) / of.cell
    finer = abs(on.cell / of.cell - 1.0) > SAME
    same = not finer and np.abs(shift).max() < SAME and on.shape == of.shape

    def at(field: np.ndarray, places: np.ndarray, beyond: float | np.floating) -> np.ndarray:
        where = (places - of.origin) / of.cell
        found = map_coordinates(field.astype(np.float32), where.T - 0.5, order=1, mode="nearest")
        return np.where(((where >= 0.0) & (where <= of.shape)).all(axis=1), found, beyond)

    def velocity(places: np.ndarray) -> np.ndarray:
        return np.stack([at(frame.flow[..., a], places, 0.0) for a in range(3)], axis=1)

    middles = on.middles()
    if same:
        phi, flow = frame.phi.astype(np.float32), frame.flow.astype(np.float32)
    else:
        phi = (at(frame.phi, middles, BAND) * (of.cell / on.cell)).reshape(on.shape).astype(np.float32)
        flow = velocity(middles).reshape(*on.shape, 3).astype(np.float32)
    places = (frame.position - on.origin) / on.cell
    mine = ((places >= 0.0) & (places < np.array(on.shape))).all(axis=1) & (not finer)
    if within is not None:
        phi = np.maximum(phi, (within(middles) / on.cell).reshape(on.shape).astype(np.float32))
        mine[mine] = within(frame.position[mine].astype(float)) < 0.0
    position = np.minimum(places[mine].astype(np.float32), np.nextafter(np.array(on.shape, np.float32), np.float32(0)))

    def inside(x: np.ndarray) -> np.ndarray:
        away = of.cell * at(frame.phi, x, BAND)
        return away if within is None else np.maximum(away, within(x))

    speed, whole = frame.velocity[mine].astype(np.float32), same and bool(mine.all())
    return Taken(position, speed, phi, _faces(flow), velocity, inside, whole)


def _faces(flow: np.ndarray) -> list[np.ndarray]:
    """Velocities at faces from those at cells' middles."""
    found = []
    for axis in range(3):
        u = np.moveaxis(flow[..., axis], axis, 0)
        u = np.concatenate([u[:1], 0.5 * (u[1:] + u[:-1]), u[-1:]])
        found.append(np.ascontiguousarray(np.moveaxis(u, 0, axis), np.float32))
    return found
