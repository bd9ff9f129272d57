"""Changes of the list of layers: each returns the shot as it then is."""

import re
from collections.abc import Callable

from urst.kinds import registry
from urst.shot.document import Shot, parse
from urst.shot.preflight import mended

#: a new layer's own findings are mended as long as it stays this small [units]
_MOST_UNITS = 3_000_000
_MOST_MENDS = 3


def added(shot: Shot, kind_name: str) -> tuple[Shot, str]:
    """Add a layer of a kind at the end, with links and starting values from the set.

    Returns
    -------
    (shot, layer id)

    Raises
    ------
    BadValue
        If there is no such kind, or the set has nothing for it.
    """
    kind = registry.named(kind_name)
    reads = kind.links(shot)
    layer_id, name = _free_names(shot, kind.title)
    layer = {
        "id": layer_id,
        "name": name,
        "kind": kind.name,
        "reads": [x.id for x in reads],
        "settings": kind.proposal(shot, reads),
    }
    data = shot.model_dump(mode="json")
    data["layers"].append(layer)
    made = parse(data)
    for _ in range(_MOST_MENDS):
        finding = next((f for f in kind.findings(made, made.layer(layer_id)) if f.changes), None)
        better = mended(made, finding) if finding else made
        if better == made or kind.count(better, better.layer(layer_id)) > _MOST_UNITS:
            break
        made = better
    return made, layer_id


def copied(shot: Shot, layer_id: str) -> tuple[Shot, str]:
    """Put a copy of a layer after it: its settings, links and named values; it is coupled with nothing.

    Returns
    -------
    (shot, id of the copy)

    Raises
    ------
    BadValue
        If there is no such layer, or the set has nothing more for a second one.
    """
    layer = shot.layer(layer_id)
    new_id, name = _free_names(shot, layer.name)
    data = shot.model_dump(mode="json")
    at = _place(shot, layer_id)
    mine = data["layers"][at]
    data["layers"].insert(
        at + 1, mine | {"id": new_id, "name": name, "settings": shot.kind_of(layer).copied(shot, layer)}
    )
    data["uses"] += [u | {"owner": new_id} for u in data["uses"] if u["owner"] == layer_id]
    return parse(data), new_id


def removed(shot: Shot, layer_id: str) -> Shot:
    """Take a layer out, with the links, couplings and starts that name it.

    Raises
    ------
    BadValue
        If there is no such layer.
    """
    data = shot.model_dump(mode="json")
    del data["layers"][_place(shot, layer_id)]
    for layer in data["layers"]:
        layer["reads"] = [x for x in layer["reads"] if x != layer_id]
        if layer["start"] and layer["start"]["of"] == layer_id:
            layer["start"] = None
    data["couplings"] = [c for c in data["couplings"] if layer_id not in (c["first"], c["second"])]
    data["uses"] = [u for u in data["uses"] if u["owner"] != layer_id]
    data["accepted"] = [a for a in data["accepted"] if a["layer"] != layer_id]
    return parse(data)


def moved(shot: Shot, layer_id: str, to: int) -> Shot:
    """Put a layer at another place in the list; places beyond it count as its ends. No result depends on the order.

    Raises
    ------
    BadValue
        If there is no such layer.
    """
    data = shot.model_dump(mode="json")
    layer = data["layers"].pop(_place(shot, layer_id))
    data["layers"].insert(min(max(0, to), len(data["layers"])), layer)
    return parse(data)


def linked(shot: Shot, layer_id: str, other: str, on: bool) -> Shot:
    """Let a layer read another, or no longer.

    Raises
    ------
    BadValue
        If there are no such layers, or the one cannot read the other.
    """
    data = shot.model_dump(mode="json")
    layer = data["layers"][_place(shot, layer_id)]
    rest = [x for x in layer["reads"] if x != shot.layer(other).id]
    layer["reads"] = [*rest, other] if on else rest
    return parse(data)


def _place(shot: Shot, layer_id: str) -> int:
    return shot.layers.index(shot.layer(layer_id))


def _free_names(shot: Shot, wanted: str) -> tuple[str, str]:
    """An id and a name that no layer has: 'Fall', then 'Fall 2', 'Fall 3'."""
    stem = re.sub(r" \d+$", "", wanted)[:70]
    name = _first_free(stem, lambda n: f"{stem} {n}", {x.name for x in shot.layers})
    slug = re.sub(r"[^a-z0-9]+", "-", stem.lower()).strip("-")[:30]
    slug = slug if re.match(r"[a-z]", slug) else "layer"
    return _first_free(slug, lambda n: f"{slug}-{n}", {x.id for x in shot.layers}), name


def _first_free(first: str, nth: Callable[[int], str], taken: set[str]) -> str:
    if first not in taken:
        return first
    return next(n for i in range(2, 10_000) if (n := nth(i)) not in taken)


def readable(shot: Shot, layer_id: str) -> list:
    """Return the layers that a layer could read, in the order of the list.

    Raises
    ------
    BadValue
        If there is no such layer.
    """
    layer = shot.layer(layer_id)
    reads = set(shot.kind_of(layer).reads)
    return [x for x in shot.layers if x.id != layer_id and reads & set(shot.kind_of(x).offers)]
