"""Live progress: what workers tell the database, passed on to every open page."""

import asyncio
import contextlib
import json
import logging

import psycopg
from fastapi import APIRouter, Request
from fastapi.responses import StreamingResponse

from urst.db.engine import address
from urst.db.runs import CHANNEL

router = APIRouter()
log = logging.getLogger("urst.live")

#: seconds between signs of life on an idle stream
PULSE = 10.0


class Hub:
    """One listener on the database, many pages."""

    def __init__(self):
        self._pages: set[asyncio.Queue] = set()

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
    def page(self):
        """Register a page for as long as it is open."""
        queue: asyncio.Queue = asyncio.Queue()
        self._pages.add(queue)
        try:
            yield queue
        finally:
            self._pages.discard(queue)


hub = Hub()


@router.get("/events")
async def events(request: Request, shot: str = ""):
    """Server-sent events: `frame` for each finished frame, `state` when a run begins or ends."""

    async def stream():
        with hub.page() as queue:
            yield "retry: 1000\n\n"
            while not await request.is_disconnected():
                try:
                    message = await asyncio.wait_for(queue.get(), PULSE)
                except TimeoutError:
                    yield ": still here\n\n"
                    continue
                if shot and message.get("shot") != shot:
                    continue
                yield f"event: {message['what']}\ndata: {json.dumps(message)}\n\n"

    return StreamingResponse(stream(), media_type="text/event-stream", headers={"Cache-Control": "no-store"})
