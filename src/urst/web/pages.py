"""The pages around the bench: shots and queue, and what is brought in from files."""

import asyncio
import logging
import re
import shutil
import tempfile
from datetime import UTC, datetime
from itertools import chain, count
from pathlib import Path, PurePath
from typing import Any

from fastapi import APIRouter, Request, Response, UploadFile
from fastapi.responses import FileResponse, JSONResponse, RedirectResponse
from sqlalchemy.orm import Session

from urst.core.geometry.rotation import degrees
from urst.db import runs, shots
from urst.db.engine import session
from urst.formats import apart
from urst.formats.trajectory import Trajectory
from urst.scene.shapes import Imported
from urst.shot import document
from urst.shot.document import parse
from urst.shot.keys import layer_keys
from urst.shot.starter import starter
from urst.web import cards, request_context
from urst.web.picture import outline
from urst.web.store import store
from urst.web.templates import page

router = APIRouter()
log = logging.getLogger("urst.web")

#: largest upload [bytes]
MOST_UPLOAD = 128 * 2**20


#: letters of a part's name that are kept; a number may come after it
_LONGEST_NAME = 70


@router.get("/")
def shot_list(request: Request) -> Response:
    """All shots."""
    disk = store()
    return page(request, "shots.html", cards=cards.listed(disk), free=disk.free_bytes())


@router.get("/queue")
def queue_page(request: Request) -> Response:
    """Running and waiting work."""
    return page(request, "queue.html", **_queue())


@router.get("/queue/table")
def queue_table(request: Request) -> Response:
    """The part of the queue page that changes."""
    return page(request, "queue_table.html", **_queue())


def _queue() -> dict[str, Any]:
    with session() as db:
        rows = runs.latest(db)
        names = shots.names(db)
    return {"rows": rows, "names": names, "now": datetime.now(UTC)}


@router.post("/queue/{run_id}/stop")
def stop_run(request: Request, run_id: int) -> Response:
    """Stop one run."""
    with session() as db:
        runs.request_stop(db, run_id)
    return page(request, "queue_table.html", **_queue())


@router.post("/shots/import")
def import_shot(file: UploadFile) -> Response:
    """Add a shot from a *.shot.json."""
    shot = document.loads(file.file.read(), file.filename or "the file")
    with session() as db:
        return RedirectResponse(f"/shots/{shots.add(db, shot, request_context.by())}", 303)


@router.get("/shots/{shot_id}/file")
def export_shot(shot_id: str) -> Response:
    """The shot as a *.shot.json."""
    with session() as db:
        name, text = shots.document_text(db, shot_id)
    name = re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-") or "shot"
    headers = {"Content-Disposition": f'attachment; filename="{name}.shot.json"'}
    return Response(text, media_type="application/json", headers=headers)


@router.get("/shots/{shot_id}/picture")
def picture(shot_id: str) -> Response:
    """What was baked of a shot, else the set as it stands, through its camera."""
    with session() as db:
        shot = shots.get(db, shot_id).shot
    kept = store().path_beside(layer_keys(shot)[shot.layers[-1].id], "card.png") if shot.layers else None
    if kept:
        return FileResponse(kept, headers={"Cache-Control": "no-cache"})
    return Response(outline(shot), media_type="image/svg+xml", headers={"Cache-Control": "no-cache"})


def _free_name(db: Session, name: str) -> str:
    """The name, with a number if another shot has it."""
    taken = set(shots.names(db).values())
    return next(n for n in (name, *(f"{name} {i}" for i in range(2, 10_000))) if n not in taken)


@router.post("/shots/new")
def new_shot() -> Response:
    """A shot to begin with."""
    with session() as db:
        return RedirectResponse(
            f"/shots/{shots.add(db, starter(_free_name(db, 'Untitled')), request_context.by())}", 303
        )


