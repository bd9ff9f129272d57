"""What a bake will take, before it starts: counts, memory, disk, time.

Rates are those measured on this machine where there are any, else those of the first draft shots.
"""

from dataclasses import dataclass

from urst.shot import scene
from urst.shot.document import Shot

#: seconds a frame and unit (fragment, body and substep, point, cell), measured on two cores at 2.5 GHz
SECONDS = {"break": 1.5e-3, "fall": 1.2e-5, "shed": 3e-6, "billow": 1.3e-6}
#: bytes a frame and unit on disk, after compression
DISK = {"break": 4000.0, "fall": 78.0, "shed": 18.0, "billow": 0.35}
#: bytes a unit in memory
MEMORY = {"break": 9000.0, "fall": 14_000.0, "shed": 200.0, "billow": 190.0}


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


def units(shot: Shot, layer_id: str) -> tuple[str, int]:
    """Return what a layer's cost is counted in, and how many."""
    layer = shot.layer(layer_id)
    broken = {p for x in shot.layers if x.kind == "break" for p in x.settings.pieces}
    match layer.kind:
        case "break":
            parts = sum(scene.count(p.shape) for p in shot.pieces if p.name in layer.settings.pieces)
            return "fragments", max(parts, layer.settings.count)
        case "fall":
            whole = sum(scene.count(p.shape) for p in shot.pieces if p.name not in broken)
            return "bodies", whole + sum(units(shot, x.id)[1] for x in shot.layers if x.kind == "break")
        case "shed":
            # about a third of the faces part in a typical strike
            area = sum(_joint_area(shot, x) for x in shot.layers if x.kind == "break")
            return "points", int((layer.settings.chips + layer.settings.dust) * area / 3)
        case "billow":
            return "cells", layer.settings.cells()


def _joint_area(shot, layer):
    total = 0.0
    for piece in shot.pieces:
        if piece.name in layer.settings.pieces:
            volume = sum(scene.volumes(piece.shape))
            total += 2.0 * volume ** (2 / 3) * max(1, layer.settings.count) ** (1 / 3)
    return total


def forecast(shot: Shot, layer_id: str, rate: float | None = None) -> Forecast:
    """Return what baking a layer takes; `rate` [s/frame] is used where this very layer was measured."""
    layer = shot.layer(layer_id)
    unit, count = units(shot, layer_id)
    frames = 1 if layer.kind == "break" else len(shot.frames())
    rounds = layer.settings.steps * layer.settings.substeps if layer.kind == "fall" else 1
    seconds = rate if rate else SECONDS[layer.kind] * count * rounds
    return Forecast(
        unit, count, frames, MEMORY[layer.kind] * count, DISK[layer.kind] * count * frames, seconds * frames
    )
