"""The web application. It reads the store and fills the queue; it never loads a solver."""

import asyncio
import contextlib
import logging
from pathlib import Path
from urllib.parse import urlsplit

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse, PlainTextResponse, RedirectResponse, Response
from fastapi.staticfiles import StaticFiles
from sqlalchemy.exc import DataError, DBAPIError
from starlette.exceptions import HTTPException
from starlette.middleware.trustedhost import TrustedHostMiddleware

from urst.errors import Conflict, UrstError
from urst.kinds.registry import KINDS
from urst.logs import set_up
from urst.scene import library
from urst.store.meshes import Meshes
from urst.web import (
    access,
    asked,
    bench,
    data,
    handbook,
    layers,
    live,
    measured,
    movies,
    pages,
    set_panel,
    slices,
    sources,
    versions,
)
from urst.web.bounds import Bounded
from urst.web.store import store
from urst.web.templates import page
from urst.web.turns import Turns

HERE = Path(__file__).parent
log = logging.getLogger("urst.web")

_POLICY = (
    "default-src 'self'; script-src 'self' 'wasm-unsafe-eval'; style-src 'self'; style-src-attr 'unsafe-inline'; img-src 'self' data: blob:; "
    "connect-src 'self' data:; font-src 'self'; frame-ancestors 'none'; base-uri 'none'; form-action 'self'; object-src 'none'"
)


@contextlib.asynccontextmanager
async def _life(_app):
    set_up()
    library.use(Meshes(store().root))
    listener = asyncio.create_task(live.hub.listen())
    yield
    listener.cancel()


app = FastAPI(title="Urst", lifespan=_life, docs_url=None, redoc_url=None, openapi_url=None)
# a name elsewhere that is made to point here must not reach the shots; where a passphrase is asked for, its cookie is not sent there
app.add_middleware(TrustedHostMiddleware, allowed_hosts=["*"] if access.asks() else ["127.0.0.1", "localhost"])
app.mount("/static", StaticFiles(directory=HERE / "static"), name="static")
for part in (
    access,
    pages,
    bench,
    layers,
    measured,
    movies,
    sources,
    set_panel,
    slices,
    versions,
    data,
    handbook,
    live,
):
    app.include_router(part.router)


def _most(path: str) -> tuple[int, str]:
    return (
        (movies.MOST_UPLOAD, "choose a shorter range")
        if path.endswith("/movies")
        else (pages.MOST_UPLOAD, "reduce the mesh")
    )


app.add_middleware(Turns)
app.add_middleware(Bounded, most=_most)


@app.middleware("http")
async def _guard(request: Request, call_next):
    """Changes come only from our own pages; the content policy goes with every answer."""
    fresh = asked.take(request)
    if request.method not in ("GET", "HEAD"):
        if _foreign(request):
            return PlainTextResponse("This change did not come from one of Urst's own pages, so it was refused.", 403)
        if not asked.sound(request):
            return PlainTextResponse("urst-revision is no revision: send the number that the page shows.", 422)
    if "\0" in request.url.path:
        return _nothing(request, None)
    if not access.may(request):
        if request.method in ("GET", "HEAD") and "text/html" in request.headers.get("accept", ""):
            return RedirectResponse("/enter", 303)
        return PlainTextResponse("This Urst asks for a passphrase: enter it at /enter.", 401)
    response = await call_next(request)
    if fresh:
        response.set_cookie(asked.COOKIE, fresh, max_age=10**8, httponly=True, samesite="strict")
    response.headers["Content-Security-Policy"] = _POLICY
    response.headers["X-Content-Type-Options"] = "nosniff"
    response.headers["Referrer-Policy"] = "same-origin"
    if request.url.path.startswith("/static/"):
        response.headers["Cache-Control"] = "no-cache"
    elif response.headers.get("content-type", "").startswith("text/html"):
        # pages listen for progress; one kept for going back would hold its connection
        response.headers["Cache-Control"] = "no-store"
    return response


def _foreign(request):
    """Whether a change comes from elsewhere, as far as it says."""
    if request.headers.get("sec-fetch-site") in ("cross-site", "same-site"):
        return True
    origin = request.headers.get("origin") or request.headers.get("referer")
    try:
        return bool(origin) and urlsplit(origin).netloc != request.headers.get("host")
    except ValueError:
        return True


def _failed(request: Request, message: str, status: int):
    if request.headers.get("hx-request") or request.headers.get("accept", "").startswith("application/json"):
        return JSONResponse({"message": message}, status)
    if "text/html" in request.headers.get("accept", ""):
        return page(request, "fault.html", status, message=message)
    return PlainTextResponse(message, status)


@app.exception_handler(UrstError)
def _refused(request: Request, error: UrstError):
    return _failed(request, str(error), 409 if isinstance(error, Conflict) else 422)


@app.exception_handler(DataError)
@app.exception_handler(UnicodeError)
def _no_value(request: Request, error: Exception):
    return _failed(
        request, "Something that was sent is no value that can be kept: look for odd characters and huge numbers.", 422
    )


@app.exception_handler(Exception)
def _broke(request: Request, error: Exception):
    log.exception("request broke", exc_info=error, extra={"action": "broke", "path": request.url.path})
    return _failed(request, "Urst broke on this; nothing was changed. The server's log says where.", 500)


@app.exception_handler(DBAPIError)
def _no_database(request: Request, error: DBAPIError):
    return _failed(request, "The database does not answer; what is baked is safe. It is tried again by itself.", 503)


@app.exception_handler(HTTPException)
def _http(request: Request, error: HTTPException):
    return _failed(request, str(error.detail), error.status_code)


@app.exception_handler(405)
def _no_such_way(request: Request, error):
    return _failed(request, f"{request.method} is not what this address takes: use Urst's own pages.", 405)


@app.exception_handler(404)
def _nothing(request: Request, error):
    return _failed(request, "There is nothing at this address: go back to the list of shots.", 404)


@app.exception_handler(RequestValidationError)
def _bad_request(request: Request, error: RequestValidationError):
    first = error.errors()[0]
    return _failed(request, f"{first['loc'][-1]}: {first['msg'].lower()}.", 422)


@app.get("/kinds.css")
def hues():
    """The hue of each kind of layer, on dark and on light ground."""
    rules = [f".kind-{k.name} {{ --hue: {k.hue[0]}; }}" for k in KINDS.values()]
    rules += [f'[data-theme="plaster"] .kind-{k.name} {{ --hue: {k.hue[1]}; }}' for k in KINDS.values()]
    return Response("\n".join(rules), media_type="text/css", headers={"Cache-Control": "no-cache"})


@app.get("/alive")
def alive():
    """Whether the server answers."""
    return PlainTextResponse("alive")
