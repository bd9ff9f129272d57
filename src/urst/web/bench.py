"""The bench: one shot, its layers, its recipe, and what is asked of the queue."""

import asyncio
from collections.abc import Callable
from dataclasses import replace
from itertools import count
from typing import Annotated, Any, Literal

from fastapi import APIRouter, Depends, Form, Request, Response
from fastapi.responses import FileResponse, JSONResponse
from sqlalchemy.orm import Session

from urst.core.coupling.exchanges import pair_of
from urst.db import runs, shots, versions
from urst.db.engine import session
from urst.errors import BadValue
from urst.handover.forms import FORMS, folder
from urst.jobs import queue
from urst.kinds.kind import Kind
from urst.kinds.questions import Field, Question
from urst.kinds.registry import KINDS
from urst.scene.values import without_entry
from urst.shot.document import Shot
from urst.shot.forecast import forecast
from urst.shot.graph import dependents
from urst.shot.keys import layer_keys
from urst.shot.layers import readable
from urst.shot.plan import plan
from urst.shot.preflight import mended
from urst.shot.quality import of_quality, until
from urst.web import health, merge, recipe, request_context, state
from urst.web.changes import put, save
from urst.web.data import set_meta
from urst.web.store import store
from urst.web.templates import page

router = APIRouter(prefix="/shots/{shot_id}")


def _chosen(shot: Shot, layer_id: str) -> Any:
    if layer_id and any(x.id == layer_id for x in shot.layers):
        return shot.layer(layer_id)
    return shot.layers[min(1, len(shot.layers) - 1)] if shot.layers else None


@router.get("")
def bench(request: Request, shot_id: str, layer: str = "") -> Response:
    """The main screen."""
    with session() as db:
        kept = shots.get(db, shot_id)
    chosen = _chosen(kept.shot, layer)
    names = " ".join(f"{k.name}:{k.title}" for k in KINDS.values())
    return page(request, "bench.html", shot=kept.shot, kind_names=names, **_recipe_values(kept, chosen))


def _recipe_values(kept: shots.Kept, layer: Any, fault: dict[str, Any] | None = None) -> dict[str, Any]:
    shot = kept.shot
    if layer is None:
        return {"kept": kept, "layer": None, "kinds": list(KINDS.values())}
    kind = shot.kind_of(layer)
    partners = {x.id for x, _, _ in shot.partners(layer)}
    alike = [x for x in shot.layers if x.kind == layer.kind and x.id != layer.id]
    return {
        "kept": kept,
        "layer": layer,
        "kind": kind,
        "questions": recipe.rows(layer.settings, kind.questions, shot, layer.id),
        "couplings": [
            (i, rows)
            for i, (c, (_, rows)) in enumerate(
                zip(shot.couplings, recipe.rows(shot, recipe.coupling_questions(shot), shot))
            )
            if layer.id in (c.first, c.second)
        ],
        "couplable": [x for x in shot.layers if x.id not in {layer.id, *partners} and _can_couple(shot, layer, x)],
        "startable": [x for x in shot.layers if x.id != layer.id and x.kind == layer.kind] if kind.moving else [],
        "lists": [
            (q, rows, len(getattr(layer.settings, q.entries)), recipe.asked(layer.settings, q, shot))
            for q, (_, rows) in zip(kind.questions, recipe.rows(layer.settings, kind.questions, shot, layer.id))
            if q.entries
        ],
        "notes": kind.notes(shot, layer, health.first_gauges(shot, layer)),
        "post": f"/shots/{kept.id}/recipe/{layer.id}",
        "readable": readable(shot, layer.id),
        "alike": alike,
        "givable": _givable(kind, layer, alike),
        "kinds": list(KINDS.values()),
        "layer_post": f"/shots/{kept.id}/layers/{layer.id}",
        "after": [shot.layer(x).name for x in dependents(shot, layer.id)],
        "cost": forecast(shot, layer.id),
        "fault": fault,
    }


