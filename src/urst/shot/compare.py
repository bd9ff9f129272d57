"""What differs between two states of a shot."""

from dataclasses import dataclass
from typing import Any

from urst.shot.document import Shot


@dataclass(frozen=True)
class Difference:
    """One setting that is not the same."""

    of: str
    """name of the layer or piece, empty for the shot itself"""
    layer: str
    """id of the layer, if it is one's"""
    path: str
    """within its settings, piece or shot; empty if the whole is there in one state only"""
    before: Any
    now: Any


def differences(before: Shot, now: Shot) -> list[Difference]:
    """Return the settings that differ, layer by layer, then pieces, then the shot's own."""
    found = []
    old, new = ({x.id: x for x in s.layers} for s in (before, now))
    for name in [*old, *(n for n in new if n not in old)]:
        title = (new.get(name) or old[name]).name
        a, b = (_flat(x[name]) if name in x else None for x in (old, new))
        found += _between(title, name, a, b)
    old, new = ({p.name: p for p in s.pieces} for s in (before, now))
    for name in [*old, *(n for n in new if n not in old)]:
        a, b = (_leaves(x[name].model_dump(mode="json")) if name in x else None for x in (old, new))
        found += _between(name, "", a, b)
    rest = (
        {k: v for k, v in s.model_dump(mode="json").items() if k not in ("layers", "pieces")} for s in (before, now)
    )
    return found + _between("", "", *map(_leaves, rest))


def _flat(layer: Any) -> dict[str, Any]:
    data = layer.model_dump(mode="json")
    return _leaves(data["settings"]) | {k: data[k] for k in ("name", "reads", "keeps", "start")}


def _leaves(data: Any, path: str = "") -> dict[str, Any]:
    """Values by dotted path; lists of plain values and curves are values."""
    if isinstance(data, dict) and not {"over", "points"} <= set(data):
        return {k: v for name, value in data.items() for k, v in _leaves(value, f"{path}{name}.").items()}
    if isinstance(data, list) and any(isinstance(x, dict) for x in data):
        return {k: v for n, value in enumerate(data) for k, v in _leaves(value, f"{path}{n}.").items()}
    return {path[:-1]: data}


def _between(of: str, layer: str, before: dict[str, Any] | None, now: dict[str, Any] | None) -> list[Difference]:
    if before is None or now is None:
        return [Difference(of, layer, "", before is not None, now is not None)]
    return [
        Difference(of, layer, path, before.get(path), now.get(path))
        for path in dict.fromkeys([*before, *now])
        if before.get(path) != now.get(path)
    ]
