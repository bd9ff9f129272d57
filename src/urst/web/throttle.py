"""What is heavy waits its turn, so that one shot does not keep others, nor the list and the queue, from being shown."""

import asyncio
import re
from collections import Counter

from starlette.types import ASGIApp, Message, Receive, Scope, Send

#: requests about shots and results that are worked on at a time, of all and of any one, and how many may wait
AT_A_TIME, OF_ONE, WAITING = 6, 3, 400
#: what a request is about: a shot, a result; files that are read in a child of their own have a turn of their own
_ABOUT = re.compile(r"^/(?:shots|data)/([^/]+)(?!.*/meshes$)")


class Throttle:
    """Lets so many requests be worked on at a time; one that sends something is counted once all of it has come."""

    def __init__(self, app: ASGIApp) -> None:
        self.app = app
        self._all = asyncio.Semaphore(AT_A_TIME)
        self._each: dict[str, asyncio.Semaphore] = {}
        self._there: Counter[str] = Counter()

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Handle a request."""
        about = _ABOUT.match(scope["path"]) if scope["type"] == "http" else None
        if about is None:
            await self.app(scope, receive, send)
            return
        if self._there.total() >= WAITING:
            head = [(b"content-type", b"text/plain; charset=utf-8"), (b"retry-after", b"5")]
            sentence = b"Urst is busy with earlier requests: try again in a moment."
            await send({"type": "http.response.start", "status": 503, "headers": head})
            await send({"type": "http.response.body", "body": sentence})
            return
        await self._in_turn(about[1], scope, receive, send)

    async def _in_turn(self, name: str, scope: Scope, receive: Receive, send: Send) -> None:
        self._there[name] += 1
        each = self._each.setdefault(name, asyncio.Semaphore(OF_ONE))
        held = False

        async def take() -> None:
            nonlocal held
            if not held:
                await each.acquire()
                try:
                    await self._all.acquire()
                except BaseException:
                    each.release()
                    raise
                held = True

        def give_back() -> None:
            nonlocal held
            if held:
                held = False
                self._all.release()
                each.release()

        async def whole() -> Message:
            message = await receive()
            if message["type"] == "http.request" and not message.get("more_body", False):
                await take()
            return message

        async def answer(message: Message) -> None:
            # what is left is sending, which is as slow as who reads it
            give_back()
            await send(message)

        sent = {name for name, _ in scope["headers"]} & {b"content-length", b"transfer-encoding"}
        try:
            if scope["method"] in ("GET", "HEAD") or not sent:
                await take()
                await self.app(scope, receive, answer)
            else:
                await self.app(scope, whole, answer)
        finally:
            give_back()
            self._there[name] -= 1
            if not self._there[name]:
                del self._there[name], self._each[name]
