"""This against before: earlier results of a shot, and versions kept by name."""

from typing import Any

from fastapi import APIRouter, Form, Request, Response

from urst.db import shots, versions
from urst.db.engine import session
from urst.errors import BadValue
from urst.shot.compare import differences
from urst.shot.document import Shot
from urst.web import movies, recipe, request_context, state
from urst.web.templates import page

router = APIRouter(prefix="/shots/{shot_id}")

#: differences listed at most
_MOST_LISTED = 12


def _described(before: Shot, now: Shot) -> list[str]:
    """Differences in words: 'Fall · Tension 0.35 → 0.3 MPa'."""
    found = [recipe.difference(d, before, now) for d in differences(before, now)]
    more = len(found) - _MOST_LISTED
    return found[:_MOST_LISTED] + ([f"and {more} more"] if more > 0 else [])


@router.get("/before")
def before(shot_id: str, quality: str = "shot") -> dict[str, Any]:
    """The latest earlier state of which something else is on disk, and what differs."""
    with session() as db:
        kept = shots.get(db, shot_id)
        number = state.revision_before(db, kept, quality)
        if number is None:
            raise BadValue("No earlier result of these layers is on disk: bake, change a setting, and bake again.")
        earlier = versions.at(db, shot_id, f"r{number}")
    return {"at": f"r{number}", "name": "before", "differs": _described(earlier, kept.shot)}


@router.get("/versions/{number}/seen")
def seen(shot_id: str, number: int) -> dict[str, Any]:
    """A version against the document as it stands."""
    with session() as db:
        kept = shots.get(db, shot_id)
        earlier = versions.at(db, shot_id, f"v{number}")
    return {"at": f"v{number}", "name": f"version {number}", "differs": _described(earlier, kept.shot)}


@router.get("/versions")
def listed(request: Request, shot_id: str) -> Response:
    """The list of versions."""
    with session() as db:
        kept, every = shots.get(db, shot_id), versions.every(db, shot_id)
        made = {v.number: movies.of_version(shot_id, v.number) for v in every}
        return page(request, "versions.html", kept=kept, versions=every, movies=made)


@router.post("/versions")
def keep(request: Request, shot_id: str, name: str = Form("")) -> Response:
    """Keep the document as it stands."""
    with session() as db:
        versions.keep(db, shot_id, name)
    return listed(request, shot_id)


@router.post("/versions/{number}/name")
def rename(request: Request, shot_id: str, number: int, name: str = Form("")) -> Response:
    """Give a version another name."""
    with session() as db:
        versions.rename(db, shot_id, number, name)
    return listed(request, shot_id)


@router.post("/versions/{number}/forget")
def forget(request: Request, shot_id: str, number: int) -> Response:
    """Take a version out of the list."""
    with session() as db:
        versions.forget(db, shot_id, number)
    return listed(request, shot_id)


@router.post("/versions/{number}/back")
def go_back(shot_id: str, number: int) -> dict[str, Any]:
    """Put a version in force, as a change that can be undone."""
    with session() as db:
        kept, earlier = shots.get(db, shot_id, to_change=True), versions.at(db, shot_id, f"v{number}")
        if earlier != kept.shot:
            shots.change(db, shot_id, earlier, f"back to version {number}", request_context.by())
    return {"version": number}
