"""The list of layers: added, copied, named, put in another order, linked and taken out."""

from collections.abc import Callable
from typing import Any

from fastapi import APIRouter, Form, Request, Response

from urst.db import shots
from urst.db.engine import session
from urst.errors import BadValue
from urst.shot import giving, layers
from urst.shot.document import Shot
from urst.web import recipe, request_context
from urst.web.bench import recipe_page
from urst.web.changes import put

router = APIRouter(prefix="/shots/{shot_id}")


def _changed(shot_id: str, what: str, change: Callable[..., Any]) -> dict[str, str]:
    """Put a changed list in force; `change` returns the shot, or the shot and a layer's id."""
    with session() as db:
        kept = shots.get(db, shot_id, to_change=True)
        shot, layer_id = change(kept.shot)
        if shot != kept.shot:
            shots.change(db, shot_id, shot, what, request_context.by())
    return {"layer": layer_id}


@router.post("/layers")
def add(shot_id: str, kind: str = Form()) -> dict[str, Any]:
    """Add a layer of a kind."""
    return _changed(shot_id, f"add a {kind} layer", lambda shot: layers.added(shot, kind))


@router.post("/layers/{layer_id}/copy")
def copy(shot_id: str, layer_id: str) -> dict[str, Any]:
    """Put a copy of a layer after it."""
    return _changed(shot_id, f"copy {layer_id}", lambda shot: layers.copied(shot, layer_id))


@router.post("/layers/{layer_id}/remove")
def remove(shot_id: str, layer_id: str) -> dict[str, Any]:
    """Take a layer out; the one that then stands in its place is named."""

    def change(shot: Shot) -> tuple[Shot, str]:
        left = layers.removed(shot, layer_id)
        at = [x.id for x in shot.layers].index(layer_id)
        return left, left.layers[min(at, len(left.layers) - 1)].id if left.layers else ""

    return _changed(shot_id, f"remove {layer_id}", change)


@router.post("/layers/{layer_id}/move")
def move(shot_id: str, layer_id: str, to: int = Form()) -> dict[str, Any]:
    """Put a layer at another place in the list."""
    return _changed(shot_id, f"move {layer_id}", lambda shot: (layers.moved(shot, layer_id, to), layer_id))


@router.post("/layers/{layer_id}/about")
def describe(request: Request, shot_id: str, layer_id: str, path: str = Form(), value: str = Form("")) -> Response:
    """Change a layer's name or its note."""
    with session() as db:
        kept = shots.get(db, shot_id, to_change=True)
        layer = kept.shot.layer(layer_id)
        place = ("layers", kept.shot.layers.index(layer))
        kept, fault = put(db, kept, layer, recipe.LAYER_QUESTIONS, place, path, value)
        return recipe_page(request, kept, layer_id, fault)


@router.post("/layers/{layer_id}/give")
def give(request: Request, shot_id: str, layer_id: str, path: str = Form(""), to: list[str] = Form(())) -> Response:
    """Give a setting, or the whole recipe, to other layers of the kind."""
    what = f"give {path or 'the recipe'} of {layer_id}"
    _changed(shot_id, what, lambda shot: (giving.given(shot, layer_id, path, to), layer_id))
    with session() as db:
        return recipe_page(request, shots.get(db, shot_id), layer_id)


@router.post("/layers/{layer_id}/reads")
def link(request: Request, shot_id: str, layer_id: str, other: str = Form(), value: str = Form()) -> Response:
    """Let a layer read another, or no longer."""
    if value not in ("on", "off"):
        raise BadValue(f"'{value}' is neither on nor off.")
    _changed(shot_id, f"link {layer_id}", lambda shot: (layers.linked(shot, layer_id, other, value == "on"), layer_id))
    with session() as db:
        return recipe_page(request, shots.get(db, shot_id), layer_id)
