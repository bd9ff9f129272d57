"""What the bench shows of a shot: the health of every layer, findings, forecast, runs."""

import os
from functools import lru_cache

from sqlalchemy import select
from sqlalchemy.orm import Session

from urst.db import runs, shots
from urst.db.tables import BakeRow, RevisionRow
from urst.errors import UrstError
from urst.shot.document import Shot, parse
from urst.shot.forecast import forecast
from urst.shot.keys import layer_keys
from urst.shot.plan import dependents
from urst.shot.preflight import disk as disk_check
from urst.shot.preflight import preflight, watch
from urst.store.store import Store

#: the gauge drawn in a band, by kind of layer
CHIEF = {"break": None, "fall": "moving_mass", "shed": "chips", "billow": "dust_mass"}

#: what a gauge means, where its label does not say it
ABOUT = {
    "dust_drift": "Dust the solver itself has made or lost so far, as a share of what was given off",
    "edge_share": "Dust at the domain's sides, as a share of the densest",
    "bond_load": "Greatest stress in a bond that holds, as a share of its strength",
}
#: name, unit, factor, least and greatest plausible value of the gauges shown
GAUGES = {
    "break": (
        ("fragments", "fragments", "", 1, None, None),
        ("smallest", "smallest", "L", 1e3, None, None),
        ("largest", "largest", "L", 1e3, None, None),
        ("volume_kept", "volume kept", "%", 100, 99.99, 100.01),
        ("shared_area", "shared area", "m2", 1, None, None),
    ),
    "fall": (
        ("moving", "moving", "", 1, None, None),
        ("kinetic_energy", "kinetic energy", "kJ", 1e-3, None, None),
        ("top_speed", "fastest", "m/s", 1, None, None),
        ("deepest_overlap", "deepest overlap", "mm", 1e3, None, 30),
        ("bonds_left", "bonds left", "%", 100, None, None),
        ("bond_load", "most loaded bond", "%", 100, None, None),
        ("largest_piece", "largest piece", "t", 1e-3, None, None),
    ),
    "shed": (
        ("chips", "chips", "", 1, None, None),
        ("puffs", "dust puffs", "", 1, None, None),
        ("top_speed", "fastest", "m/s", 1, None, None),
        ("deepest_overlap", "deepest overlap", "mm", 1e3, None, None),
    ),
    "billow": (
        ("dust_mass", "dust in the air", "kg", 1, None, None),
        ("dust_given", "dust given off", "kg", 1, None, None),
        ("dust_drift", "dust drift", "%", 100, -15, 15),
        ("densest", "densest", "kg/m3", 1, None, None),
        ("edge_share", "dust at the side", "%", 100, None, 4),
        ("top_speed", "fastest air", "m/s", 1, None, None),
        ("divergence_left", "divergence left", "%", 100, None, 0.1),
        ("pressure_iterations", "pressure rounds", "", 1, None, 40),
        ("substeps", "substeps", "", 1, None, None),
    ),
}  # fmt: skip


def store() -> Store:
    """The store of this application."""
    return Store(os.environ["URST_STORE"])


def _earlier_keys(db: Session, shot_id: str, revision: int) -> dict[str, list[str]]:
    """Keys each layer had in earlier and undone revisions, the latest first."""
    found: dict[str, list[str]] = {}
    query = select(RevisionRow).where(RevisionRow.shot_id == shot_id, RevisionRow.number != revision)
    for row in db.scalars(query.order_by(RevisionRow.number.desc()).limit(24)):
        try:
            keys = _keys_of(shot_id, row.number, row.created, row.document)
        except UrstError:
            continue
        for layer_id, key in keys.items():
            found.setdefault(layer_id, []).append(key)
    return found


_KEY_MEMORY: dict = {}


def _keys_of(shot_id, number, created, document):
    tag = (shot_id, number, created)
    if tag not in _KEY_MEMORY:
        if len(_KEY_MEMORY) > 2000:
            _KEY_MEMORY.clear()
        _KEY_MEMORY[tag] = layer_keys(parse(document))
    return _KEY_MEMORY[tag]


@lru_cache(maxsize=64)
def _preflight(document: str) -> tuple:
    return tuple(preflight(Shot.model_validate_json(document)))


def findings(shot: Shot, gauges: dict) -> list:
    """Preflight findings, then what the gauges show."""
    found = list(_preflight(shot.model_dump_json()))
    if not any(f.grave for f in found):
        found += disk_check(shot, store().free_bytes())
    return found + watch(shot, gauges)


