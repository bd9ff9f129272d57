"""Who gets in. On loopback whoever sits at the machine does; beyond it only who knows the passphrase."""

import contextlib
import hmac
import os
import secrets
import threading
import time
from collections import defaultdict, deque
from pathlib import Path

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerificationError
from fastapi import APIRouter, Form, Request, Response
from fastapi.responses import RedirectResponse

from urst.web.templates import page

router = APIRouter()

COOKIE = "urst-session"
#: how long one stays in [s]
STAYS = 14 * 86400.0
#: wrong passphrases from one address, and from all, in so many seconds, before no more are heard
_MOST, _MOST_OF_ALL, _WITHIN = 5, 50, 60.0
#: what is open to all: the page that asks, and what it is drawn with
_OPEN = ("/enter", "/static/", "/kinds.css", "/alive")

_wrong: dict[str, deque] = defaultdict(deque)
_noting, _hashing = threading.Lock(), threading.Lock()


def hashed(passphrase: str) -> str:
    """Return what is kept of a passphrase: its Argon2id hash."""
    return PasswordHasher().hash(passphrase)


def _kept() -> str:
    """The hash of the passphrase, empty where none is asked for."""
    path = os.environ.get("URST_PASSPHRASE", "")
    return Path(path).read_text().strip() if path else ""


def asks() -> bool:
    """Whether a passphrase is asked for."""
    return bool(os.environ.get("URST_PASSPHRASE", ""))


def may(request: Request) -> bool:
    """Whether who asks may have what they ask for."""
    if not asks() or request.url.path.startswith(_OPEN):
        return True
    return _holds(request.cookies.get(COOKIE, ""))


def _session() -> str:
    """A new session: until when it holds, signed with the passphrase's hash, so that it outlasts the server and ends
    with the passphrase."""
    payload = f"{time.time() + STAYS:.0f}.{secrets.token_urlsafe(16)}"
    return f"{payload}.{_signed(payload)}"


def _signed(payload: str) -> str:
    return hmac.new(_kept().encode(), payload.encode(), "sha256").hexdigest()


def _holds(session: str) -> bool:
    payload, _, sign = session.rpartition(".")
    until = payload.partition(".")[0]
    if not _kept() or not hmac.compare_digest(sign.encode(), _signed(payload).encode()):
        return False
    return until.isdigit() and int(until) > time.time()


def _noted(who: str) -> float | None:
    """Note a try, which counts as wrong until it is found right; None if there were too many."""
    with _noting:
        if _too_many(who):
            return None
        now = time.monotonic()
        _wrong[who].append(now)
        return now


def _was_right(who: str, noted: float) -> None:
    with _noting, contextlib.suppress(ValueError):
        _wrong[who].remove(noted)


def _too_many(who: str) -> bool:
    now = time.monotonic()
    for times in _wrong.values():
        while times and now - times[0] > _WITHIN:
            times.popleft()
    for name in [n for n, times in _wrong.items() if not times]:
        del _wrong[name]
    return len(_wrong.get(who, ())) >= _MOST or sum(map(len, _wrong.values())) >= _MOST_OF_ALL


@router.get("/enter")
def ask(request: Request) -> Response:
    """The page that asks for the passphrase."""
    return page(request, "enter.html", message="")


@router.post("/enter")
def enter(request: Request, passphrase: str = Form("", max_length=1000)) -> Response:
    """Let in who knows the passphrase."""
    who = request.client.host if request.client else ""
    noted = _noted(who)
    if noted is None:
        return page(request, "enter.html", 429, message="Too many wrong passphrases: wait a minute, then try again.")
    try:
        # each takes much memory: one after the other
        with _hashing:
            PasswordHasher().verify(_kept(), passphrase)
    except (VerificationError, InvalidHashError):
        return page(request, "enter.html", 403, message="That is not the passphrase.")
    _was_right(who, noted)
    reply = RedirectResponse("/", 303)
    reply.set_cookie(COOKIE, _session(), max_age=int(STAYS), httponly=True, samesite="strict")
    return reply
