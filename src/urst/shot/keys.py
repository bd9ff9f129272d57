"""Content keys: the name under which a layer's result is found again.

A key is the hash of all that the result depends on, and of nothing else: renaming a layer or a piece, or moving the
last frame, changes no key. Layers that act on each other share one hash, so that a change of any changes all.
"""

import hashlib
import json
from typing import Any

from urst.shot.by_shot import by_shot
from urst.shot.couplings import Coupling
from urst.shot.document import Shot
from urst.shot.graph import groups


def digest(content: list[Any] | dict[str, Any]) -> str:
    """Return the content key of something that JSON can hold."""
    text = json.dumps(content, sort_keys=True, separators=(",", ":"), allow_nan=False)
    return hashlib.blake2b(text.encode(), digest_size=20).hexdigest()


def layer_keys(shot: Shot) -> dict[str, str]:
    """Return the content key of every layer of the shot, by layer id."""
    return dict(_layer_keys(shot))


@by_shot
def _layer_keys(shot: Shot) -> dict[str, str]:
    keys: dict[str, str] = {}
    for group in groups(shot):
        members = [shot.layer(x) for x in group]
        own = {x.id: _own(shot, x, keys) for x in members}
        if len(members) == 1:
            keys[group[0]] = digest(own[group[0]])
            continue
        # names do not count, so members are told apart by what they are
        order = sorted(group, key=lambda x: (digest(own[x]), group.index(x)))
        place = {x: n for n, x in enumerate(order)}
        together = {
            "members": [own[x] for x in order],
            "reads": [sorted(place[r] for r in shot.layer(x).reads if r in place) for x in order],
            "couplings": sorted(_coupling(c, place) for c in shot.couplings if {c.first, c.second} <= set(place)),
        }
        whole = digest(together)
        for x in group:
            keys[x] = digest([whole, place[x]])
    return keys


def _own(shot: Shot, layer: Any, keys: dict[str, str]) -> dict[str, Any]:
    """What a layer depends on, but for the members of its group, which have no keys yet."""
    kind = shot.kind_of(layer)
    acting = {x.id: on_it for x, on_it, _ in shot.partners(layer) if on_it > 0.0}
    content = kind.content(shot, layer) | {
        "kind": kind.name,
        "version": kind.version,
        "keeps": sorted(layer.keeps),
        "reads": [[keys[name], acting.get(name)] for name in sorted({*layer.reads, *acting}) if name in keys],
    }
    known = [[o.name, shot.facts(x, o).content()] for o in kind.reads for x in shot.takes(layer, o)]
    content["facts"] = [[name, facts] for name, facts in known if facts is not None]
    if layer.start:
        of = layer.start.of if layer.start.is_key() else keys.get(layer.start.of)
        content["start"] = [of, layer.start.frame]
    return content


def _coupling(coupling: Coupling, place: dict[str, int]) -> list[float]:
    first, second, forth, back = place[coupling.first], place[coupling.second], coupling.forth, coupling.back
    return [first, second, forth, back] if first < second else [second, first, back, forth]