def summary(db: Session, kept: shots.Kept) -> dict:
    """Everything the bench needs to draw its strata, gauges and findings."""
    shot, disk = kept.shot, store()
    keys = layer_keys(shot)
    earlier = _earlier_keys(db, kept.id, kept.revision)
    open_runs = runs.open_of(db, kept.id)
    last = runs.last_of(db, kept.id)
    rates = {row.key: row.seconds / row.frames for row in db.scalars(select(BakeRow)) if row.frames}
    layers, gauges_now = [], {}
    for layer in shot.layers:
        key = keys[layer.id]
        entry = layer_health(shot, layer, key, earlier.get(layer.id, []), disk)
        if entry["state"] in ("fresh", "partial"):
            gauges_now[layer.id] = entry.pop("rows")
        entry.pop("rows", None)
        cost = forecast(shot, layer.id, rates.get(key) or rates.get(entry["key"]))
        entry["forecast"] = {
            "unit": cost.unit, "count": cost.count, "memory": cost.memory, "disk": cost.disk, "seconds": cost.seconds
        }  # fmt: skip
        entry["after"] = dependents(shot, layer.id)
        layers.append(entry)
    found = findings(shot, gauges_now)
    return {
        "id": kept.id,
        "name": shot.name,
        "revision": kept.revision,
        "undo": kept.can_undo,
        "redo": kept.can_redo,
        "start": shot.start,
        "end": shot.end,
        "rate": shot.rate,
        "cues": [c.model_dump() for c in shot.cues],
        "layers": layers,
        "findings": [
            {"title": f.title, "why": f.why, "fix": f.fix if f.changes else "", "layer": f.layer, "frame": f.frame,
             "grave": f.grave, "number": n}
            for n, f in enumerate(found)
        ],
        "runs": [_run(r) for r in open_runs],
        "last": _run(last) if last else None,
    }  # fmt: skip


def _run(row) -> dict:
    return {"id": row.id, "kind": row.kind, "state": row.state, "layers": row.layers, "progress": row.progress,
            "message": row.message, "stopping": row.stop_requested}  # fmt: skip


def first_gauges(shot: Shot, layer) -> dict[str, float]:
    """Return a layer's gauges at the first frame, empty if that is not baked as the document now stands."""
    return store().read_gauges(layer_keys(shot)[layer.id], [shot.start]).get(shot.start, {})


def layer_health(shot: Shot, layer, key: str, earlier: list[str], disk: Store) -> dict:
    """Return what is on disk of a layer under its key, or under an earlier one if it is stale."""
    total = 1 if layer.kind == "break" else len(shot.frames())
    shown, state = key, "absent"
    done = _done(shot, layer, key, disk)
    if done == total:
        state = "fresh"
    elif done:
        state = "partial"
    else:
        for old in earlier:
            if old != key and _done(shot, layer, old, disk):
                shown, state = old, "stale"
                done = _done(shot, layer, old, disk)
                break
    rows = {}
    if layer.kind == "break":
        if done:
            rows = {shot.start: disk.read_static(shown)[1].get("gauges", {})}
    elif done:
        rows = disk.read_gauges(shown)
    frames = sorted(f for f in rows if shot.start <= f <= shot.end)
    names = [g[0] for g in GAUGES[layer.kind]]
    chief = CHIEF[layer.kind]
    wanted = dict.fromkeys([*names, *([chief] if chief else [])])
    return {
        "id": layer.id, "name": layer.name, "kind": layer.kind, "key": shown, "state": state, "done": done,
        "total": total, "moving": layer.kind != "break", "reads": [x.layer for x in layer.reads], "frames": frames,
        "chief": chief, "bytes": disk.usage(shown).bytes if done else 0,
        "gauges": {n: [round(float(rows[f].get(n, 0.0)), 6) for f in frames] for n in wanted},
        "rows": {f: rows[f] for f in frames},
        "scales": [
            dict(zip(("name", "label", "unit", "factor", "least", "most"), g)) | {"about": ABOUT.get(g[0], "")}
            for g in GAUGES[layer.kind]
        ],
    }  # fmt: skip


def _done(shot, layer, key, disk):
    if not disk.has_static(key):
        return 0
    if layer.kind == "break":
        return 1
    return sum(shot.start <= f <= shot.end for f in disk.frames(key))
