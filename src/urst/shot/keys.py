"""Content keys: the name under which a layer's result is found again.

A key is the hash of all that the result depends on, and of nothing else: renaming a layer or moving the last
frame changes no key.
"""

import hashlib
import json

from urst.core.debris import settings as debris
from urst.core.fracture import settings as fracture
from urst.core.gas import settings as gas
from urst.core.rigid import settings as rigid
from urst.shot.document import SetPiece, Shot

VERSIONS = {"break": fracture.VERSION, "fall": rigid.VERSION, "shed": debris.VERSION, "billow": gas.VERSION}


def _digest(content) -> str:
    text = json.dumps(content, sort_keys=True, separators=(",", ":"), allow_nan=False)
    return hashlib.blake2b(text.encode(), digest_size=20).hexdigest()


def _piece(piece: SetPiece) -> dict:
    content = piece.model_dump(mode="json", exclude={"material", "density", "friction", "restitution"})
    return content | {"bulk": piece.bulk()}


def layer_keys(shot: Shot) -> dict[str, str]:
    """Return the content key of every layer of the shot, by layer id."""
    by_id = {layer.id: layer for layer in shot.layers}
    keys: dict[str, str] = {}

    def key(layer_id: str) -> str:
        if layer_id not in keys:
            layer = by_id[layer_id]
            content = {
                "kind": layer.kind,
                "version": VERSIONS[layer.kind],
                "settings": layer.settings.model_dump(mode="json"),
                "reads": [
                    [key(link.layer), link.both_ways, link.exaggeration]
                    for link in sorted(layer.reads, key=lambda link: link.layer)
                ],
            }
            if layer.kind == "break":
                content["pieces"] = [_piece(p) for p in shot.pieces if p.name in layer.settings.pieces]
            else:
                content["clock"] = [shot.start, shot.rate, list(shot.gravity)]
            if layer.kind == "fall":
                content["pieces"] = [_piece(p) for p in shot.pieces]
            keys[layer_id] = _digest(content)
        return keys[layer_id]

    for layer in shot.layers:
        key(layer.id)
    return keys
