"""What the store holds under a key, read once and known again by when its folder last changed."""

import time
from dataclasses import dataclass, field

from urst.store.store import Store

#: a folder that changed less than this ago may change again without its time telling so [ns]
_YOUNG = 1_000_000_000

Numbers = dict[str, float]


@dataclass(frozen=True)
class Holding:
    """One key's results."""

    seen: int = 0
    """when the folder last changed, as this was read [ns]; 0 if that is no proof that it still holds"""
    still: Numbers | None = None
    """gauges of what does not change over time; None if that is not there"""
    frames: dict[int, Numbers] = field(default_factory=dict)
    """gauges of each frame that is there"""
    bytes: int = 0


def look(store: Store, key: str, before: Holding | None = None) -> Holding:
    """Return what is there; of what was known before only what has changed since is read.

    Parameters
    ----------
    store : Store
    key : str
    before : Holding, optional
    """
    changed = store.changed(key)
    if before is not None and before.seen and before.seen == changed:
        return before
    if not changed:
        return Holding()
    known = before.frames if before else {}
    there = store.frames(key)
    frames = {f: known[f] for f in there if f in known}
    frames |= store.read_gauges(key, [f for f in there if f not in known])
    still = before.still if before else None
    if store.has_static(key):
        still = still if still is not None else store.static_gauges(key)
    else:
        still = None
    settled = changed if time.time_ns() - changed > _YOUNG else 0
    return Holding(settled, still, dict(sorted(frames.items())), store.usage(key).bytes)
