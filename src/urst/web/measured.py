"""How what drives a curve is spread, for the editor to draw behind it."""

from typing import Any, get_args

import numpy as np
from fastapi import APIRouter, Response
from fastapi.responses import JSONResponse

from urst.core.curves.curve import Curve, CurvePoint, Over
from urst.db import shots
from urst.db.engine import session
from urst.errors import BadValue, CacheDamaged
from urst.shot.document import Shot
from urst.shot.keys import layer_keys
from urst.shot.quality import of_quality
from urst.web.holdings import holdings
from urst.web.store import store

router = APIRouter(prefix="/shots/{shot_id}")

#: bars of a histogram
_BARS = 48


class _OnDisk:
    """What is on disk of a shot's layers, at one frame; `shown`: keys that are looked at instead of a layer's own."""

    def __init__(self, shot: Shot, frame: int, shown: dict[str, str]) -> None:
        self.keys, self.number = layer_keys(shot) | shown, frame

    def static(self, layer: Any) -> dict[str, np.ndarray] | None:
        key = self.keys[layer.id]
        return store().read_static(key)[0] if store().has_static(key) else None

    def frame(self, layer: Any) -> dict[str, np.ndarray] | None:
        try:
            return store().read_frame(self.keys[layer.id], self.number)[0]
        except CacheDamaged:
            return None


@router.get("/measured/{layer_id}")
def measured(
    shot_id: str,
    layer_id: str,
    path: str,
    over: str,
    frame: int,
    quality: str = "shot",
    origin: str = "",
    shown: str = "",
) -> Response:
    """A histogram of what a setting's curve runs over, at a frame; over frames, the layer's chief gauge.

    shown : what is in view in place of layers' own results, as `layer:key,layer:key`
    """
    with session() as db:
        shot = of_quality(shots.get(db, shot_id).shot, quality)
    if over not in get_args(Over):
        raise BadValue(f"'{over}' is nothing a curve runs over; there are {', '.join(get_args(Over))}.")
    layer = shot.layer(layer_id)
    try:
        keys = dict(pair.split(":") for pair in shown.split(",") if pair)
        disk = _OnDisk(shot, frame, {x: key for x, key in keys.items() if store().folder(key)})
    except ValueError as error:
        raise BadValue(f"shown: '{shown}' names no results; write layer:key,layer:key.") from error
    if over == "frame":
        with session() as db:
            held = holdings(db, store(), [disk.keys[layer_id]])
        return JSONResponse(_gauge(shot, layer, held[disk.keys[layer_id]].frames))
    try:
        middle = tuple(float(x) for x in origin.split()) if origin else None
        curve = Curve(over=over, origin=middle, points=(CurvePoint(at=0.0, value=0.0),))
    except ValueError as error:
        raise BadValue(f"origin: '{origin}' is no place; write three numbers, like 0 0 2.") from error
    spread = shot.kind_of(layer).spread(shot, layer, path, curve, disk)
    if spread is None or not len(spread.places):
        return JSONResponse({"low": 0.0, "high": 0.0, "bars": [], "about": f"no {over} measured at frame {frame}"})
    low, high = min(0.0, float(spread.places.min())), float(spread.places.max())
    bars, _ = np.histogram(spread.places, _BARS, (low, max(high, low + 1e-9)), weights=spread.weights)
    return JSONResponse(
        {"low": low, "high": high, "bars": [float(b) for b in bars], "about": f"{spread.about}, frame {frame}"}
    )


def _gauge(shot: Shot, layer: Any, rows: dict[int, dict[str, float]]) -> dict[str, Any]:
    kind = shot.kind_of(layer)
    bars = [rows.get(f, {}).get(kind.chief or "", 0.0) for f in shot.frames()]
    about = kind.gauge(kind.chief).label if kind.chief and any(bars) else "nothing baked yet"
    return {"low": shot.start, "high": shot.end, "bars": bars if any(bars) else [], "about": about}
