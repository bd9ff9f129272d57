"""What is full of liquid at the start: where particles go, and how far the surface is."""

from collections.abc import Callable

import numpy as np
from scipy.ndimage import map_coordinates

from urst.core.liquid.level_kernels import BAND
from urst.core.liquid.settings import EDGE
from urst.core.solids import thin_kernels
from urst.core.solids.walls import Walls
from urst.errors import BadValue

#: what is filled has no surface where there is a wall so far behind it [cells]
BEHIND = 0.5
#: cells that are open by more may join others in a pool
OPEN = 0.5

#: irrational steps from cube to cube along x, y and z
_STEPS = np.sqrt([[2.0, 3.0, 5.0], [7.0, 11.0, 13.0], [17.0, 19.0, 23.0]])
Inside = Callable[[np.ndarray], np.ndarray]


def grid(first: np.ndarray | tuple[int, ...], last: np.ndarray | tuple[int, ...]) -> np.ndarray:
    """Return all cells from one to before another, (n, 3).

    Parameters
    ----------
    first, last : (3,) int
    """
    return np.stack(np.meshgrid(*map(np.arange, first, last), indexing="ij"), axis=-1).reshape(-1, 3)


def eighths(cells: np.ndarray) -> np.ndarray:
    """Return what holds of cells (nx, ny, nz) for each eighth of them, (2nx, 2ny, 2nz)."""
    return np.repeat(np.repeat(np.repeat(cells, EDGE, 0), EDGE, 1), EDGE, 2)


def joined(place: tuple[float, float, float], level: float, walls: Walls) -> np.ndarray:
    """Return the cells that liquid poured at a place would fill up to a level, (nx, ny, nz) bool.

    Parameters
    ----------
    place : (3,) float [m]
    level : float [m]
    walls : Walls

    Raises
    ------
    BadValue
        If the place is not open, or lies above the level or outside the grid.
    """
    shape = np.array(walls.fraction.shape)
    heights = walls.origin[2] + walls.cell * np.arange(shape[2])
    open_ = (walls.fraction > OPEN) & (heights < level)
    at = np.floor((np.asarray(place, float) - walls.origin) / walls.cell).astype(int)
    if (at < 0).any() or (at >= shape).any() or not open_[tuple(at)]:
        raise BadValue(
            f"The place of the pool, {', '.join(f'{x:g}' for x in place)}, is within a wall, above its level or "
            "outside the "
            "domain: choose one in the open below the level."
        )
    mine, found = (np.zeros(tuple(shape), bool) for _ in range(2))
    i, j, k = at
    thin_kernels.joined(open_, walls.blocked, i, j, k, mine)
    # cells that walls leave less than half of go with those beside
    thin_kernels.edge_of(mine, walls.fraction, walls.blocked, np.float32(OPEN), found)
    return found


def seeds(
    inside: Inside, walls: Walls, cells: tuple[np.ndarray, np.ndarray], taken: np.ndarray, rng: np.random.Generator
) -> np.ndarray:
    """Return places of particles in the open that lie inside something, (n, 3) float32 [cells].

    Parameters
    ----------
    inside : callable
        Signed distance from the surface of what is filled at places (n, 3) [m], negative within [m].
    walls : Walls
    cells : ((3,), (3,)) int
        The first cells that are looked at and those after the last.
    taken : (2nx, 2ny, 2nz) bool
        Eighths of cells in which there is some already.
    rng : numpy.random.Generator
    """
    corner = grid(EDGE * cells[0], EDGE * cells[1])
    places = (corner + spread_out(corner, rng)) / EDGE
    open_ = map_coordinates(walls.distance, 2.0 * places.T - 0.5, order=1, mode="nearest") > 0.0
    places = places[open_ & ~taken[tuple(corner.T)]]
    places = places[inside(walls.origin + walls.cell * places) < 0.0].astype(np.float32)
    # rounding must not take any to the far side of the grid
    places = np.minimum(places, np.nextafter(np.array(walls.fraction.shape, np.float32), np.float32(0.0)))
    clear = np.empty(len(places), bool)
    thin_kernels.clear(places, walls.reach, walls.met(), clear)
    return places[clear]


def spread_out(corner: np.ndarray, rng: np.random.Generator) -> np.ndarray:
    """Return a place in the unit cube for each of some corners of a grid, (n, 3) float: scattered, but so evenly that
    of any plane of cubes the same fraction lies below any height (rank-1 lattice, randomly shifted: Cranley & Patterson
    1976).

    Parameters
    ----------
    corner : (n, 3) int
    rng : numpy.random.Generator
    """
    return (corner @ _STEPS + rng.random(3)) % 1.0


def surface(inside: Inside, walls: Walls, cells: tuple[np.ndarray, np.ndarray]) -> np.ndarray:
    """Return the distance of cells from the surface of what is filled; there is none where it ends at a wall (cells)
    [cells].

    Parameters
    ----------
    inside : callable
        As in `seeds`.
    walls : Walls
    cells : ((3,), (3,)) int
    """
    places = walls.origin + walls.cell * (grid(*cells) + 0.5)
    distance, h = inside(places) / walls.cell, 0.01 * walls.cell
    near = np.flatnonzero(np.abs(distance) < BAND)
    slope = np.stack([inside(places[near] + h * e) - inside(places[near] - h * e) for e in np.eye(3)], axis=1)
    slope /= np.maximum(np.linalg.norm(slope, axis=1, keepdims=True), 1e-12)
    ends = (places[near] - walls.origin) / walls.cell - (distance[near, None] - BEHIND) * slope
    sample = np.clip((2.0 * ends).astype(np.int64), 0, np.array(walls.distance.shape) - 1)
    flush = (walls.distance[tuple(sample.T)] < 0.0) & (distance[near] < 0.0)
    distance[near[flush]] = -BAND
    return np.clip(distance, -BAND, BAND).reshape(cells[1] - cells[0])
