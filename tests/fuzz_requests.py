"""Requests with something wrong in them, made by chance for every address that the application has."""

import random
from urllib.parse import quote, quote_plus

import httpx

from tests.fuzz import NASTY
from urst.web.app import app

_WORDS = [str(x) for x in NASTY] + [
    "\xff\xfe",
    "1e999",
    "0x1",
    "1_000",
    "٣",
    "-0",
    "a.b.c",
    "0.0.0",
    "__class__",
    "$(id)",
    "%00",
    "../..",
]
_HEADERS = {
    "urst-revision": ["abc", "-1", "0", "1", "999999", "9" * 18, "9" * 30, "1.5"],
    "origin": ["null", "http://[", "http://evil", "", "file://"],
    "referer": ["http://a]b[", "http://127.0.0.1:1/x"],
    "sec-fetch-site": ["cross-site", "none", "zork"],
    "accept": ["text/html", "application/json", "\xff", "a" * 3000],
    "hx-request": ["true", "zork"],
    "cookie": ["urst-editor=\xff", "urst-editor=" + "a" * 3000, ";;;=", "urst=\x01"],
    "range": ["bytes=9-1", "bytes=abc", "bytes=0-99999999999999", "bytes=-5"],
    "if-none-match": ["\xff", "*"],
    "content-type": [
        "multipart/form-data",
        "multipart/form-data; boundary=x",
        "application/json",
        "text/plain; charset=zork",
        "application/x-www-form-urlencoded",
    ],
}
#: what would end a shot that others are tried on, and what stays open
_LEFT_OUT = ("/delete", "/events")


#: what is sound for names that addresses take, beside those of a shot and a result
KNOWN = {
    "layer_id": ["break", "fall", "shed", "billow"],
    "layer": ["fall"],
    "other": ["shed", "billow"],
    "instead": ["fall"],
    "frame": ["1", "2"],
    "first": ["1"],
    "last": ["3"],
    "level": ["0", "1"],
    "number": ["0", "1"],
    "to": ["0", "2"],
    "quality": ["shot", "draft"],
    "way": ["undo", "redo", "0,1,0"],
    "eye": ["0,-5,2"],
    "axis": ["x", "z"],
    "at": ["1", "v1", "0.5"],
    "path": [
        "steps",
        "bonds.tension",
        "pieces.0.name",
        "name",
        "start",
        "end",
        "position",
        "shape.width",
        "material",
        "cell_size",
    ],
    "value": ["8", "1", "Box", "0.5", "1,2,3", "= strength", "0:1, 5:2"],
    "name": ["Box", "fall"],
    "of": ["speed", "Box"],
    "place": ["bonds", "events", "joints"],
    "kind": ["fall", "box"],
    "what": ["usd", "ply"],
    "over": ["frames"],
    "x": ["0.3"],
    "y": ["0.4"],
    "z": ["1"],
    "target": ["0,0,1"],
    "origin": ["0,0,0"],
    "until": ["9"],
}


def tried(base: str, known: dict[str, list[str]], rng: random.Random, count: int) -> list[str]:
    """Send so many requests to a server; return those that it answered as if it had broken, or not at all.

    known : sound values beside `KNOWN`
    """
    places, found = addresses(), []
    with httpx.Client(base_url=base, timeout=60) as client:
        for _ in range(count):
            method, path, headers, body = request(rng, places, KNOWN | known)
            try:
                status = client.request(method, path, headers=headers, content=body).status_code
            except httpx.TransportError as error:
                status = repr(error)
            if not isinstance(status, int) or status >= 500:
                found.append(f"{status}: {method} {path} {headers} {body!r}"[:600])
    return found


def addresses() -> list[tuple[str, str, list[str], list[str]]]:
    """Return of every address its method, its path, and the names it takes in the query and in the body."""
    told = app.openapi()
    models = told.get("components", {}).get("schemas", {})
    found = []
    for path, ways in told["paths"].items():
        if path.endswith(_LEFT_OUT):
            continue
        for method, way in ways.items():
            query = [p["name"] for p in way.get("parameters", []) if p["in"] == "query"]
            body = []
            for content in way.get("requestBody", {}).get("content", {}).values():
                name = content.get("schema", {}).get("$ref", "").rsplit("/", 1)[-1]
                body = list(models.get(name, {}).get("properties", {}))
            found.append((method.upper(), path, query, body))
    return found


def request(rng: random.Random, places: list, known: dict[str, list[str]]) -> tuple[str, str, dict[str, bytes], bytes]:
    """Return a method, an address, headers and a body.

    places : of `addresses`
    known : sound values by the names that take them
    """
    method, path, query, body = rng.choice(places)

    def value(name):
        return rng.choice(known[name]) if name in known and rng.random() < 0.75 else rng.choice(_WORDS)

    for part in path.split("/"):
        if part.startswith("{"):
            name = part.strip("{}").split(":")[0]
            path = path.replace(part, _quoted(value(name), quote) or "x")
    asked = [(name, value(name)) for name in query if rng.random() < 0.8]
    if asked:
        path += "?" + "&".join(f"{n}={_quoted(v, quote_plus)}" for n, v in asked)
    names = [n for n in (*body, "path", "value", "name") if rng.random() < 0.85]
    form = "&".join(f"{n}={_quoted(value(n), quote_plus)}" for n in names) if method == "POST" else ""
    headers = {"content-type": b"application/x-www-form-urlencoded"} if form else {}
    for name in rng.sample(sorted(_HEADERS), rng.choice((0, 0, 1, 2))):
        headers[name] = rng.choice(_HEADERS[name]).encode("latin-1")
    if rng.random() < 0.1:
        form = form[: len(form) // 2] + "%ff%0"
    return method, path, headers, form.encode()


def _quoted(text, how):
    return how(text.encode("utf-8", "surrogatepass"), safe="")
