"""What goes before every request: whether it comes from our own pages and from who may ask; and what goes with every
answer."""

from collections.abc import Callable
from urllib.parse import urlsplit

from fastapi import Request
from fastapi.responses import PlainTextResponse, RedirectResponse, Response
from starlette.datastructures import MutableHeaders
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from urst.web import access, request_context

_ALWAYS = {
    "Content-Security-Policy": "default-src 'self'; script-src 'self' 'wasm-unsafe-eval'; style-src 'self'; "
    "style-src-attr 'unsafe-inline'; img-src 'self' data: blob:; connect-src 'self' data:; font-src 'self'; "
    "frame-ancestors 'none'; base-uri 'none'; form-action 'self'; object-src 'none'",
    "X-Content-Type-Options": "nosniff",
    "Referrer-Policy": "same-origin",
}


class Guard:
    """Refuses what does not come from our own pages, sends the content policy with every answer, and an answer where
    the application breaks.

    broke : what is answered then
    """

    def __init__(self, app: ASGIApp, broke: Callable[[Request, Exception], Response]) -> None:
        self.app, self.broke = app, broke

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Handle a request."""
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        request = Request(scope)
        fresh, path, begun = request_context.take(request), scope["path"], False

        async def answer(message: Message) -> None:
            nonlocal begun
            if message["type"] == "http.response.start":
                begun = True
                headers = MutableHeaders(scope=message)
                headers.update(_ALWAYS)
                if path.startswith("/static/"):
                    headers["Cache-Control"] = "no-cache"
                elif headers.get("content-type", "").startswith("text/html"):
                    # pages listen for progress; one kept for going back would hold its connection
                    headers["Cache-Control"] = "no-store"
                if fresh:
                    headers.append(
                        "Set-Cookie",
                        f"{request_context.COOKIE}={fresh}; HttpOnly; Max-Age=100000000; Path=/; SameSite=strict",
                    )
            await send(message)

        try:
            await (_refusal(request) or self.app)(scope, receive, answer)
        except Exception as error:
            # half an answer is ended with its connection
            if begun:
                raise
            await self.broke(request, error)(scope, receive, answer)


def _refusal(request: Request) -> Response | None:
    """What is answered instead, None if the request may pass."""
    reads = request.method in ("GET", "HEAD")
    if not reads and _foreign(request):
        return PlainTextResponse("This change did not come from one of Urst's own pages, so it was refused.", 403)
    if not reads and not request_context.sound(request):
        return PlainTextResponse("urst-revision is no revision: send the number that the page shows.", 422)
    if "\0" in request.scope["path"]:
        return PlainTextResponse("There is nothing at this address: go back to the list of shots.", 404)
    if access.may(request):
        return None
    if reads and "text/html" in request.headers.get("accept", ""):
        return RedirectResponse("/enter", 303)
    return PlainTextResponse("This Urst asks for a passphrase: enter it at /enter.", 401)


def _foreign(request: Request) -> bool:
    """Whether a change comes from elsewhere, as far as it says."""
    if request.headers.get("sec-fetch-site") in ("cross-site", "same-site"):
        return True
    origin = request.headers.get("origin") or request.headers.get("referer")
    try:
        return bool(origin) and urlsplit(origin).netloc != request.headers.get("host")
    except ValueError:
        return True
