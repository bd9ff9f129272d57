"""What gives something off, seen before the bake: from where, how fast and how much in all."""

from collections.abc import Callable
from typing import Any

import numpy as np
from fastapi import APIRouter, Response
from fastapi.responses import JSONResponse

from urst.core.bodies.fragments import Fragments
from urst.core.bodies.sampling import sample
from urst.core.curves.stream import Stream
from urst.core.geometry import rotation
from urst.core.launch import launch
from urst.core.launch.settings import Launch
from urst.db import shots
from urst.db.engine import session
from urst.scene.placing import Drive, poses, standing
from urst.scene.sources import PieceSource
from urst.shot.document import Shot

router = APIRouter(prefix="/shots/{shot_id}")

#: places and arrows that are drawn of one source
_PLACES, _ARROWS, _LAUNCHED = 600, 24, 200
#: over so long is a driven carrier's speed measured [s]
_MOMENT = 1e-3


@router.get("/sources/{layer_id}")
def sources(shot_id: str, layer_id: str, frame: int) -> Response:
    """For each source of a layer: places that give, velocities there, and how much in all, in words; its launches
    likewise."""
    with session() as db:
        shot = shots.get(db, shot_id).shot
    layer = shot.layer(layer_id)
    kind = shot.kind_of(layer)
    given = [_drawn(shot, source, unit, frame) for source, unit in kind.sources(layer)]
    given += [_pouring(shot, inflow, points, total, frame) for inflow, points, total in kind.inflows(shot, layer)]
    given += [_launched(shot, *launched) for launched in kind.launches(shot, layer) if launched[2]]
    return JSONResponse(given)


def _drawn(shot: Shot, source: PieceSource, unit: str, frame: int) -> dict[str, Any]:
    number = next(i for i, p in enumerate(shot.pieces) if p.name == source.piece)
    fragments, clock = standing(shot, [number]), shot.clock()
    body, local, _ = sample(fragments, source.where, _PLACES, 1)
    now, carried, _ = _riding(shot, number, fragments, frame, body, local)
    first, last, open_ = _window(shot, source, frame)
    stream = Stream(source.rate, clock.seconds(first), clock.seconds(last + 1), clock)
    total = max(0.0, stream.given(clock.seconds(last + 1)))
    amount = f"{total:.3g}" if unit == "kg" else f"{total:,.0f}"
    amount_text = f"{amount} {unit} over frames {first} to {last}"
    return _entry(source.piece, open_, now, carried + np.array(source.velocity), amount_text)


def _pouring(shot: Shot, inflow: Any, points: Callable[..., Any], total: float, frame: int) -> dict[str, Any]:
    number = next(i for i, p in enumerate(shot.pieces) if p.name == inflow.piece)
    fragments = standing(shot, [number])
    body, local, normal = points(fragments, _PLACES)
    now, carried, outward = _riding(shot, number, fragments, frame, body, local, normal)
    first, last, open_ = _window(shot, inflow, frame)
    amount_text = f"about {total:.3g} m3 over frames {first} to {last}" if len(body) else "no face is chosen"
    return _entry(inflow.piece, open_, now, launch.velocities(inflow.launch, now, outward, carried), amount_text)


def _window(shot: Shot, source: PieceSource, frame: int) -> tuple[int, int, bool]:
    """First and last frame of a source, and whether it is open."""
    first = shot.start if source.since is None else source.since
    last = shot.end if source.until is None else min(source.until, shot.end)
    return first, last, first <= frame <= last


def _riding(
    shot: Shot, number: int, fragments: Fragments, frame: int, body: np.ndarray, local: np.ndarray, normal: None = None
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Points of a piece at a frame, how they move, and which way their normals look."""
    drive, time = Drive(shot, [number], fragments), shot.clock().seconds(frame)
    now, later = (_at(fragments, drive, t, body, local) for t in (time, time + _MOMENT))
    turned = np.zeros(now.shape)
    if normal is not None:
        turned = rotation.turns(poses(fragments, drive, time)[1][body]).apply(normal) if len(body) else normal
    return now, (later - now) / _MOMENT, turned


def _entry(
    name: str, open_: bool, places: np.ndarray, velocity: np.ndarray, total: str, arrows: int = _ARROWS
) -> dict[str, Any]:
    return {
        "piece": name,
        "open": open_,
        "places": np.round(places, 4).ravel().tolist(),
        "arrows": np.round(np.stack([places, velocity], axis=1)[:arrows], 4).tolist(),
        "fastest": round(float(np.linalg.norm(velocity, axis=1).max(initial=0.0)), 3),
        "total": total,
    }


def _launched(shot: Shot, name: str, setting: Launch, numbers: list[int]) -> dict[str, Any]:
    fragments = standing(shot, numbers)
    places = fragments.centre
    velocity = launch.velocities(setting, places, places - places.mean(axis=0), np.zeros(places.shape))
    some = slice(None, None, max(1, len(places) // _LAUNCHED))
    return _entry(name, True, places[some], velocity[some], f"{len(places):,} bodies set off", len(places))


def _at(fragments: Fragments, drive: Drive, time: float, body: np.ndarray, local: np.ndarray) -> np.ndarray:
    position, orientation = poses(fragments, drive, time)
    return position[body] + rotation.turns(orientation[body]).apply(local)
