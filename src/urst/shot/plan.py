"""The plan of a bake: which layers, in which order, under which keys."""

from dataclasses import dataclass

from urst.errors import BadValue
from urst.shot.document import Shot
from urst.shot.keys import layer_keys

#: sets of kinds that can be stepped together; the bake holds what steps each
TOGETHER: set[frozenset[str]] = set()


@dataclass(frozen=True)
class Step:
    """Layers that are baked together: one, or a group that acts both ways."""

    layers: tuple[str, ...]
    keys: tuple[str, ...]


def groups(shot: Shot) -> list[tuple[str, ...]]:
    """Layer ids in the order of work, those joined by two-way links as one group."""
    group = {layer.id: layer.id for layer in shot.layers}

    def root(x):
        while group[x] != x:
            x = group[x]
        return x

    for layer in shot.layers:
        for link in layer.reads:
            if link.both_ways:
                group[root(link.layer)] = root(layer.id)
    members: dict[str, list[str]] = {}
    for layer in shot.layers:
        members.setdefault(root(layer.id), []).append(layer.id)
    by_id = {layer.id: layer for layer in shot.layers}
    ordered, placed = [], set()

    def place(r):
        if r in placed:
            return
        placed.add(r)
        for member in members[r]:
            for link in by_id[member].reads:
                if root(link.layer) != r:
                    place(root(link.layer))
        ordered.append(tuple(members[r]))

    for layer in shot.layers:
        place(root(layer.id))
    return ordered


def plan(shot: Shot, wanted: list[str] | None = None) -> list[Step]:
    """Steps that bake the wanted layers and all they read, in order; every layer when none are named.

    Raises
    ------
    BadValue
        If a wanted layer is not in the shot, or a group has no solver that steps it together.
    """
    keys = layer_keys(shot)
    ordered = groups(shot)
    need = set(keys) if wanted is None else set()
    for layer_id in wanted or []:
        stack = [shot.layer(layer_id).id]
        while stack:
            here = stack.pop()
            if here not in need:
                need.add(here)
                stack += [link.layer for link in shot.layer(here).reads]
    steps = []
    for group in ordered:
        if not need.intersection(group):
            continue
        if len(group) > 1 and frozenset(shot.layer(x).kind for x in group) not in TOGETHER:
            names = " and ".join(f"'{shot.layer(x).name}'" for x in group)
            kinds = " and ".join(sorted({shot.layer(x).kind for x in group}))
            raise BadValue(
                f"{names} act on each other, but {kinds} cannot be stepped together yet: let one only read the other."
            )
        steps.append(Step(group, tuple(keys[x] for x in group)))
    return steps


def dependents(shot: Shot, layer_id: str) -> list[str]:
    """Layers that read this one, directly or through others, in the order of work."""
    found, grew = {layer_id}, True
    while grew:
        grew = False
        for layer in shot.layers:
            if layer.id not in found and any(link.layer in found for link in layer.reads):
                found.add(layer.id)
                grew = True
    return [x for group in groups(shot) for x in group if x in found and x != layer_id]
