"""Quick movies: what was in view, frame by frame, kept with the version it shows."""

import io
import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any
from uuid import uuid4

import numpy as np
from fastapi import APIRouter, Form, UploadFile
from PIL import Image, UnidentifiedImageError

from urst.db import shots, versions
from urst.db.engine import session
from urst.errors import BadFile
from urst.handover.forms import folder
from urst.web.store import store

router = APIRouter(prefix="/shots/{shot_id}")

#: largest upload, all pictures of a movie [bytes]
MOST_UPLOAD = 1024 * 2**20
#: sides of a picture and pictures of a movie, at most
_LARGEST, _MOST = 4096, 1000


def of_version(shot_id: str, number: int) -> list[str]:
    """Return the names of a version's movies, as they are downloaded."""
    place = folder(store().root, shot_id) / "movies"
    return sorted(f"movies/{p.name}" for p in place.glob(f"v{number}-*.mp4"))


@router.post("/movies")
def make(shot_id: str, pictures: list[UploadFile], first: int = Form(), quality: str = Form("shot")) -> dict[str, Any]:
    """Put pictures together as a movie; the shot as it stands becomes a version if it is none yet."""
    from urst.formats.movie import write_movie

    if not 0 < len(pictures) <= _MOST:
        raise BadFile(f"A movie has 1 to {_MOST} frames, not {len(pictures)}: choose a shorter range.")
    if quality not in ("shot", "draft"):
        raise BadFile(f"'{quality}' is no quality; there are shot and draft.")
    place = folder(store().root, shot_id) / "movies"
    place.mkdir(parents=True, exist_ok=True)
    with session() as db:
        kept = shots.get(db, shot_id)
        made = place / f".{uuid4().hex}.mp4"
        try:
            # written before anything is kept, so that a damaged picture leaves nothing behind
            write_movie(made, _frames(pictures), kept.shot.rate)
            every = versions.every(db, shot_id)
            same = next((v for v in every if versions.at(db, shot_id, f"v{v.number}") == kept.shot), None)
            number = same.number if same else versions.keep(db, shot_id)
            path = _free(place, f"v{number}-{first}-{first + len(pictures) - 1}-{quality}")
            made.replace(path)
        finally:
            made.unlink(missing_ok=True)
    return {"version": number, "file": f"movies/{path.name}", "frames": len(pictures)}


def _free(place: Path, stem: str) -> Path:
    taken = {p.stem for p in place.glob(f"{stem}*.mp4")}
    return place / f"{next(s for s in (stem, *(f'{stem}-{i}' for i in range(2, 10_000))) if s not in taken)}.mp4"


def _frames(pictures: list[UploadFile]) -> Iterator[np.ndarray]:
    size = None
    for upload in pictures:
        picture = _read(upload)
        size = size or picture.shape
        if picture.shape != size:
            raise BadFile("The pictures of a movie must be of one size: leave the window as it is while it is made.")
        yield picture


def _read(upload: UploadFile) -> np.ndarray:
    try:
        upload.file.seek(0)
        image = Image.open(io.BytesIO(upload.file.read()), formats=["JPEG"])
        if max(image.size) > _LARGEST or min(image.size) < 2:
            raise BadFile(f"A picture is 2 to {_LARGEST} pixels wide and high, not {image.size[0]} x {image.size[1]}.")
        # the encoder takes even sides
        w, h = (n - n % 2 for n in image.size)
        return np.asarray(image.convert("RGB").crop((0, 0, w, h)))
    except (UnidentifiedImageError, OSError, Image.DecompressionBombError) as error:
        name = re.sub(r"[^\w.-]", "", upload.filename or "one of them")[:40]
        raise BadFile(f"'{name}' is no picture that can be read: make the movie again.") from error
