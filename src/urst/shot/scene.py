"""The set as geometry: meshes where they stand, and the paths of what is driven."""

from functools import lru_cache

import numpy as np
from scipy.spatial.transform import Rotation, Slerp

from urst.core.geometry import generators, rotation
from urst.core.geometry.mesh import Mesh, mass_properties, transformed
from urst.errors import BadMesh
from urst.shot.document import SetPiece, Shape, Shot

_FILM_BACK = 36.0


def parts(piece: SetPiece) -> list[Mesh]:
    """Meshes of a piece before it is placed."""
    return _parts(piece.shape)


@lru_cache(maxsize=256)
def volumes(shape: Shape) -> tuple[float, ...]:
    """Volume of each part of a shape [m3], 0 where it encloses none."""
    found = []
    for mesh in _parts(shape):
        try:
            found.append(mass_properties(mesh).volume)
        except BadMesh:
            # said by preflight; a forecast goes on without it
            found.append(0.0)
    return tuple(found)


@lru_cache(maxsize=256)
def count(shape: Shape) -> int:
    """How many parts a shape has."""
    return len(_parts(shape))


def _parts(s):
    match s.kind:
        case "box":
            return generators.box(s.width, s.depth, s.height)
        case "brick wall":
            return generators.brick_wall(s.width, s.depth, s.height, s.brick_length, s.course_height)
        case "drum":
            return generators.prism(s.radius, s.height, s.sides)
        case "ball":
            return generators.ball(s.radius, s.rings)
        case "mesh":
            return [s.mesh()]


def placed(piece: SetPiece, shot: Shot) -> list[Mesh]:
    """Meshes of a piece where it stands at the first frame."""
    position, turn = np.array(piece.position, float), rotation.from_degrees(piece.rotation)
    if piece.motion == "driven":
        position, turn = path(piece)(shot.start)
    return [transformed(m, rotation.matrix(turn), position) for m in parts(piece)]


def path(piece: SetPiece):
    """Return a function of the frame that gives a driven piece's position (3,) and quaternion (4,).

    Positions run along a cubic through the keys (Catmull-Rom tangents for uneven spacing), turns along the
    shortest arcs; before the first and after the last key the piece stands still.
    """
    frames = np.array([k.frame for k in piece.keys], float)
    points = np.array([k.position for k in piece.keys], float)
    turns = Rotation.from_euler("xyz", [k.rotation for k in piece.keys], degrees=True)
    if len(frames) == 1:
        quaternion = rotation.from_degrees(piece.keys[0].rotation)
        return lambda frame: (points[0], quaternion)
    slope = np.gradient(points, frames, axis=0)
    slerp = Slerp(frames, turns)

    def at(frame):
        f = float(np.clip(frame, frames[0], frames[-1]))
        k = int(np.clip(np.searchsorted(frames, f, side="right") - 1, 0, len(frames) - 2))
        span = frames[k + 1] - frames[k]
        t = (f - frames[k]) / span
        a, b = 2 * t**3 - 3 * t**2 + 1, t**3 - 2 * t**2 + t
        position = a * points[k] + b * span * slope[k] + (1 - a) * points[k + 1] + (t**3 - t**2) * span * slope[k + 1]
        x, y, z, w = slerp(f).as_quat()
        return position, np.array([w, x, y, z])

    return at


def fastest(shot: Shot) -> tuple[float, str]:
    """Greatest speed [m/s] anything is given, by its path or at the start, and the name of what has it; 0 if none."""
    most, name = 0.0, ""
    for piece in shot.pieces:
        speed = float(np.linalg.norm(piece.velocity))
        if piece.motion == "driven" and len(piece.keys) > 1:
            at = path(piece)
            times = np.arange(piece.keys[0].frame, min(piece.keys[-1].frame, shot.end) + 1)
            places = np.array([at(t)[0] for t in times])
            speed = float(np.linalg.norm(np.diff(places, axis=0), axis=1).max() * shot.rate) if len(times) > 1 else 0.0
        if speed > most:
            most, name = speed, piece.name
    return most, name


def bounds(shot: Shot, *, skip_fixed: bool = False) -> tuple[np.ndarray, np.ndarray] | None:
    """Least and greatest corner of the set at the first frame, None for an empty set."""
    meshes = [m for p in shot.pieces if not (skip_fixed and p.motion == "fixed") for m in placed(p, shot)]
    if not meshes:
        return None
    corners = [m.bounds() for m in meshes]
    return np.min([c[0] for c in corners], axis=0), np.max([c[1] for c in corners], axis=0)


def field_of_view(lens: float) -> float:
    """Horizontal angle of view of a lens [deg]."""
    return float(np.degrees(2 * np.arctan(0.5 * _FILM_BACK / lens)))
