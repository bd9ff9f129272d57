"""Who asks for a change, and which revision of the shot they have before them."""

import re
import secrets
from contextvars import ContextVar

from fastapi import Request

#: the cookie that tells one browser from another; it says nothing about who sits there
COOKIE = "urst-editor"
_EDITOR = re.compile(r"[A-Za-z0-9_-]{8,32}")

_by: ContextVar[str] = ContextVar("by", default="")
_seen: ContextVar[int | None] = ContextVar("seen", default=None)


def take(request: Request) -> str:
    """Note who asks and what they have seen, for the time of a request; return the cookie to be set, empty if they
    have it."""
    known = request.cookies.get(COOKIE, "")
    by = known if _EDITOR.fullmatch(known) else secrets.token_urlsafe(12)
    _by.set(by)
    number = request.headers.get("urst-revision", "")
    _seen.set(int(number) if number and sound(request) else None)
    return "" if by == known else by


def sound(request: Request) -> bool:
    """Whether a request that tells a revision tells a number."""
    return re.fullmatch("[0-9]{0,18}", request.headers.get("urst-revision", "")) is not None


def by() -> str:
    """Return who asks."""
    return _by.get()


def seen() -> int | None:
    """Return the revision that who asks has before them, None if they do not say."""
    return _seen.get()
