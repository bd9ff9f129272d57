"""What the bench shows of a shot: the health of every layer, findings, forecast, runs."""

import hashlib
import json
import time
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from urst.core.checks.findings import Finding
from urst.db import runs, shots
from urst.db.engine import session
from urst.db.tables import BakeRow, RevisionRow, RunRow
from urst.errors import UrstError
from urst.shot.accepted import reason, without_numbers
from urst.shot.by_shot import by_shot
from urst.shot.document import Shot, parse
from urst.shot.forecast import forecast
from urst.shot.graph import dependents, group_of
from urst.shot.keys import layer_keys
from urst.shot.preflight import disk as disk_check
from urst.shot.preflight import memory as memory_check
from urst.shot.preflight import preflight, watch
from urst.shot.quality import of_quality
from urst.store import machine
from urst.web.health import layer_health
from urst.web.holdings import holdings
from urst.web.single_flight import SingleFlight
from urst.web.store import store

#: a folder that has changed so lately may change again without its time telling so [ns]
_YOUNG = 1_000_000_000
#: earlier revisions that are looked through for results
_LOOKED_AT = 24


def _earlier_keys(db: Session, shot_id: str, revision: int, quality: str) -> dict[str, list[str]]:
    """Keys each layer had in earlier and undone revisions at a quality, the latest first."""
    found: dict[str, list[str]] = {}
    query = select(RevisionRow).where(RevisionRow.shot_id == shot_id, RevisionRow.number != revision)
    for row in db.scalars(query.order_by(RevisionRow.number.desc()).limit(_LOOKED_AT)):
        try:
            keys = _keys_of(shot_id, row.number, row.created, row.document, quality)
        except UrstError:
            continue
        for layer_id, key in keys.items():
            found.setdefault(layer_id, []).append(key)
    return found


def revision_before(db: Session, kept: shots.Kept, quality: str) -> int | None:
    """Return the latest earlier revision that has something on disk which the document no longer asks for."""
    now, disk = layer_keys(of_quality(kept.shot, quality)), store()
    query = select(RevisionRow).where(RevisionRow.shot_id == kept.id, RevisionRow.number < kept.revision)
    for row in db.scalars(query.order_by(RevisionRow.number.desc()).limit(_LOOKED_AT)):
        try:
            keys = _keys_of(kept.id, row.number, row.created, row.document, quality)
        except UrstError:
            continue
        if any(key not in now.values() and disk.frames(key) for key in keys.values()):
            return row.number
    return None


_KEY_MEMORY: dict = {}


def _keys_of(shot_id: str, number: int, created: Any, document: dict[str, Any], quality: str) -> dict[str, str]:
    tag = (shot_id, number, created, quality)
    if tag not in _KEY_MEMORY:
        if len(_KEY_MEMORY) > 2000:
            _KEY_MEMORY.clear()
        _KEY_MEMORY[tag] = layer_keys(of_quality(parse(document), quality))
    return _KEY_MEMORY[tag]


@by_shot
def _preflight(shot: Shot) -> tuple:
    return tuple(preflight(shot))


def findings(shot: Shot, gauges: dict) -> list:
    """Preflight findings, then what the gauges show."""
    found = list(_preflight(shot.unnamed()))
    if not any(f.grave for f in found):
        found += disk_check(shot, store().free_bytes()) + memory_check(shot, machine.memory()[0])
    return found + watch(shot, gauges)


def name_of(finding: Finding) -> str:
    """Return what tells a finding from others, and from the same with another mend."""
    current = json.dumps([finding.layer, finding.title, finding.changes], default=str)
    return hashlib.sha1(current.encode(), usedforsecurity=False).hexdigest()[:16]


_once, _shared = SingleFlight(), SingleFlight()


def current(shot_id: str, quality: str) -> bytes:
    """Return the summary of a shot as JSON; one that nothing has changed since is told again."""
    return _shared.shared((shot_id, quality), lambda: _current(shot_id, quality))


