"""What is reckoned of a shot is remembered by the shot, as much as fits: large shots weigh more than small ones."""

from typing import Any

from urst.core.remembered import remembered

#: pieces and layers of all the shots that each function remembers
_MOST = 100_000
#: what a shot weighs beside its pieces and layers
_ALONE = 20


def weight(shot: Any) -> int:
    """Return what a shot weighs in memory, in pieces."""
    return _ALONE + len(shot.pieces) + len(shot.layers)


by_shot = remembered(_MOST, lambda shot, _: weight(shot))
