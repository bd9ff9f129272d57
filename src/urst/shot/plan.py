"""The plan of a bake: which layers, in which order, under which keys."""

from dataclasses import dataclass

from urst.shot.document import Shot
from urst.shot.graph import groups, needs
from urst.shot.keys import layer_keys


@dataclass(frozen=True)
class Step:
    """Layers that are baked together: one, or a group whose members act on each other."""

    layers: tuple[str, ...]
    keys: tuple[str, ...]


def plan(shot: Shot, wanted: list[str] | None = None) -> list[Step]:
    """Steps that bake the wanted layers and all they need, in order; every layer when none are named.

    Raises
    ------
    BadValue
        If a wanted layer is not in the shot.
    """
    keys, need = layer_keys(shot), needs(shot)
    asked = set(keys) if wanted is None else set()
    stack = [shot.layer(x).id for x in wanted or []]
    while stack:
        here = stack.pop()
        if here not in asked:
            asked.add(here)
            stack += need[here]
    return [Step(g, tuple(keys[x] for x in g)) for g in groups(shot) if asked.intersection(g)]
