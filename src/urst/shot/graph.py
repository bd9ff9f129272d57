"""Which layers need which, and which must be stepped together."""

from graphlib import TopologicalSorter
from typing import Any

import numpy as np
from scipy.sparse import csr_array
from scipy.sparse.csgraph import connected_components

from urst.shot.by_shot import by_shot


def needs(shot: Any) -> dict[str, set[str]]:
    """Return for each layer those it cannot be baked without: what it reads, begins from, and what acts on it."""
    found = {}
    for layer in shot.layers:
        acting = {x.id for x, on_it, _ in shot.partners(layer) if on_it > 0.0}
        start = {layer.start.of} if layer.start and not layer.start.is_key() else set()
        found[layer.id] = {*layer.reads, *acting, *start}
    return found


@by_shot
def groups(shot: Any) -> tuple[tuple[str, ...], ...]:
    """Return layer ids in the order of work; layers that need each other, and what is caught between them, as one
    group.

    The strongly connected parts of what needs what. Within a group, what is fed to another comes before it.
    """
    need = needs(shot)
    if not need:
        return ()
    index = {name: n for n, name in enumerate(need)}
    edges = np.array([(index[a], index[b]) for a in need for b in sorted(need[a])], int).reshape(-1, 2)
    matrix = csr_array((np.ones(len(edges)), (edges[:, 0], edges[:, 1])), shape=(len(need), len(need)))
    label = connected_components(matrix, directed=True, connection="strong")[1].tolist()
    before: dict[int, set[int]] = {}
    for a in need:
        mine = label[index[a]]
        before.setdefault(mine, set()).update(label[index[b]] for b in need[a] if label[index[b]] != mine)
    # by id, so that the order of the list changes no result
    within = _ordered({x.id: _fed_by(shot, x) for x in sorted(shot.layers, key=lambda x: x.id)})
    return tuple(tuple(a for a in within if label[index[a]] == part) for part in _ordered(before))


def _fed_by(shot: Any, layer: Any) -> set[str]:
    """The layers that a layer takes something of as they move; what is only sampled, such as a gas, may come later."""
    reads = shot.kind_of(layer).reads
    return {x.id for offer in reads for x in shot.takes(layer, offer) if not offer.sampled}


def _ordered(before: dict[Any, set[Any]]) -> list[Any]:
    """Topological order that depends on nothing but the order of what is given."""
    return list(TopologicalSorter({k: sorted(v, key=list(before).index) for k, v in before.items()}).static_order())


def group_of(shot: Any, layer_id: str) -> tuple[str, ...]:
    """Return the group a layer is baked in, itself included."""
    return next(group for group in groups(shot) if layer_id in group)


def dependents(shot: Any, layer_id: str) -> list[str]:
    """Return the layers that need this one, directly or through others, in the order of work."""
    need, found, grew = needs(shot), {layer_id}, True
    while grew:
        grew = False
        for name, others in need.items():
            if name not in found and others & found:
                found.add(name)
                grew = True
    return [x for group in groups(shot) for x in group if x in found and x != layer_id]
