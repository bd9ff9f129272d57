"""The part of a liquid's domain that is solved: a box about what is wet, in blocks of cells."""

from typing import NamedTuple

import numpy as np

#: cells of a block along each edge, as the multigrid wants them
BLOCK = 8
#: so near the liquid may come to the window's side, and so far is that from it when it is set [cells]
NEAR, ROOM = 5, 8
#: a window that holds so many times what it need is made smaller
SPARE = 1.5


class Window(NamedTuple):
    """A box of whole blocks within a domain."""

    first: tuple[int, int, int]
    """its least cell, counted in the domain"""
    shape: tuple[int, int, int]
    """cells along x, y, z"""


def fitted(now: Window, low: np.ndarray, high: np.ndarray, domain: tuple[int, int, int]) -> Window:
    """Return a window about what is wet: the same while that has room in it and it is not much too large.

    Parameters
    ----------
    now : Window
    low, high : (3,) float
        Corners of what is wet, counted in the domain's cells.
    domain : (nx, ny, nz)
        The domain's cells.
    """
    end, first = np.array(domain), np.array(now.first)

    def about(room: int) -> tuple[np.ndarray, np.ndarray]:
        a = BLOCK * np.floor((low - room) / BLOCK).astype(int)
        b = BLOCK * np.ceil((high + room) / BLOCK).astype(int)
        a = np.clip(a, 0, end - BLOCK)
        return a, np.clip(b, a + BLOCK, end)

    least, most = about(ROOM)
    near_low, near_high = np.maximum(np.floor(low) - NEAR, 0), np.minimum(np.ceil(high) + NEAR, end)
    enough = (near_low >= first).all() and (near_high <= first + np.array(now.shape)).all()
    if enough and np.prod(now.shape) <= SPARE * np.prod(most - least):
        return now
    i, j, k = (int(x) for x in least)
    nx, ny, nz = (int(x) for x in most - least)
    return Window((i, j, k), (nx, ny, nz))


def moved(array: np.ndarray, before: Window, after: Window, extra: int | None, fill: float | np.floating) -> np.ndarray:
    """Return a field of one window in another.

    Parameters
    ----------
    array : (nx, ny, nz), or with one more along `extra`
    before, after : Window
    extra : int, optional
        The axis of faces; None for cells.
    fill : float
        What it is where nothing is known.
    """
    more = np.array([int(a == extra) for a in range(3)])
    out = np.full(np.array(after.shape) + more, fill, array.dtype)
    low = np.maximum(before.first, after.first)
    high = np.minimum(np.add(before.first, before.shape), np.add(after.first, after.shape))
    if (high <= low).any():
        return out
    to = tuple(slice(a - f, b - f + m) for a, b, f, m in zip(low, high, after.first, more))
    out[to] = array[tuple(slice(a - f, b - f + m) for a, b, f, m in zip(low, high, before.first, more))]
    return out


def over(window: Window, domain: tuple[int, int, int], field: np.ndarray, beyond: float, most: float) -> np.ndarray:
    """Return a field of a window's cells over all of its domain, float16.

    Parameters
    ----------
    window : Window
    domain : (nx, ny, nz)
    field : (cells)
    beyond : float
        What it is where it is not solved.
    most : float
        It is clipped to this either way.
    """
    found = moved(field, window, Window((0, 0, 0), domain), None, beyond)
    return np.clip(found, -most, most).astype(np.float16)


def beside(window: Window, domain: tuple[int, int, int], margin: int) -> np.ndarray:
    """Return the cells of a window that are at most so many from the domain's sides, (cells) bool.

    Parameters
    ----------
    window : Window
    domain : (nx, ny, nz)
    margin : int
    """
    found, low = np.ones(window.shape, bool), margin - np.array(window.first)
    high = low + np.array(domain) - 2 * margin
    found[tuple(slice(max(a, 0), max(b, 0)) for a, b in zip(low, high))] = False
    return found
