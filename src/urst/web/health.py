"""The health of layers: what is on disk of each, and what was measured."""

from urst.kinds.kind import Kind
from urst.shot.document import Shot
from urst.shot.keys import layer_keys
from urst.store.store import Store
from urst.web.store import store


def first_gauges(shot: Shot, layer) -> dict[str, float]:
    """Return a layer's gauges at the first frame, empty if that is not baked as the document now stands."""
    return store().read_gauges(layer_keys(shot)[layer.id], [shot.start]).get(shot.start, {})


def layer_health(shot: Shot, layer, key: str, earlier: list[str], disk: Store) -> dict:
    """Return what is on disk of a layer under its key, or under an earlier one if it is stale."""
    kind = shot.kind_of(layer)
    total = len(shot.frames()) if kind.moving else 1
    shown, state = key, "absent"
    done = _done(shot, kind, key, disk)
    if done == total:
        state = "fresh"
    elif done:
        state = "partial"
    else:
        found = ((old, _done(shot, kind, old, disk)) for old in earlier if old != key)
        stale = next((x for x in found if x[1]), None)
        if stale:
            (shown, done), state = stale, "stale"
    rows = _rows(shot, kind, shown, disk) if done else {}
    frames = sorted(f for f in rows if shot.start <= f <= shot.end)
    names = dict.fromkeys([*(g.name for g in kind.gauges), *([kind.chief] if kind.chief else [])])
    return {
        "id": layer.id, "name": layer.name, "kind": layer.kind, "key": shown, "wanted": key, "state": state, "done": done,
        "total": total, "moving": kind.moving, "representation": kind.representation, "reads": list(layer.reads),
        "coupled": [x.id for x, _, _ in shot.partners(layer)], "frames": frames, "chief": kind.chief,
        "bytes": disk.usage(shown).bytes if done else 0,
        "gauges": {n: [round(float(rows[f].get(n, 0.0)), 6) for f in frames] for n in names},
        "summary": "" if kind.moving or not rows else kind.summary(rows[shot.start]),
        "rows": {f: rows[f] for f in frames},
        "scales": [
            {"name": g.name, "label": g.label, "unit": g.unit, "factor": g.factor, "least": g.least, "most": g.most,
             "about": g.about}
            for g in kind.gauges if g.name != "momentum_lost" or shot.partners(layer)
        ],
    }  # fmt: skip


#: gauges of frames by the folder of their key: what is under a key never changes, so each frame is read once
_GAUGES: dict[str, dict[int, dict[str, float]]] = {}
#: keys that are remembered
_MOST_KEYS = 400


def _rows(shot, kind: Kind, key, disk):
    if kind.moving:
        place, there = str(disk.folder(key)), disk.frames(key)
        if place not in _GAUGES and len(_GAUGES) >= _MOST_KEYS:
            _GAUGES.pop(next(iter(_GAUGES)))
        known = _GAUGES.setdefault(place, {})
        known |= disk.read_gauges(key, [f for f in there if f not in known])
        return {f: known[f] for f in there if f in known}
    return {shot.start: disk.read_static(key)[1].get("gauges", {})}


def _done(shot, kind: Kind, key, disk):
    if not disk.has_static(key):
        return 0
    if not kind.moving:
        return 1
    return sum(shot.start <= f <= shot.end for f in disk.frames(key))