def _current(shot_id: str, quality: str) -> bytes:
    with session() as db:
        return _current_anew(db, shot_id, quality)


def _current_anew(db: Session, shot_id: str, quality: str) -> bytes:
    stood = runs.stamp(db, shot_id)
    keys = _all_keys(db, shot_id, stood[:2], quality)
    disk, now = store(), time.time_ns()
    changed = tuple(disk.changed(key) for key in keys)
    stamp = stood, changed, disk.free_bytes() // 10**9
    settled = all(now - t > _YOUNG for t in changed)

    def make() -> bytes:
        return json.dumps(summary(db, shots.get(db, shot_id), quality)).encode()

    return _once.get((shot_id, quality), stamp if settled else None, make)


def _all_keys(db: Session, shot_id: str, stands: tuple[int, str], quality: str) -> list[str]:
    """Keys of a shot's layers now and in earlier revisions."""
    tag = (shot_id, stands, "all", quality)
    if tag not in _KEY_MEMORY:
        now = layer_keys(of_quality(shots.get(db, shot_id).shot, quality))
        earlier = _earlier_keys(db, shot_id, stands[0], quality)
        _KEY_MEMORY[tag] = sorted({*now.values(), *(k for x in earlier.values() for k in x)})
    return _KEY_MEMORY[tag]


def summary(db: Session, kept: shots.Kept, quality: str = "shot") -> dict:
    """Everything the bench needs to draw its strata, gauges and findings, of the results of one quality."""
    shot, disk = of_quality(kept.shot, quality), store()
    keys = layer_keys(shot)
    earlier = _earlier_keys(db, kept.id, kept.revision, quality)
    open_runs = runs.open_of(db, kept.id)
    last = runs.last_of(db, kept.id)
    rates = {row.key: row.seconds / row.frames for row in db.scalars(select(BakeRow)) if row.frames}
    every = [*keys.values(), *(key for x in earlier.values() for key in x)]
    held, layers, gauges_now = holdings(db, disk, every), [], {}
    for layer in shot.layers:
        key = keys[layer.id]
        entry = layer_health(shot, layer, key, earlier.get(layer.id, []), held)
        if entry["state"] in ("fresh", "partial"):
            gauges_now[layer.id] = entry.pop("rows")
        entry.pop("rows", None)
        cost = forecast(shot, layer.id, rates.get(key) or rates.get(entry["key"]))
        entry["forecast"] = {
            "unit": cost.unit,
            "count": cost.count,
            "memory": cost.memory,
            "disk": cost.disk,
            "seconds": cost.seconds,
        }
        entry["after"] = dependents(shot, layer.id)
        entry["together"] = [x for x in group_of(shot, layer.id) if x != layer.id]
        layers.append(entry)
    found = findings(kept.shot, gauges_now)
    return {
        "id": kept.id,
        "name": shot.name,
        "revision": kept.revision,
        "quality": quality,
        "undo": kept.can_undo,
        "redo": kept.can_redo,
        "start": shot.start,
        "end": shot.end,
        "rate": shot.rate,
        "cues": [c.model_dump() for c in shot.cues],
        "layers": layers,
        "findings": [
            {
                "title": f.title,
                "why": f.why,
                "fix": f.fix if f.changes else "",
                "layer": f.layer,
                "frame": f.frame,
                "grave": f.grave,
                "name": name_of(f),
                "known": without_numbers(f.title),
                "accepted": reason(kept.shot.accepted, f),
            }
            for f in found
        ],
        "runs": [_run(r) for r in open_runs],
        "last": _run(last) if last else None,
    }


def _run(row: RunRow) -> dict:
    return {
        "id": row.id,
        "kind": row.kind,
        "state": row.state,
        "layers": row.layers,
        "progress": row.progress,
        "message": row.message,
        "stopping": row.stop_requested,
    }
