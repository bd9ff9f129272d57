"""The box that a grid fills, as it is asked for."""

from typing import Any


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
