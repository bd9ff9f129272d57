"""The web application. It reads the store and fills the queue; it never loads a solver."""

import asyncio
import contextlib
import errno
import gc
import logging
import sys
from pathlib import Path
from typing import Any

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse, PlainTextResponse, Response
from fastapi.staticfiles import StaticFiles
from sqlalchemy.exc import DataError, DBAPIError, IntegrityError, NoResultFound
from sqlalchemy.orm.exc import ObjectDeletedError, StaleDataError
from starlette.exceptions import HTTPException
from starlette.middleware.trustedhost import TrustedHostMiddleware

from urst.errors import Conflict, UrstError
from urst.kinds.registry import KINDS
from urst.logs import set_up
from urst.scene import library
from urst.shot.explain import allowed
from urst.store.meshes import Meshes
from urst.web import (
    access,
    bench,
    data,
    handbook,
    layers,
    live,
    measured,
    movies,
    pages,
    prefetch,
    set_panel,
    slices,
    sources,
    versions,
)
from urst.web.bounds import Bounded
from urst.web.guard import Guard
from urst.web.store import store
from urst.web.templates import page
from urst.web.throttle import Throttle

HERE = Path(__file__).parent
log = logging.getLogger("urst.web")


@contextlib.asynccontextmanager
async def _life(_app: FastAPI) -> Any:
    set_up()
    # how long a page waits for its turn while another thread reckons: a fifth of what Python takes by itself [s]
    sys.setswitchinterval(0.001)
    library.use(Meshes(store().root))
    # what is loaded stays: looked through again and again it would hold up every page for a tenth of a second
    gc.freeze()
    tasks = [asyncio.create_task(work()) for work in (live.hub.listen, prefetch.look)]
    yield
    for task in tasks:
        task.cancel()


app = FastAPI(title="Urst", lifespan=_life, docs_url=None, redoc_url=None, openapi_url=None)
# a name elsewhere that is made to point here must not reach the shots; where a passphrase is asked for, its cookie is
# not sent there
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


app.add_middleware(Throttle)
app.add_middleware(Bounded, most=_most)


def _failed(request: Request, message: str, status: int) -> Response:
    if request.headers.get("hx-request") or request.headers.get("accept", "").startswith("application/json"):
        return JSONResponse({"message": message}, status)
    if "text/html" in request.headers.get("accept", ""):
        return page(request, "fault.html", status, message=message)
    return PlainTextResponse(message, status)


#: PostgreSQL's codes for a full disk, and for two who wait for each other or change the same
_DISK_FULL, _AT_ONCE = "53100", ("40P01", "40001")


@app.exception_handler(UrstError)
def _refused(request: Request, error: UrstError) -> Response:
    return _failed(request, str(error), 409 if isinstance(error, Conflict) else 422)


@app.exception_handler(DataError)
@app.exception_handler(UnicodeError)
def _no_value(request: Request, error: Exception) -> Response:
    return _failed(
        request, "Something that was sent is no value that can be kept: look for odd characters and huge numbers.", 422
    )


def _broke(request: Request, error: Exception) -> Response:
    log.exception("request broke", exc_info=error, extra={"action": "broke", "path": request.url.path})
    return _failed(request, "Urst broke on this; nothing was changed. The server's log says where.", 500)


@app.exception_handler(IntegrityError)
@app.exception_handler(NoResultFound)
@app.exception_handler(ObjectDeletedError)
@app.exception_handler(StaleDataError)
def _meanwhile(request: Request, error: Exception) -> Response:
    return _failed(
        request, "Somebody changed or deleted the same at this moment: look at how it stands, then try again.", 409
    )


@app.exception_handler(OSError)
def _no_store(request: Request, error: OSError) -> Response:
    if error.errno == errno.ENAMETOOLONG:
        return _no_value(request, error)
    log.error("store cannot be used", extra={"action": "store", "path": request.url.path, "cause": str(error)})
    sentence = (
        f"The folder of what is baked cannot be used ({error.strerror or error}): look at its disk; the shots are safe."
    )
    return _failed(request, sentence, 503)


@app.exception_handler(DBAPIError)
def _no_database(request: Request, error: DBAPIError) -> Response:
    code = getattr(error.orig, "sqlstate", None) or ""
    if code == _DISK_FULL:
        return _failed(
            request, "The disk of the database is full: free some space, then try again; nothing was changed.", 503
        )
    if code in _AT_ONCE:
        return _meanwhile(request, error)
    return _failed(request, "The database does not answer; what is baked is safe. It is tried again by itself.", 503)


@app.exception_handler(HTTPException)
def _http(request: Request, error: HTTPException) -> Response:
    return _failed(request, str(error.detail), error.status_code)


@app.exception_handler(405)
def _no_such_method(request: Request, error: HTTPException) -> Response:
    return _failed(request, f"{request.method} is not what this address takes: use Urst's own pages.", 405)


@app.exception_handler(404)
def _nothing(request: Request, error: HTTPException) -> Response:
    return _failed(request, "There is nothing at this address: go back to the list of shots.", 404)


@app.exception_handler(RequestValidationError)
def _bad_request(request: Request, error: RequestValidationError) -> Response:
    first = error.errors()[0]
    return _failed(request, f"{str(first['loc'][-1]).replace('_', ' ')}: {allowed(first)}.", 422)


app.add_middleware(Guard, broke=_broke)


@app.get("/kinds.css")
def hues() -> Response:
    """The hue of each kind of layer, on dark and on light ground."""
    rules = [f".kind-{k.name} {{ --hue: {k.hue[0]}; }}" for k in KINDS.values()]
    rules += [f'[data-theme="plaster"] .kind-{k.name} {{ --hue: {k.hue[1]}; }}' for k in KINDS.values()]
    return Response("\n".join(rules), media_type="text/css", headers={"Cache-Control": "no-cache"})


@app.get("/alive")
def alive() -> Response:
    """Whether the server answers."""
    return PlainTextResponse("alive")
