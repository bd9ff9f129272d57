"""What a shot's own numbers suggest for a setting."""

from dataclasses import dataclass

import numpy as np

from urst.core.fracture.estimate import mean_size
from urst.core.fracture.settings import MOST_PARTS, FractureSettings
from urst.scene.materials import MATERIALS
from urst.scene.pieces import SetPiece
from urst.scene.placing import bounds, fastest, placed
from urst.scene.shapes import volumes
from urst.scene.world import World


@dataclass(frozen=True)
class Breaking:
    """How finely the fastest thing in a shot would break what a layer breaks."""

    cause: str
    """what hits, or falls"""
    speed: float
    """[m/s]"""
    size: float
    """mean fragment [m]"""
    count: int
    """fragments, within what the setting allows"""


def breaking(shot: World, pieces: list[SetPiece], s: FractureSettings) -> Breaking | None:
    """Estimate fragment size and count of a break, None where nothing moves and nothing can fall.

    The struck region is stretched at about its speed over its reach: the focus where cracks gather round one, half the
    largest piece else.
    """
    if not pieces:
        return None
    speed, cause = fastest(shot)
    if speed <= 0.0:
        low, high = bounds(shot, skip_fixed=True) or (np.zeros(3), np.zeros(3))
        fall = float(np.linalg.norm(shot.gravity)) * float(high[2] - max(0.0, low[2]))
        speed, cause = float(np.sqrt(2.0 * fall)), "a fall from the top"
    volume, near, parts, reach, matter = 0.0, 0.0, 0, 0.0, MATERIALS[pieces[0].material]
    for piece in pieces:
        for mesh, mine in zip(placed(piece, shot), volumes(piece.shape)):
            away = np.linalg.norm(mesh.vertices.mean(axis=0) - s.focus) / s.focus_radius
            volume, parts = volume + mine, parts + 1
            near += mine * float(np.exp(-0.5 * away**2))
            reach = max(reach, 0.5 * float(np.ptp(mesh.vertices, axis=0).max()))
    if s.pattern == "clustered":
        volume, reach = near, s.focus_radius
    if speed <= 0.0 or reach <= 0.0:
        return None
    density = pieces[0].bulk()[0]
    size = mean_size(matter.toughness, density, matter.stiffness, speed / reach)
    count = int(np.clip(parts + volume / size**3, parts, MOST_PARTS))
    return Breaking(cause, speed, size, count)
