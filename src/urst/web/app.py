"""The web application. It reads the store and fills the queue; it never loads a solver."""

import asyncio
import contextlib
from pathlib import Path
from urllib.parse import urlsplit

from fastapi import FastAPI, Request
from fastapi.exceptions import HTTPException, RequestValidationError
from fastapi.responses import JSONResponse, PlainTextResponse, Response
from fastapi.staticfiles import StaticFiles
from sqlalchemy.exc import DBAPIError
from starlette.middleware.trustedhost import TrustedHostMiddleware

from urst.errors import UrstError
from urst.kinds.registry import KINDS
from urst.logs import set_up
from urst.scene import library
from urst.store.meshes import Meshes
from urst.web import bench, data, handbook, layers, live, measured, movies, pages, set_panel, slices, sources, versions
from urst.web.store import store
from urst.web.templates import page

HERE = Path(__file__).parent

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
# a name elsewhere that is made to point here must not reach the shots
app.add_middleware(TrustedHostMiddleware, allowed_hosts=["127.0.0.1", "localhost"])
app.mount("/static", StaticFiles(directory=HERE / "static"), name="static")
for part in (pages, bench, layers, measured, movies, sources, set_panel, slices, versions, data, handbook, live):
    app.include_router(part.router)


@app.middleware("http")
async def _guard(request: Request, call_next):
    """Changes come only from our own pages; the content policy goes with every answer."""
    if request.method not in ("GET", "HEAD"):
        origin = request.headers.get("origin") or request.headers.get("referer")
        if origin and urlsplit(origin).netloc != request.headers.get("host"):
            return PlainTextResponse("This change did not come from one of Urst's own pages, so it was refused.", 403)
        movie = request.url.path.endswith("/movies")
        most, way_out = (
            (movies.MOST_UPLOAD, "choose a shorter range") if movie else (pages.MOST_UPLOAD, "reduce the mesh")
        )
        if int(request.headers.get("content-length") or 0) > most:
            return PlainTextResponse(f"The upload is larger than {most // 2**20} MB: {way_out}.", 413)
    response = await call_next(request)
    response.headers["Content-Security-Policy"] = _POLICY
    response.headers["X-Content-Type-Options"] = "nosniff"
    response.headers["Referrer-Policy"] = "same-origin"
    if request.url.path.startswith("/static/"):
        response.headers["Cache-Control"] = "no-cache"
    elif response.headers.get("content-type", "").startswith("text/html"):
        # pages listen for progress; one kept for going back would hold its connection
        response.headers["Cache-Control"] = "no-store"
    return response


def _failed(request: Request, message: str, status: int):
    if request.headers.get("hx-request") or request.headers.get("accept", "").startswith("application/json"):
        return JSONResponse({"message": message}, status)
    if "text/html" in request.headers.get("accept", ""):
        return page(request, "fault.html", status, message=message)
    return PlainTextResponse(message, status)


@app.exception_handler(UrstError)
def _refused(request: Request, error: UrstError):
    return _failed(request, str(error), 422)


@app.exception_handler(DBAPIError)
def _no_database(request: Request, error: DBAPIError):
    return _failed(request, "The database does not answer; what is baked is safe. It is tried again by itself.", 503)


@app.exception_handler(HTTPException)
def _http(request: Request, error: HTTPException):
    return _failed(request, str(error.detail), error.status_code)


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