@router.post("/shots/{shot_id}/copy")
def copy_shot(shot_id: str) -> Response:
    """A second shot that starts as this one; it finds the same bakes."""
    with session() as db:
        shot = shots.get(db, shot_id).shot
        copy = parse(shot.model_dump(mode="json") | {"name": _free_name(db, shot.name)})
        return RedirectResponse(f"/shots/{shots.add(db, copy, request_context.by())}", 303)


@router.post("/shots/{shot_id}/delete")
def delete_shot(shot_id: str) -> Response:
    """Delete a shot; its bakes stay in the store."""
    with session() as db:
        for run in runs.open_of(db, shot_id):
            runs.request_stop(db, run.id)
        shots.remove(db, shot_id)
    return RedirectResponse("/", 303)


@router.post("/shots/{shot_id}/meshes")
async def import_meshes(request: Request, shot_id: str, file: UploadFile) -> Response:
    """Add set pieces from a mesh file, one for each named group or node."""
    name = _file_name(file.filename)
    rate = await asyncio.to_thread(_rate, shot_id)
    with tempfile.NamedTemporaryFile() as kept:
        await asyncio.to_thread(shutil.copyfileobj, file.file, kept)
        kept.flush()
        parts = await apart.read(Path(kept.name), name, rate, request.is_disconnected)
    stands = await asyncio.to_thread(_add_pieces, shot_id, name, parts)
    if request.headers.get("accept", "").startswith("application/json"):
        return JSONResponse({"message": _told(stands)}, 201)
    return RedirectResponse(f"/shots/{shot_id}", 303)


def _told(stands: list[tuple[str, str]]) -> str:
    """What is said of parts that can only stand, by name and cause; empty if there is none."""
    if not stands:
        return ""
    name, why = stands[0]
    more = f" So do {len(stands) - 1} more." if len(stands) > 1 else ""
    return f"'{name}' is fixed. {why}{more}"


def _file_name(name: str | None) -> str:
    """What a file is called, as a sentence and a process may be told."""
    path = PurePath("".join(c for c in name or "" if c.isprintable()))
    return f"{path.stem[:_LONGEST_NAME]}{path.suffix[:10]}" or "the file"


def _rate(shot_id: str) -> float:
    with session() as db:
        return shots.get(db, shot_id).shot.rate


def _add_pieces(shot_id: str, file: str, parts: list[apart.Part]) -> list[tuple[str, str]]:
    """Add a piece a part; return the names of those that can only stand, and why."""
    with session() as db:
        shot = shots.get(db, shot_id, to_change=True).shot
        taken = {p.name for p in shot.pieces}
        added, stands = [], []
        for part in parts:
            # a file calls its parts what it likes
            name = "".join(c for c in part.name if c.isprintable()).strip()[:_LONGEST_NAME] or "part"
            unique = next(n for n in chain([name], (f"{name} {i}" for i in count(2))) if n not in taken)
            taken.add(unique)
            shape = Imported.from_mesh(part.mesh, file)
            # what is no sound solid can only stand
            motion = "driven" if part.trajectory else "loose" if not part.fault else "fixed"
            if motion == "fixed":
                stands.append((unique, part.fault))
            keys = _keys(part.trajectory, shot) if part.trajectory else []
            added.append({"name": unique, "shape": shape.model_dump(mode="json"), "motion": motion, "keys": keys})
        pieces = [p.model_dump(mode="json") for p in shot.pieces] + added
        shots.change(
            db,
            shot_id,
            parse(shot.model_dump(mode="json") | {"pieces": pieces}),
            f"import {file}",
            request_context.by(),
        )
    return stands


def _keys(trajectory: Trajectory, shot: document.Shot) -> list[dict[str, Any]]:
    turns = degrees(trajectory.turns)
    return [
        {"frame": shot.start + k, "position": place, "rotation": turn, "going": "straight"}
        for k, (place, turn) in enumerate(zip(trajectory.places.tolist(), turns.tolist()))
    ]
