"""What gives something off, seen before the bake: from where, how fast and how much in all."""

import numpy as np
from fastapi import APIRouter
from fastapi.responses import JSONResponse

from urst.core.bodies.sampling import sample
from urst.core.curves.stream import Stream
from urst.core.geometry import rotation
from urst.core.launch import launch
from urst.db import shots
from urst.db.engine import session
from urst.scene.placing import Drive, poses, standing

router = APIRouter(prefix="/shots/{shot_id}")

#: places and arrows that are drawn of one source
_PLACES, _ARROWS, _LAUNCHED = 600, 24, 200
#: over so long is a driven carrier's speed measured [s]
_MOMENT = 1e-3


@router.get("/sources/{layer_id}")
def sources(shot_id: str, layer_id: str, frame: int):
    """For each source of a layer: places that give, velocities there, and how much in all, in words; its launches likewise."""
    with session() as db:
        shot = shots.get(db, shot_id).shot
    layer = shot.layer(layer_id)
    kind = shot.kind_of(layer)
    given = [_drawn(shot, source, unit, frame) for source, unit in kind.sources(layer)]
    given += [_launched(shot, *launched) for launched in kind.launches(shot, layer) if launched[2]]
    return JSONResponse(given)


def _drawn(shot, source, unit, frame):
    number = next(i for i, p in enumerate(shot.pieces) if p.name == source.piece)
    fragments, clock = standing(shot, [number]), shot.clock()
    body, local, _ = sample(fragments, source.where, _PLACES, 1)
    drive, time = Drive(shot, [number], fragments), clock.seconds(frame)
    now, later = (_at(fragments, drive, t, body, local) for t in (time, time + _MOMENT))
    velocity = (later - now) / _MOMENT + np.array(source.velocity)
    first = shot.start if source.since is None else source.since
    last = shot.end if source.until is None else min(source.until, shot.end)
    stream = Stream(source.rate, clock.seconds(first), clock.seconds(last + 1), clock)
    total = max(0.0, stream.given(clock.seconds(last + 1)))
    amount = f"{total:.3g}" if unit == "kg" else f"{total:,.0f}"
    return {
        "piece": source.piece,
        "open": first <= frame <= last,
        "places": np.round(now, 4).ravel().tolist(),
        "arrows": np.round(np.stack([now, velocity], axis=1)[:_ARROWS], 4).tolist(),
        "fastest": round(float(np.linalg.norm(velocity, axis=1).max()), 3),
        "total": f"{amount} {unit} over frames {first} to {last}",
    }  # fmt: skip


def _launched(shot, name, setting, numbers):
    fragments = standing(shot, numbers)
    places = fragments.centre
    velocity = launch.velocities(setting, places, places - places.mean(axis=0), np.zeros(places.shape))
    step = max(1, len(places) // _LAUNCHED)
    return {
        "piece": name,
        "open": True,
        "places": np.round(places[::step], 4).ravel().tolist(),
        "arrows": np.round(np.stack([places, velocity], axis=1)[::step], 4).tolist(),
        "fastest": round(float(np.linalg.norm(velocity, axis=1).max()), 3),
        "total": f"{len(places):,} bodies set off",
    }


def _at(fragments, drive, time, body, local):
    position, orientation = poses(fragments, drive, time)
    return position[body] + rotation.turns(orientation[body]).apply(local)
