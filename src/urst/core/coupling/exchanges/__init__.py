"""What solvers do to each other: a module for each pair of ports, whose names make its own, with a class `Between`.

A new pair is a new module; nothing else lists them. Naming the pairs loads none of them.
"""

from importlib import import_module
from pkgutil import iter_modules
from typing import Any

from urst.errors import BadValue

#: the pairs of offers whose layers can act on each other, the first acting forth
PAIRS: tuple[tuple[str, str], ...] = tuple(
    (first, second) for first, _, second in (m.name.partition("_") for m in iter_modules(__path__))
)


def pair_of(first: tuple[str, ...], second: tuple[str, ...]) -> tuple[str, str] | None:
    """Return the pair by which two layers act on each other, in either order; None if they cannot.

    Parameters
    ----------
    first, second : tuple of str
        Names of the ports that each has.
    """
    for one, other in PAIRS:
        if (one in first and other in second) or (one in second and other in first):
            return one, other
    return None


def exchange(first: Any, second: Any, readers: dict[int, list], forth: float, back: float) -> Any:
    """Return what passes between two solvers, an `Exchange`; they may come in either order.

    Parameters
    ----------
    first, second : solvers
    readers : dict
        What others follow of each solver, by its id.
    forth, back : float
        How strongly the first acts on the second, and the second on the first; 1 is physical.

    Raises
    ------
    BadValue
        If nothing passes between two such solvers.
    """
    from urst.core.coupling.ports import PORTS

    for one, other, to, fro in ((first, second, forth, back), (second, first, back, forth)):
        for pair in PAIRS:
            if isinstance(one, PORTS[pair[0]]) and isinstance(other, PORTS[pair[1]]):
                module = import_module(f"{__name__}.{'_'.join(pair)}")
                return module.Between(one, other, readers[id(one)], to, fro)
    names = " and ".join(type(s).__name__ for s in (first, second))
    raise BadValue(f"{names} cannot act on each other: remove the coupling, or let one read the other.")
