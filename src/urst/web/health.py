"""The health of layers: what is on disk of each, and what was measured."""

from collections.abc import Mapping
from typing import Any

from urst.kinds.kind import Kind
from urst.shot.document import Shot
from urst.shot.keys import layer_keys
from urst.store.holding import Holding
from urst.web.store import store


def first_gauges(shot: Shot, layer: Any) -> dict[str, float]:
    """Return a layer's gauges at the first frame, empty if that is not baked as the document now stands."""
    return store().read_gauges(layer_keys(shot)[layer.id], [shot.start]).get(shot.start, {})


def layer_health(shot: Shot, layer: Any, key: str, earlier: list[str], held: Mapping[str, Holding]) -> dict:
    """Return what is on disk of a layer under its key, or under an earlier one if it is stale; `held`: by key."""
    kind = shot.kind_of(layer)
    total = len(shot.frames()) if kind.moving else 1
    shown, state = key, "absent"
    done = _done(shot, kind, held[key])
    if done == total:
        state = "fresh"
    elif done:
        state = "partial"
    else:
        found = ((old, _done(shot, kind, held[old])) for old in earlier if old != key)
        stale = next((x for x in found if x[1]), None)
        if stale:
            (shown, done), state = stale, "stale"
    rows = _rows(shot, kind, held[shown]) if done else {}
    frames = sorted(f for f in rows if shot.start <= f <= shot.end)
    names = dict.fromkeys([*(g.name for g in kind.gauges), *([kind.chief] if kind.chief else [])])
    return {
        "id": layer.id,
        "name": layer.name,
        "kind": layer.kind,
        "key": shown,
        "wanted": key,
        "state": state,
        "done": done,
        "total": total,
        "moving": kind.moving,
        "representation": kind.representation,
        "reads": list(layer.reads),
        "coupled": [x.id for x, _, _ in shot.partners(layer)],
        "frames": frames,
        "chief": kind.chief,
        "fastest": kind.fastest,
        "bytes": held[shown].bytes if done else 0,
        "gauges": {n: [round(float(rows[f].get(n, 0.0)), 6) for f in frames] for n in names},
        "summary": "" if kind.moving or not rows else kind.summary(rows[shot.start]),
        "rows": {f: rows[f] for f in frames},
        "scales": [
            {
                "name": g.name,
                "label": g.label,
                "unit": g.unit,
                "factor": g.factor,
                "least": g.least,
                "most": g.most,
                "about": g.about,
            }
            for g in kind.gauges
            if not g.coupled or shot.partners(layer)
        ],
    }


def _rows(shot: Shot, kind: Kind, holding: Holding) -> dict[int, dict[str, float]]:
    return holding.frames if kind.moving else {shot.start: holding.still or {}}


def _done(shot: Shot, kind: Kind, holding: Holding) -> int:
    if holding.still is None:
        return 0
    if not kind.moving:
        return 1
    return sum(shot.start <= f <= shot.end for f in holding.frames)
