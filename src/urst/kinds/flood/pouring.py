"""What of set pieces pours, and how much that is."""

from typing import Any

import numpy as np

from urst.core.bodies.faces import Faces, chosen
from urst.core.bodies.fragments import Fragments
from urst.core.bodies.sampling import sample
from urst.core.checks.findings import Finding
from urst.core.curves.stream import Stream
from urst.core.liquid.settings import Inflow
from urst.kinds.kind import at
from urst.scene.placing import placed_corners, standing
from urst.scene.shapes import is_endless

#: points over faces lie so many to a cell
_FINE = 4.0
#: in forecasts so many along the edges of a piece
_COARSE = 16.0


def faces(shot: Any, inflow: Any, of: Fragments, apart: float) -> Faces:
    """Return the faces that an inflow pours from.

    Parameters
    ----------
    shot : Shot
    inflow : Inflow
    of : Fragments
        The bodies of its piece.
    apart : float
        How far apart points over them lie [m].
    """
    within = None if inflow.region is None else _standing(shot, inflow.region)
    return chosen(of, apart, inflow.facing, inflow.facing_within, within)


def points(shot: Any, inflow: Any, of: Fragments, count: int) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Return points that pour: body (n,), place in its frame and outward normal (n, 3).

    Parameters
    ----------
    shot : Shot
    inflow : Inflow
    of : Fragments
        The bodies of its piece.
    count : int
        How many at most.
    """
    if inflow.out_of == "inside":
        return sample(of, "volume", count, 1)
    found = faces(shot, inflow, of, float(np.ptp(of.world_hulls().vertices, axis=0).max()) / _COARSE)
    some = np.random.default_rng(1).permutation(len(found))[:count]
    return found.body[some], found.local[some], found.normal[some]


def seen_with(cell: float) -> float:
    """Return how far apart points over faces lie for a cell so large [m]."""
    return cell / _FINE


def findings(shot: Any, layer: Any) -> list[Finding]:
    """Return what is wrong with what pours."""
    return _faceless(shot, layer) + _full(shot, layer)


def poured(shot: Any, inflow: Any) -> float:
    """Return how much comes in by the last frame, as far as can be told [m3].

    Parameters
    ----------
    shot : Shot
    inflow : Inflow
    """
    clock, rate = shot.clock(), inflow.rate
    first = shot.start if inflow.since is None else inflow.since
    last = shot.end if inflow.until is None else min(shot.end, inflow.until + 1)
    rate = _through(shot, inflow) if rate is None else rate
    return Stream(rate, clock.seconds(first), clock.seconds(max(first, last)), clock).given(clock.seconds(shot.end))


def _standing(shot: Any, name: str) -> Fragments:
    return standing(shot, [next(i for i, p in enumerate(shot.pieces) if p.name == name)])


def _through(shot: Any, inflow: Inflow) -> float:
    """How much sets off with the speed of its launch, as far as can be told [m3/s]."""
    x = inflow.launch
    corners = np.concatenate(placed_corners(shot.piece(inflow.piece), shot))
    size = np.ptp(corners, axis=0)
    speed = min(max(abs(x.speed), x.least), x.most)
    if inflow.out_of == "faces":
        area = faces(shot, inflow, _standing(shot, inflow.piece), float(size.max()) / _COARSE).area.sum()
        return speed * float(area)
    sides = np.array([size[1] * size[2], size[0] * size[2], size[0] * size[1]])
    direction = np.array(x.direction) / max(float(np.linalg.norm(x.direction)), 1e-12)
    return speed * float(np.abs(direction) @ sides if x.way == "direction" else 2.0 * sides.sum())


def _faceless(shot: Any, layer: Any) -> list[Finding]:
    """What pours from faces needs some."""
    for n, inflow in enumerate(layer.settings.inflows):
        if inflow.out_of != "faces" or is_endless(shot.piece(inflow.piece).shape):
            continue
        of = _standing(shot, inflow.piece)
        size = float(np.ptp(np.concatenate(placed_corners(shot.piece(inflow.piece), shot)), axis=0).max())
        if not len(faces(shot, inflow, of, size / _COARSE)):
            where = f" within '{inflow.region}'" if inflow.region else ""
            names = ["facing", *(["region"] if inflow.region else [])]
            return [
                Finding(
                    f"No face of '{inflow.piece}'{where} looks the way from which '{layer.name}' is to pour.",
                    "Nothing comes in there: choose another way or place.",
                    layer=layer.id,
                    fix="Pour from all of its faces",
                    changes=tuple((at(shot, layer, "inflows", n, x), None) for x in names),
                )
            ]
    return []


def _full(shot: Any, layer: Any) -> list[Finding]:
    """What pours under water comes in by its rate alone."""
    s = layer.settings
    for n, inflow in enumerate(s.inflows):
        piece = shot.piece(inflow.piece)
        if s.level is None or inflow.rate is not None or s.pool_at is not None or is_endless(piece.shape):
            continue
        corners = np.concatenate(placed_corners(piece, shot))
        if corners[:, 2].max() < s.level:
            rate = float(f"{_through(shot, inflow):.2g}")
            return [
                Finding(
                    f"'{inflow.piece}' pours into '{layer.name}' below its level, where it is full already.",
                    "Nothing comes in there but by a rate.",
                    layer=layer.id,
                    fix=f"Let it be {rate:g} m3/s",
                    changes=((at(shot, layer, "inflows", n, "rate"), rate),),
                )
            ]
    return []
