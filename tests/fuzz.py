"""Documents and mesh files with something wrong in them, made from sound ones by chance."""

import copy
import json
import math
import random

#: what is put where something else stood
NASTY = (
    None,
    True,
    "",
    " ",
    "x" * 5000,
    "\x00",
    "\ud800",
    "\u202e",
    "<script>alert(1)</script>",
    "'; DROP TABLE shots; --",
    "../../etc/passwd",
    0,
    -1,
    1,
    2**31,
    -(2**31),
    2**63,
    10**400,
    -3_000_000,
    1e-300,
    -1e-300,
    1e15,
    -1e15,
    1e308,
    -1e308,
    math.nan,
    math.inf,
    -math.inf,
    0.5,
    [],
    {},
    [[]],
    [1, 2],
    [1e308] * 3,
    {"points": []},
    {"points": [{"at": 0, "value": 1}] * 3},
    [None] * 3,
    {"kind": "box", "width": 1e-300},
)


def _places(value, at=()):
    """Every place in a document."""
    yield at
    if isinstance(value, dict):
        for name in value:
            yield from _places(value[name], (*at, name))
    elif isinstance(value, list):
        for n in range(min(len(value), 6)):
            yield from _places(value[n], (*at, n))


def _at(document, place):
    for step in place:
        document = document[step]
    return document


def document(source: dict, rng: random.Random) -> dict:
    """Return a document with one to three things changed."""
    out = copy.deepcopy(source)
    for _ in range(rng.choice((1, 1, 1, 2, 3))):
        places = [p for p in _places(out) if p]
        if not places:
            break
        *above, last = rng.choice(places)
        parent = _at(out, above)
        way = rng.random()
        if way < 0.4:
            parent[last] = copy.deepcopy(rng.choice(NASTY))
        elif way < 0.46:
            del parent[last]
        elif way < 0.75 and isinstance(parent[last], (int, float)) and not isinstance(parent[last], bool):
            parent[last] = parent[last] * rng.choice((-1, 0, 1e-12, 1e3, 1e9, 1e30))
        elif way < 0.85 and isinstance(parent, list):
            parent.extend(copy.deepcopy(parent[last]) for _ in range(rng.choice((1, 3, 50))))
        elif way < 0.93:
            parent[last] = copy.deepcopy(_at(out, rng.choice(places)))
        elif isinstance(parent, dict):
            parent[rng.choice(("extra", "kind", "id", "name", "format"))] = copy.deepcopy(rng.choice(NASTY))
    return out


def text(source: dict, rng: random.Random) -> bytes:
    """Return the text of such a document, at times cut, doubled or with bytes changed."""
    out = json.dumps(document(source, rng)).encode("utf-8", "surrogatepass")
    way = rng.random()
    if way < 0.06:
        return out[: rng.randrange(len(out))]
    if way < 0.12:
        changed = bytearray(out)
        for _ in range(rng.randint(1, 8)):
            changed[rng.randrange(len(changed))] = rng.randrange(256)
        return bytes(changed)
    return out


def mesh(source: bytes, rng: random.Random) -> bytes:
    """Return a mesh file with bytes changed, cut out, doubled or put elsewhere."""
    out = bytearray(source)
    for _ in range(rng.randint(1, 6)):
        if not out:
            break
        at, way = rng.randrange(len(out)), rng.random()
        if way < 0.5:
            out[at] = rng.randrange(256)
        elif way < 0.46:
            out[at : at + 4] = rng.choice((b"\xff\xff\xff\xff", b"\x00\x00\x00\x80", b"\xff\xff\xff\x7f", b"9999"))
        elif way < 0.8:
            del out[at : at + rng.randint(1, 200)]
        elif way < 0.9:
            out[at:at] = out[at : at + rng.randint(1, 200)]
        else:
            del out[at:]
    return bytes(out)