def _givable(kind: Kind, layer: Any, alike: list[Any]) -> list[Field]:
    """The settings that others of its kind can be given; of entries of a list, where theirs have the same names."""
    found = []
    for field in (f for q in recipe.spread(layer.settings, kind.questions) for f in q.fields):
        place, *rest = field.path.split(".")
        if place in kind.own:
            continue
        if len(rest) < 2 or not rest[0].isdigit():
            found.append(field)
            continue
        names = [[getattr(e, "name", None) for e in getattr(x.settings, place)] for x in (layer, *alike)]
        if rest[1] != "name" and names[0][0] is not None and all(n == names[0] for n in names):
            found.append(replace(field, label=f"{names[0][int(rest[0])]}: {field.label}"))
    return found


def _can_couple(shot: Shot, first: Any, second: Any) -> bool:
    return pair_of(shot.kind_of(first).ports, shot.kind_of(second).ports) is not None


@router.get("/recipe")
def get_first_recipe(request: Request, shot_id: str) -> Response:
    """The recipe of the layer that is worked on first, or what to begin with where there is none."""
    with session() as db:
        kept = shots.get(db, shot_id)
    return page(request, "recipe.html", **_recipe_values(kept, _chosen(kept.shot, "")))


@router.get("/recipe/{layer_id}")
def get_recipe(request: Request, shot_id: str, layer_id: str) -> Response:
    """The recipe of a layer."""
    with session() as db:
        kept = shots.get(db, shot_id)
    return page(request, "recipe.html", **_recipe_values(kept, kept.shot.layer(layer_id)))


@router.post("/recipe/{layer_id}")
def set_field(request: Request, shot_id: str, layer_id: str, path: str = Form(), value: str = Form("")) -> Response:
    """Change one setting; a value that does not fit leaves the document as it was and says why."""
    with session() as db:
        kept = shots.get(db, shot_id, to_change=True)
        layer = kept.shot.layer(layer_id)
        questions = kept.shot.kind_of(layer).questions
        follow = lambda data, before, now: _follow_name(kept, layer_id, data, path, before, now)  # noqa: E731
        kept, fault = put(db, kept, layer.settings, questions, _place(kept, layer_id), path, value, follow, layer_id)
    return recipe_page(request, kept, layer_id, fault)


def _follow_name(kept: shots.Kept, layer_id: str, data: dict[str, Any], path: str, before: Any, now: Any) -> None:
    """Let the layer follow where the name of an entry of one of its lists has been changed."""
    place, _, last = path.split(".") if path.count(".") == 2 else ("", "", "")
    if last == "name":
        layer = next(x for x in data["layers"] if x["id"] == layer_id)
        kept.shot.kind_of(kept.shot.layer(layer_id)).follow_name(layer, place, before, now)


def _place(kept: shots.Kept, layer_id: str) -> tuple[str, int, str]:
    return ("layers", [x.id for x in kept.shot.layers].index(layer_id), "settings")


def recipe_page(request: Request, kept: shots.Kept, layer_id: str, fault: dict[str, Any] | None = None) -> Response:
    """The recipe of a layer after a change, or with what was wrong."""
    status = 409 if fault and fault["conflict"] else 200
    reply = page(request, "recipe.html", status, **_recipe_values(kept, kept.shot.layer(layer_id), fault))
    if not fault:
        reply.headers["HX-Trigger"] = "shot-changed"
    return reply


def _changed(request: Request, shot_id: str, layer_id: str, what: str, change: Callable[..., Any]) -> Response:
    """Change a layer's part of the document, given what finds an entry again, the document's data and the layer's."""
    with session() as db:
        kept = shots.get(db, shot_id, to_change=True)
        data = kept.shot.model_dump(mode="json")
        number = [x.id for x in kept.shot.layers].index(kept.shot.layer(layer_id).id)
        change(lambda *place: merge.unchanged(db, kept, place[:-1], place[-1]), data, data["layers"][number])
        kept = save(db, kept, data, what)
    return recipe_page(request, kept, layer_id)


