"""The list of shots, from the index: what has not changed since it was shown last is not looked at again."""

import logging
import time
from dataclasses import dataclass
from typing import Any

from markupsafe import Markup
from sqlalchemy import select
from sqlalchemy.orm import Session

from urst.db import runs, shots
from urst.db.engine import session
from urst.db.tables import RunRow
from urst.errors import UrstError
from urst.shot.document import parse
from urst.shot.keys import layer_keys
from urst.store.holding import Holding, look
from urst.store.store import Store
from urst.web.single_flight import SingleFlight
from urst.web.templates import filled

log = logging.getLogger("urst.web")

#: a folder that has changed so lately may change again without its time telling so [ns]
_YOUNG = 1_000_000_000
#: revisions and folders that are remembered
_REMEMBERED = 20_000
_once, _shared = SingleFlight(), SingleFlight()


@dataclass(frozen=True)
class _Layer:
    name: str
    kind: str
    key: str
    frames: tuple[int, int] | None
    """first and last, None if it has no frames"""


@dataclass(frozen=True)
class _Shot:
    """What a card tells of one revision of a shot, whatever is baked of it."""

    name: str
    note: str = ""
    start: int = 0
    end: int = 0
    layers: tuple[_Layer, ...] = ()
    fault: str = ""


def listed(disk: Store) -> Markup:
    """Return the cards of all shots, the latest changed first."""
    return _shared.shared("cards", lambda: _listed(disk))


def _listed(disk: Store) -> Markup:
    with session() as db:
        rows = [(x.id, _known(db, x), x.mark) for x in shots.stands(db)]
        states: dict[str, set[str]] = {}
        for shot_id, state in db.execute(select(RunRow.shot_id, RunRow.state).where(RunRow.state.in_(runs.OPEN))):
            states.setdefault(shot_id, set()).add(state)
    changed = {x.key: disk.changed(x.key) for _, shot, _ in rows for x in shot.layers}
    busy = {shot_id: "baking" if "running" in x else "waits its turn" for shot_id, x in states.items()}
    settled = all(time.time_ns() - t > _YOUNG for t in changed.values())
    stamp = tuple((shot_id, mark, busy.get(shot_id, "")) for shot_id, _, mark in rows), tuple(changed.items())

    def make() -> Markup:
        return filled("cards.html", cards=[_card(disk, i, shot, busy.get(i, ""), changed) for i, shot, _ in rows])

    return _once.get("cards", stamp if settled else None, make)


def know(shot_id: str) -> None:
    """Read a shot's card before the list is asked for."""
    with session() as db:
        _known(db, shots.stand(db, shot_id))


_revisions: dict[shots.Stand, "_Shot"] = {}


def _known(db: Session, stand: shots.Stand) -> _Shot:
    """What a card tells of a shot as it stands, which is read once."""
    if stand not in _revisions:
        if len(_revisions) > _REMEMBERED:
            _revisions.clear()
        _revisions[stand] = _read(shots.seen(db, stand.id, stand.revision))
    return _revisions[stand]


def _read(document: Any) -> _Shot:
    """What a card tells of a document; each is read on its own, so that a broken one does not take others along."""
    name = document.get("name") if isinstance(document, dict) else None
    name = name if isinstance(name, str) and name else "a shot that cannot be read"
    try:
        shot = parse(document)
        keys = layer_keys(shot)
    except UrstError as error:
        return _Shot(name, fault=str(error))
    except Exception:
        log.exception("card broke", extra={"action": "card"})
        return _Shot(
            name, fault="This shot cannot be read; the server's log says why. It can be saved as a file, or deleted."
        )
    layers = tuple(
        _Layer(x.name, x.kind, keys[x.id], (shot.start, shot.end) if shot.kind_of(x).moving else None)
        for x in shot.layers
    )
    return _Shot(shot.name, shot.note, shot.start, shot.end, layers)


def _card(disk: Store, shot_id: str, shot: _Shot, busy: str, changed: dict[str, int]) -> dict[str, Any]:
    layers, size, fault = [], 0, shot.fault
    for layer in shot.layers:
        try:
            holding = _held(disk, layer.key, changed[layer.key])
        except Exception:
            log.exception("card broke", extra={"action": "card", "shot": shot_id})
            fault = "What was baked of this shot cannot be read; the server's log says why. The shot itself opens."
            break
        total = 1 if layer.frames is None else layer.frames[1] - layer.frames[0] + 1
        done = 0
        if holding.still is not None:
            first, last = layer.frames or (0, 0)
            done = 1 if layer.frames is None else sum(first <= f <= last for f in holding.frames)
        layers.append({"name": layer.name, "kind": layer.kind, "done": done, "total": total})
        size += holding.bytes if done else 0
    return {"id": shot_id, "shot": shot, "layers": layers, "bytes": size, "busy": busy, "fault": fault}


_holdings: dict[str, tuple[int, Holding]] = {}


def _held(disk: Store, key: str, changed: int) -> Holding:
    """What lies under a key, as it was found when its folder had last changed."""
    kept = _holdings.get(key)
    if kept and kept[0] == changed and time.time_ns() - changed > _YOUNG:
        return kept[1]
    holding = look(disk, key, kept[1] if kept else None)
    if len(_holdings) > _REMEMBERED:
        _holdings.clear()
    _holdings[key] = changed, holding
    return holding
