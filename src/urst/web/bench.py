"""The bench: one shot, its layers, its recipe, and what is asked of the queue."""

import asyncio

from fastapi import APIRouter, Form, Request, Response
from fastapi.responses import JSONResponse

from urst.db import runs, shots
from urst.db.engine import session
from urst.errors import BadValue
from urst.jobs import queue
from urst.shot.forecast import forecast
from urst.shot.keys import layer_keys
from urst.shot.plan import dependents, plan
from urst.shot.preflight import mended
from urst.web import recipe, state
from urst.web.changes import put
from urst.web.data import set_meta
from urst.web.templates import page

router = APIRouter(prefix="/shots/{shot_id}")


def _chosen(shot, layer_id):
    if not shot.layers:
        raise BadValue("This shot has no layers: load the demo, or import a shot file that has some.")
    return shot.layer(layer_id) if layer_id else shot.layers[min(1, len(shot.layers) - 1)]


@router.get("")
def bench(request: Request, shot_id: str, layer: str = ""):
    """The main screen."""
    with session() as db:
        kept = shots.get(db, shot_id)
    chosen = _chosen(kept.shot, layer)
    return page(request, "bench.html", shot=kept.shot, **_recipe_values(kept, chosen))


def _recipe_values(kept, layer, fault=None):
    shot = kept.shot
    unread = [x.name for x in shot.layers if x.id in {link.layer for link in layer.reads}]
    return {
        "kept": kept,
        "layer": layer,
        "questions": recipe.rows(layer.settings, recipe.QUESTIONS[layer.kind], shot),
        "notes": recipe.notes(shot, layer, state.first_gauges(shot, layer)),
        "post": f"/shots/{kept.id}/recipe/{layer.id}",
        "reads": unread,
        "after": [shot.layer(x).name for x in dependents(shot, layer.id)],
        "cost": forecast(shot, layer.id),
        "fault": fault,
    }


@router.get("/recipe/{layer_id}")
def get_recipe(request: Request, shot_id: str, layer_id: str):
    """The recipe of a layer."""
    with session() as db:
        kept = shots.get(db, shot_id)
    return page(request, "recipe.html", **_recipe_values(kept, kept.shot.layer(layer_id)))


@router.post("/recipe/{layer_id}")
def set_field(request: Request, shot_id: str, layer_id: str, path: str = Form(), value: str = Form("off")):
    """Change one setting; a value that does not fit leaves the document as it was and says why."""
    with session() as db:
        kept = shots.get(db, shot_id)
        layer = kept.shot.layer(layer_id)
        place = ("layers", [x.id for x in kept.shot.layers].index(layer_id), "settings")
        kept, fault = put(db, kept, layer.settings, recipe.QUESTIONS[layer.kind], place, path, value)
    reply = page(request, "recipe.html", **_recipe_values(kept, kept.shot.layer(layer_id), fault))
    if not fault:
        reply.headers["HX-Trigger"] = "shot-changed"
    return reply


@router.get("/state")
def get_state(shot_id: str):
    """The health of every layer, gauges, findings and runs."""
    with session() as db:
        return JSONResponse(state.summary(db, shots.get(db, shot_id)))


@router.get("/stage")
def get_stage(shot_id: str):
    """What the stage must know of the set."""
    with session() as db:
        return JSONResponse(set_meta(shots.get(db, shot_id).shot))


@router.post("/bake/{layer_id}")
def bake(shot_id: str, layer_id: str):
    """Queue a layer, what it reads where that is not fresh, and what depends on it."""
    with session() as db:
        shot = shots.get(db, shot_id).shot
        grave = [f for f in state.findings(shot, {}) if f.grave]
        if grave:
            raise BadValue(grave[0].title)
        if runs.open_of(db, shot_id):
            raise BadValue("A bake of this shot is under way: stop it first, or let it end.")
    wanted = [layer_id, *dependents(shot, layer_id)]
    plan(shot, wanted)
    return {"run": queue.submit(shot_id, shot, wanted)}


@router.post("/stop")
def stop(shot_id: str):
    """Stop the shot's runs."""
    with session() as db:
        for run in runs.open_of(db, shot_id):
            runs.request_stop(db, run.id)
    return {"stopping": True}


@router.post("/history/{way}")
def history(shot_id: str, way: str):
    """Undo or redo."""
    with session() as db:
        return {"moved": shots.step(db, shot_id, -1 if way == "undo" else 1)}


@router.post("/mend/{number}")
def mend(shot_id: str, number: int):
    """Apply the mend of a finding."""
    with session() as db:
        kept = shots.get(db, shot_id)
        summary = state.summary(db, kept)
        gauges = {
            x["id"]: {f: {n: v[i] for n, v in x["gauges"].items()} for i, f in enumerate(x["frames"])}
            for x in summary["layers"]
            if x["state"] in ("fresh", "partial")
        }
        found = state.findings(kept.shot, gauges)
        if number >= len(found) or not found[number].changes:
            raise BadValue("This finding is not there any more: look at the list again.")
        shots.change(db, shot_id, mended(kept.shot, found[number]), found[number].fix)
    return {"mended": found[number].fix}


@router.post("/handover")
def hand_over(shot_id: str, what: list[str] = Form()):
    """Queue the writing of open formats."""
    with session() as db:
        shot = shots.get(db, shot_id).shot
    disk, keys = state.store(), layer_keys(shot)
    missing = [x.name for x in shot.layers if x.kind != "break" and disk.frames(keys[x.id])[-1:] != [shot.end]]
    if missing:
        raise BadValue(
            f"{', '.join(missing)} {'is' if len(missing) == 1 else 'are'} not baked to the last frame: bake first."
        )
    return {"run": queue.submit(shot_id, shot, what, "handover")}


@router.get("/handover")
async def handed_over(request: Request, shot_id: str):
    """What was handed over so far."""
    return await asyncio.to_thread(_handover_page, request, shot_id)


def _handover_page(request, shot_id):
    with session() as db:
        kept = shots.get(db, shot_id)
        last = runs.last_of(db, shot_id)
    folder = _handover_folder(shot_id)
    files = sorted(p for p in folder.rglob("*") if p.is_file()) if folder.is_dir() else []
    listed = [(p.relative_to(folder).as_posix(), p.stat().st_size) for p in files]
    return page(
        request, "handover.html", kept=kept, files=listed, last=last if last and last.kind == "handover" else None
    )


def _handover_folder(shot_id):
    return state.store().root / "handover" / shot_id


@router.get("/handover/{name:path}")
def download(shot_id: str, name: str):
    """One handed-over file."""
    with session() as db:
        shots.get(db, shot_id)
    folder = _handover_folder(shot_id).resolve()
    path = (folder / name).resolve()
    if not path.is_relative_to(folder) or not path.is_file():
        raise BadValue(f"There is no file '{name}': hand it over first.")
    kind = "video/mp4" if path.suffix == ".mp4" else "application/octet-stream"
    return Response(
        path.read_bytes(), media_type=kind, headers={"Content-Disposition": f'attachment; filename="{path.name}"'}
    )