def _question(shot: Shot, layer_id: str, place: str) -> Question:
    """The question about one of a layer's lists."""
    questions = shot.kind_of(shot.layer(layer_id)).questions
    found = next((q for q in questions if place and q.entries == place), None)
    if found is None:
        raise BadValue(f"'{place}' is no list of this layer.")
    return found


async def _words(request: Request) -> dict[str, str]:
    """What a form says, whatever its fields are."""
    return {name: str(value) for name, value in (await request.form()).items()}


@router.post("/recipe/{layer_id}/entries/{place}")
def add_entry(
    request: Request, shot_id: str, layer_id: str, place: str, words: Annotated[dict[str, str], Depends(_words)]
) -> Response:
    """Add an entry to one of the layer's lists, such as a source, with what was chosen for it."""

    def change(_: Callable[..., Any], data: dict[str, Any], layer: dict[str, Any]) -> None:
        question = _question(shot, layer_id, place)
        entry = {name: words[name] for name in question.asks if name in words}
        entries = layer["settings"][place]
        if any(f.path == f"{place}.*.name" for f in question.fields):
            taken = {x["name"] for x in entries}
            pattern = question.named or f"{question.noun} {{number}}"
            names = (pattern.format(number=k, **entry) for k in count(1))
            entry["name"] = next(n for n in names if n not in taken)
        entries.append(entry)

    with session() as db:
        shot = shots.get(db, shot_id).shot
        noun = _question(shot, layer_id, place).noun
    return _changed(request, shot_id, layer_id, f"{noun} {' '.join(words.values())}", change)


@router.post("/recipe/{layer_id}/entries/{place}/{number}/remove")
def remove_entry(request: Request, shot_id: str, layer_id: str, place: str, number: int) -> Response:
    """Take an entry away from one of the layer's lists."""
    with session() as db:
        shot = shots.get(db, shot_id).shot
        noun = _question(shot, layer_id, place).noun

    def change(again: Callable[..., Any], data: dict[str, Any], layer: dict[str, Any]) -> None:
        at = again("layers", data["layers"].index(layer), "settings", place, number)
        if not 0 <= at < len(layer["settings"].get(place, [])):
            raise BadValue(f"There is no {noun} no. {number + 1}: look at the list again.")
        gone = layer["settings"][place].pop(at)
        if "name" in gone:
            shot.kind_of(shot.layer(layer_id)).follow_name(layer, place, gone["name"], "")
        data["uses"] = without_entry(data["uses"], layer_id, place, at)

    return _changed(request, shot_id, layer_id, f"remove {noun}", change)


@router.post("/recipe/{layer_id}/keeps")
def keep_quantity(request: Request, shot_id: str, layer_id: str, name: str = Form(), value: str = Form()) -> Response:
    """Let frames hold a quantity, or not."""

    def change(_again: Callable[..., Any], _: dict[str, Any], layer: dict[str, Any]) -> None:
        others = [n for n in layer["keeps"] if n != name]
        layer["keeps"] = sorted([*others, name]) if value == "on" else others

    return _changed(request, shot_id, layer_id, f"keep {name}", change)


@router.post("/recipe/{layer_id}/start")
def set_start(request: Request, shot_id: str, layer_id: str, of: str = Form(""), frame: str = Form("")) -> Response:
    """Let a layer begin from a frame of another bake; an empty name lets it begin at rest."""

    def change(_: Callable[..., Any], data: dict[str, Any], layer: dict[str, Any]) -> None:
        if not of.strip():
            layer["start"] = None
            return
        if frame.strip() and not frame.strip().lstrip("-").isdigit():
            raise BadValue(f"Frame: '{frame}' is not a whole number.")
        layer["start"] = {"of": of.strip(), "frame": int(frame) if frame.strip() else data["end"]}

    return _changed(request, shot_id, layer_id, "start", change)


@router.post("/recipe/{layer_id}/couplings")
def couple(request: Request, shot_id: str, layer_id: str, other: str = Form()) -> Response:
    """Let two layers act on each other."""
    return _changed(
        request,
        shot_id,
        layer_id,
        f"couple {layer_id} and {other}",
        lambda _again, data, _: data["couplings"].append({"first": layer_id, "second": other}),
    )


