"""Bounds on what a request may send: how much, and how slowly."""

import asyncio
from collections.abc import Callable
from typing import Any

from starlette.requests import ClientDisconnect
from starlette.types import ASGIApp, Message, Receive, Scope, Send
from uvicorn.protocols.http.h11_impl import H11Protocol

#: a request's head must be there within so long, and something of its body in so long [s]
HEAD, BODY = 15.0, 30.0


class Bounded:
    """Ends a request whose body is larger than it may be, whatever it says of itself, or that does not come.

    most : how much a path takes, and what to do about it, by the path
    """

    def __init__(self, app: ASGIApp, most: Callable[[str], tuple[int, str]]) -> None:
        self.app, self.most = app, most

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Handle a request."""
        if scope["type"] != "http" or scope["method"] in ("GET", "HEAD"):
            await self.app(scope, receive, send)
            return
        most, way_out = self.most(scope["path"])
        too_much = 413, f"The upload is larger than {most // 2**20} MB: {way_out}."
        length = dict(scope["headers"]).get(b"content-length", b"0")
        if length.isdigit() and int(length) > most:
            await _refuse(send, *too_much)
            return
        taken, ended, refusal = 0, False, None

        async def bounded() -> Message:
            nonlocal taken, ended, refusal
            if ended:
                return await receive()
            try:
                message = await asyncio.wait_for(receive(), BODY)
            except TimeoutError:
                refusal = 408, f"Nothing of the upload came for {BODY:g} s: send it again."
                message = {"type": "http.disconnect"}
            taken += len(message.get("body", b""))
            ended = not message.get("more_body", False)
            if taken > most:
                refusal, ended, message = too_much, True, {"type": "http.disconnect"}
            return message

        answered = False

        async def answer(message: Message) -> None:
            nonlocal answered
            # whatever was made of what came, this is said
            if refusal is None or answered:
                await send(message) if refusal is None else None
                return
            answered = True
            await _refuse(send, *refusal)

        try:
            await self.app(scope, bounded, answer)
        except ClientDisconnect:
            if refusal is None:
                raise
        if refusal is not None and not answered:
            await _refuse(send, *refusal)


async def _refuse(send: Callable[..., Any], status: int, sentence: str) -> None:
    head = [(b"content-type", b"text/plain; charset=utf-8"), (b"connection", b"close")]
    await send({"type": "http.response.start", "status": status, "headers": head})
    await send({"type": "http.response.body", "body": sentence.encode()})


class Patient(H11Protocol):
    """A connection that is closed if a request's head does not come in time."""

    _late: asyncio.TimerHandle | None = None

    def connection_made(self, transport: Any) -> None:
        """Begin to wait for the first head."""
        super().connection_made(transport)
        self._wait()

    def data_received(self, data: bytes) -> None:
        """Take some bytes; a head that has begun must end in time."""
        if self._late is None and (self.cycle is None or self.cycle.response_complete):
            self._wait()
        before = self.cycle
        super().data_received(data)
        if self.cycle is not before:
            self._stop()

    def connection_lost(self, exc: Exception | None) -> None:
        """Wait no more."""
        self._stop()
        super().connection_lost(exc)

    def _wait(self) -> None:
        self._late = self.loop.call_later(HEAD, self._close)

    def _stop(self) -> None:
        if self._late is not None:
            self._late.cancel()
            self._late = None

    def _close(self) -> None:
        self._late = None
        if not self.transport.is_closing():
            self.transport.close()
