"""What the store holds, from the database's index, which is brought up to date where a folder has changed since."""

import math
from collections.abc import Iterable
from typing import Any

from sqlalchemy import select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from urst.db.engine import session
from urst.db.tables import HoldingRow
from urst.store.holding import Holding, look
from urst.store.store import Store


def holdings(db: Session, disk: Store, keys: Iterable[str]) -> dict[str, Holding]:
    """Return what lies under each key."""
    wanted = list(dict.fromkeys(keys))
    known = {r.key: _of(r) for r in db.scalars(select(HoldingRow).where(HoldingRow.key.in_(wanted)))}
    found = {key: look(disk, key, known.get(key)) for key in wanted}
    news = [_row(key, h) for key, h in found.items() if h != known.get(key, Holding())]
    if news:
        put = insert(HoldingRow).values(news)
        same = {name: put.excluded[name] for name in ("seen", "still", "frames", "bytes")}
        # in a session of its own, so that what the reader has in hand is left alone
        with session() as own:
            own.execute(put.on_conflict_do_update(index_elements=["key"], set_=same))
            own.commit()
    return found


def _of(row: HoldingRow) -> Holding:
    return Holding(row.seen, row.still, {int(f): g for f, g in row.frames.items()}, row.bytes)


def _row(key: str, holding: Holding) -> dict[str, Any]:
    return {
        "key": key,
        "seen": holding.seen,
        "bytes": holding.bytes,
        "still": None if holding.still is None else _finite(holding.still),
        "frames": {str(f): _finite(g) for f, g in holding.frames.items()},
    }


def _finite(gauges: dict[str, float]) -> dict[str, float]:
    # the database's JSON has no word for what is no number
    return {name: value for name, value in gauges.items() if math.isfinite(value)}
