"""Live progress: what workers tell the database, passed on to every open page."""

import asyncio
import contextlib
import json
import logging
from collections.abc import AsyncIterator, Iterator
from typing import Any

import psycopg
from fastapi import APIRouter, Depends, HTTPException
from fastapi.sse import EventSourceResponse, ServerSentEvent

from urst.db.engine import address
from urst.db.runs import CHANNEL

router = APIRouter()
log = logging.getLogger("urst.live")

#: pages that may listen at once
MOST_PAGES = 300


class Hub:
    """One listener on the database, many pages."""

    def __init__(self) -> None:
        self._pages: set[asyncio.Queue] = set()

    def __len__(self) -> int:
        return len(self._pages)

    async def listen(self) -> None:
        """Pass on notifications until cancelled; a lost connection is made anew."""
        while True:
            try:
                async with await psycopg.AsyncConnection.connect(address(), autocommit=True) as connection:
                    await connection.execute(f"LISTEN {CHANNEL}")
                    async for note in connection.notifies():
                        self._send(json.loads(note.payload))
            except psycopg.OperationalError as error:
                log.warning("database lost", extra={"action": "listen", "cause": str(error)})
                await asyncio.sleep(1.0)

    def _send(self, message: dict) -> None:
        for page in self._pages:
            if page.qsize() < 500:
                page.put_nowait(message)

    @contextlib.contextmanager
    def page(self) -> Iterator[Any]:
        """Register a page for as long as it is open."""
        queue: asyncio.Queue = asyncio.Queue()
        self._pages.add(queue)
        try:
            yield queue
        finally:
            self._pages.discard(queue)


hub = Hub()


def _room() -> None:
    """Each page that listens holds a connection."""
    if len(hub) >= MOST_PAGES:
        raise HTTPException(503, f"{MOST_PAGES} pages of Urst are open already: close some.")


@router.get("/events", response_class=EventSourceResponse, dependencies=[Depends(_room)])
async def events(shot: str = "") -> AsyncIterator[ServerSentEvent]:
    """Server-sent events: `frame` for each finished frame, `state` when a run begins or ends, `document` when a shot
    is changed."""
    with hub.page() as queue:
        yield ServerSentEvent(comment="here", retry=1000)
        while True:
            message = await queue.get()
            if not shot or message.get("shot") == shot:
                yield ServerSentEvent(event=message["what"], data=message)
