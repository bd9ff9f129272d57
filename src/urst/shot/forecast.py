"""What a bake will take, before it starts: counts, memory, disk, time.

Rates are those measured on this machine where there are any, else those of the first draft shots.
"""

from dataclasses import dataclass
from typing import Any

from urst.shot.document import Shot
from urst.shot.graph import group_of


@dataclass(frozen=True)
class Forecast:
    """What one layer will take."""

    unit: str
    count: int
    frames: int
    memory: float
    """[bytes]"""
    disk: float
    """[bytes]"""
    seconds: float
    """with all the layers it is baked together with"""


def forecast(shot: Shot, layer_id: str, rate: float | None = None) -> Forecast:
    """Return what baking a layer takes; `rate` [s/frame] is used where this very layer was measured."""
    layer = shot.layer(layer_id)
    kind = shot.kind_of(layer)
    count = kind.count(shot, layer)
    frames = len(shot.frames()) if kind.moving else 1
    seconds = rate or sum(_seconds(shot, shot.layer(x)) for x in group_of(shot, layer_id))
    return Forecast(kind.unit, count, frames, kind.memory * count, kind.disk(layer) * count * frames, seconds * frames)


def _seconds(shot: Shot, layer: Any) -> float:
    kind = shot.kind_of(layer)
    return kind.seconds * kind.count(shot, layer) * kind.rounds(layer)
