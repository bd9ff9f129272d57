"""The box that a grid fills, as it is asked for."""

import math
from typing import Any

#: so much of a block of cells is no cell
_HAIR = 1e-6


def shape(settings: Any) -> tuple[int, int, int]:
    """Return the cells along x, y, z, rounded up to multiples of 8 for the multigrid; what rounding adds to a side
    counts for nothing.

    Parameters
    ----------
    settings
        With `low`, `high` (3,) and `cell_size` [m].
    """
    block = 8.0 * settings.cell_size
    nx, ny, nz = (8 * max(1, math.ceil((b - a) / block - _HAIR)) for a, b in zip(settings.low, settings.high))
    return nx, ny, nz


def check(settings: Any, most: int) -> None:
    """Look whether a box holds a grid that can be solved.

    Parameters
    ----------
    settings
        With `low`, `high` (3,) and `cell_size` [m], and `cells()`.
    most : int
        Cells at most.

    Raises
    ------
    ValueError
        If it is narrower than four cells or holds too many.
    """
    for axis, a, b in zip("xyz", settings.low, settings.high):
        if not b - a >= 4 * settings.cell_size:
            raise ValueError(
                f"the domain is {b - a:.3g} m along {axis}, less than four cells of {settings.cell_size} m: "
                "move its corners apart or use smaller cells"
            )
    across = [(b - a) / settings.cell_size for a, b in zip(settings.low, settings.high)]
    if max(across) > most:
        raise ValueError(
            f"the domain is {max(across):.3g} cells long, more than {most:,}: use larger cells or a smaller domain"
        )
    if settings.cells() > most:
        raise ValueError(
            f"the domain holds {settings.cells():,} cells, more than {most:,}: use larger cells or a smaller domain"
        )