@router.post("/recipe/{layer_id}/couplings/{number}")
def set_coupling(
    request: Request, shot_id: str, layer_id: str, number: int, path: str = Form(), value: str = Form("")
) -> Response:
    """Change how strongly one layer acts on another."""
    with session() as db:
        kept = shots.get(db, shot_id, to_change=True)
        kept, fault = put(db, kept, kept.shot, recipe.coupling_questions(kept.shot), (), path, value)
    return recipe_page(request, kept, layer_id, fault)


@router.post("/recipe/{layer_id}/couplings/{number}/remove")
def uncouple(request: Request, shot_id: str, layer_id: str, number: int) -> Response:
    """Let two layers no longer act on each other."""

    def change(again: Callable[..., Any], data: dict[str, Any], _: dict[str, Any]) -> None:
        at = again("couplings", number)
        if not 0 <= at < len(data["couplings"]):
            raise BadValue(f"There is no coupling no. {number + 1}: look at the list again.")
        del data["couplings"][at]

    return _changed(request, shot_id, layer_id, "uncouple", change)


@router.get("/state")
def get_state(shot_id: str, quality: str = "shot", at: str = "") -> Response:
    """The health of every layer at a quality, gauges, findings and runs; `at`: of an earlier state instead."""
    if not at:
        return Response(state.current(shot_id, quality), media_type="application/json")
    with session() as db:
        return JSONResponse(state.summary(db, _as_it_was(db, shot_id, at), quality))


@router.get("/stage")
def get_stage(shot_id: str, quality: str = "shot", at: str = "") -> Response:
    """What the stage must know of the set, as it is or was."""
    with session() as db:
        return JSONResponse(set_meta(of_quality(_as_it_was(db, shot_id, at).shot, quality)))


def _as_it_was(db: Session, shot_id: str, at: str) -> shots.Kept:
    kept = shots.get(db, shot_id, to_change=True)
    return replace(kept, shot=versions.at(db, shot_id, at)) if at else kept


@router.post("/bake/{layer_id}")
def bake(
    shot_id: str, layer_id: str, quality: str = Form("shot"), to: int | None = Form(None), instead: bool = Form(False)
) -> dict[str, Any]:
    """Queue a layer, what it reads where that is not fresh, and what depends on it.

    to : the last frame that is baked now
    instead : stop what is under way, rather than refuse
    """
    with session() as db:
        shot = shots.get(db, shot_id).shot
        grave = [f for f in state.findings(shot, {}) if f.grave]
        if grave:
            raise BadValue(grave[0].title)
        under_way = runs.open_of(db, shot_id)
        if under_way and not instead:
            raise BadValue("A bake of this shot is under way: stop it first, or let it end.")
        shot = of_quality(shot, quality)
        shot = shot if to is None else until(shot, to)
        wanted = [layer_id, *dependents(shot, layer_id)]
        plan(shot, wanted)
        for run in under_way:
            runs.request_stop(db, run.id)
    return {"run": queue.submit(shot_id, shot, wanted, urgent=quality == "draft")}


@router.post("/stop")
def stop(shot_id: str) -> dict[str, Any]:
    """Stop the shot's runs."""
    with session() as db:
        for run in runs.open_of(db, shot_id):
            runs.request_stop(db, run.id)
    return {"stopping": True}


@router.post("/history/{way}")
def history(shot_id: str, way: Literal["undo", "redo"]) -> dict[str, Any]:
    """Undo or redo; what somebody else did is said to be so."""
    with session() as db:
        step = shots.step(db, shot_id, back=way == "undo")
    elsewhere = bool(step and step.by and step.by != request_context.by())
    return {"moved": step is not None, "what": step.what if step else "", "elsewhere": elsewhere}


