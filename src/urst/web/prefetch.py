"""Shots are looked at before somebody asks: all of them once as the server starts, then each that is added or
changed."""

import asyncio
import logging

from sqlalchemy.exc import DBAPIError

from urst.db import shots
from urst.db.engine import session
from urst.errors import UrstError
from urst.web import cards, live, state
from urst.web.store import store

log = logging.getLogger("urst.web")

#: shots that are looked at as the server starts, the latest changed first
_FIRST = 200
#: shots whose look broke: nobody looks again before they are asked for
_given_up: set[str] = set()


async def look() -> None:
    """Look at one after the other, until cancelled."""
    with live.hub.page() as news:
        for shot_id in await asyncio.to_thread(_all):
            await asyncio.to_thread(_look_at, shot_id)
        while True:
            message = await news.get()
            if message["what"] == "document":
                await asyncio.to_thread(_look_at, message["shot"])


def _all() -> list[str]:
    try:
        cards.listed(store())
        with session() as db:
            return [x.id for x in shots.stands(db)][:_FIRST]
    except (DBAPIError, OSError):
        return []
    except Exception:
        log.exception("look ahead broke", extra={"action": "ahead"})
        return []


def _look_at(shot_id: str) -> None:
    if shot_id in _given_up:
        return
    try:
        cards.know(shot_id)
        state.current(shot_id, "shot")
    except (UrstError, DBAPIError, OSError):
        # whoever opens it is told
        return
    except Exception:
        _given_up.add(shot_id)
        log.exception("look ahead broke", extra={"action": "ahead", "shot": shot_id})