@router.post("/mend/{name}")
def mend(shot_id: str, name: str, quality: str = Form("shot")) -> dict[str, Any]:
    """Apply the mend of a finding, of those told at a quality; see `state.name_of`."""
    with session() as db:
        kept = shots.get(db, shot_id, to_change=True)
        summary = state.summary(db, kept, quality)
        gauges = {
            x["id"]: {f: {n: v[i] for n, v in x["gauges"].items()} for i, f in enumerate(x["frames"])}
            for x in summary["layers"]
            if x["state"] in ("fresh", "partial")
        }
        found = state.findings(kept.shot, gauges)
        meant = next((f for f in found if f.changes and state.name_of(f) == name), None)
        if meant is None:
            raise BadValue("This finding is not there any more, or not as it was: look at the list again.")
        shots.change(db, shot_id, mended(kept.shot, meant), meant.fix, request_context.by())
    return {"mended": meant.fix}


@router.post("/accepted")
def accept(shot_id: str, known: str = Form(), layer: str = Form(""), reason: str = Form("")) -> dict[str, Any]:
    """Accept a finding, told by its title without numbers, for a reason; without one it is open again."""
    with session() as db:
        kept = shots.get(db, shot_id, to_change=True)
        data = kept.shot.model_dump(mode="json")
        one = {"layer": layer or None, "finding": known}
        data["accepted"] = [a for a in data["accepted"] if {k: a[k] for k in one} != one]
        if reason.strip():
            data["accepted"].append(one | {"reason": reason.strip()})
        save(db, kept, data, "accept a finding" if reason.strip() else "open a finding again")
    return {"accepted": bool(reason.strip())}


@router.post("/handover")
def hand_over(shot_id: str, what: list[str] = Form()) -> dict[str, Any]:
    """Queue the writing of open formats."""
    with session() as db:
        shot = shots.get(db, shot_id).shot
    disk, keys = store(), layer_keys(shot)
    moving = [x for x in shot.layers if shot.kind_of(x).moving]
    missing = [x.name for x in moving if not set(shot.frames()) <= set(disk.frames(keys[x.id]))]
    if missing:
        raise BadValue(
            f"{', '.join(missing)} {'is' if len(missing) == 1 else 'are'} not baked to the last frame: bake first."
        )
    return {"run": queue.submit(shot_id, shot, what, "handover")}


@router.get("/handover")
async def handed_over(request: Request, shot_id: str) -> Response:
    """What was handed over so far."""
    return await asyncio.to_thread(_handover_page, request, shot_id)


def _handover_page(request: Request, shot_id: str) -> Response:
    with session() as db:
        kept = shots.get(db, shot_id)
        last = runs.last_of(db, shot_id)
    out = folder(store().root, shot_id)
    files = sorted(p for p in out.rglob("*") if p.is_file()) if out.is_dir() else []
    listed = [(p.relative_to(out).as_posix(), p.stat().st_size) for p in files]
    folders: dict[str, list] = {}
    for name, size in listed:
        if "/" in name:
            folders.setdefault(name.rsplit("/", 1)[0], []).append((name, size))
    return page(
        request,
        "handover.html",
        kept=kept,
        files=listed,
        folders=folders.items(),
        forms=_fitting(kept.shot),
        last=last if last and last.kind == "handover" else None,
    )


def _fitting(shot: Shot) -> dict[str, tuple[str, str]]:
    """The formats that some layer of the shot is handed over in."""
    some = {form for x in shot.layers for form in shot.kind_of(x).hands_over} | {"movie"}
    return {name: text for name, text in FORMS.items() if name in some}


@router.get("/handover/{name:path}")
def download(shot_id: str, name: str) -> Response:
    """One handed-over file."""
    with session() as db:
        shots.get(db, shot_id)
    out = folder(store().root, shot_id).resolve()
    try:
        path = (out / name).resolve()
        there = path.is_relative_to(out) and path.is_file()
    except OSError:
        # a name that no disk takes
        there = False
    if not there:
        raise BadValue(f"There is no file '{name[:80]}': hand it over first.")
    kind = "video/mp4" if path.suffix == ".mp4" else "application/octet-stream"
    return FileResponse(path, media_type=kind, filename=path.name)
