"""The set as geometry: meshes where they stand, and where what is driven is."""

from dataclasses import replace
from functools import lru_cache

import numpy as np

from urst.core.bodies.fragments import Fragments, Solid, assemble
from urst.core.curves.clock import Clock
from urst.core.geometry import rotation
from urst.core.geometry.generators import box_between
from urst.core.geometry.mesh import Mesh, chained, transformed
from urst.core.geometry.sheet import wedges
from urst.scene.paths import Path
from urst.scene.pieces import SetPiece
from urst.scene.shapes import (
    ball_radius,
    close_parts,
    corners,
    is_cut,
    is_endless,
    is_hollow,
    is_sheet,
    meshes,
    parts,
    rooms,
)
from urst.scene.taking_part import Matter
from urst.scene.world import World

_FILM_BACK = 36.0


def placed(piece: SetPiece, world: World) -> list[Mesh]:
    """Meshes of a piece where it stands at the first frame."""
    turn, position = stance(piece, world)
    matrix = rotation.matrix(turn)
    return [transformed(m, matrix, position) for m in meshes(piece.shape)]


def placed_corners(piece: SetPiece, world: World) -> tuple[np.ndarray, ...]:
    """Of each part of a piece, points (n, 3) that span it where it stands at the first frame [m]; not to be written
    to."""
    return _placed_corners(piece, world.start)


@lru_cache(maxsize=20_000)
def _placed_corners(piece: SetPiece, start: int) -> tuple[np.ndarray, ...]:
    turn, position = _stance(piece, start)
    matrix = rotation.matrix(turn)
    found = tuple(points @ matrix.T + position for points in corners(piece.shape))
    for points in found:
        points.flags.writeable = False
    return found


def stance(piece: SetPiece, world: World) -> tuple[np.ndarray, np.ndarray]:
    """Return how a piece stands at the first frame: quaternion (4,) and place (3,) [m]."""
    return _stance(piece, world.start)


def _stance(piece: SetPiece, start: int) -> tuple[np.ndarray, np.ndarray]:
    if piece.motion == "driven":
        place, turn = Path(piece)(start)
        return turn, place
    return rotation.from_degrees(piece.rotation), np.array(piece.position, float)


def solids(number: int, piece: SetPiece, world: World, close: bool = False) -> list[Solid]:
    """The bodies of an unbroken piece, under a number of the caller's: convex parts, close to its surface if need be;
    an open sheet is given thickness."""
    if not is_sheet(piece.shape):
        turn, position = stance(piece, world)
        matrix, ball = rotation.matrix(turn), ball_radius(piece.shape)
        whole = number if is_cut(piece.shape) else -1
        found = [
            Solid(number, transformed(m, matrix, position), inner, part=k, ball=ball, whole=whole)
            for k, (m, inner) in enumerate(close_parts(piece.shape) if close else parts(piece.shape))
        ]
        return _one_skin(found, placed(piece, world)) if is_hollow(piece.shape) else found
    return [
        Solid(number, wedge, np.zeros(1, bool), part=k, skin=seen, whole=number)
        for k, (wedge, seen) in enumerate(w for m in placed(piece, world) for w in wedges(m))
    ]


def _one_skin(parts: list[Solid], meshes: list[Mesh]) -> list[Solid]:
    """Let the first part be seen as the whole, and the others not at all."""
    return [
        replace(s, skin=skin, inner=np.zeros(len(skin.triangles), bool))
        for s, skin in zip(
            parts, [chained(meshes), *[Mesh(np.zeros((0, 3)), np.zeros((0, 3), np.int64))] * (len(parts) - 1)]
        )
    ]


def lying(number: int, piece: SetPiece, world: World) -> tuple[Solid, Mesh]:
    """An open sheet under a number of the caller's, as the box about it, and its surface where it stands."""
    surface = chained(placed(piece, world))
    low, high = surface.bounds()
    room = 0.01 * float((high - low).max())
    box = box_between(low - room, high + room)
    return Solid(number, box, np.zeros(len(surface.triangles), bool), skin=surface), surface


def standing(world: World, numbers: list[int], close: bool = False) -> Fragments:
    """The pieces of the given numbers as bodies where they stand at the first frame, close to their surfaces if need
    be; `piece` counts within the list."""
    return assemble([s for n, i in enumerate(numbers) for s in solids(n, world.pieces[i], world, close)])


def hollows(world: World, numbers: list[int]) -> Fragments:
    """The rooms within hollow pieces, and what solid ones are, where they stand at the first frame, as if they were
    bodies."""
    found = []
    for n, piece in enumerate(world.pieces[i] for i in numbers):
        turn, position = stance(piece, world)
        found += [
            Solid(n, transformed(m, rotation.matrix(turn), position), np.zeros(len(m.triangles), bool))
            for m in rooms(piece.shape)
        ]
        found += [] if is_hollow(piece.shape) else solids(n, piece, world)
    return assemble(found)


def seen(world: World, numbers: list[int]) -> Fragments:
    """The same for those who look at skins only: an open sheet is one body, and its hull the box about it."""
    pieces = [world.pieces[i] for i in numbers]
    return assemble(
        [
            s
            for n, p in enumerate(pieces)
            for s in ([lying(n, p, world)[0]] if is_sheet(p.shape) else solids(n, p, world))
        ]
    )


def stopping(world: World, matter: Matter) -> list[int]:
    """Numbers of the pieces that stop a matter at some time."""
    return [i for i, p in enumerate(world.pieces) if world.part_of(p).stops(matter)]


def present(world: World, numbers: list[int], piece: np.ndarray, matter: Matter, frame: float) -> np.ndarray:
    """Whether bodies stop a matter at a frame.

    numbers, piece : the pieces, and for each body which of them it is of
    """
    rows = [world.part_of(world.pieces[i]) for i in numbers]
    return np.array([r.stops(matter) and r.there(frame) for r in rows], bool)[piece]


def comes_and_goes(world: World, numbers: list[int]) -> bool:
    """Whether any of the pieces is there for a part of the shot only."""
    rows = [world.part_of(world.pieces[i]) for i in numbers]
    return any(r.since is not None or r.until is not None for r in rows)


class Drive:
    """Where the bodies of driven pieces are at a time.

    Parameters
    ----------
    world : World
    numbers : list of int
        The pieces that bodies may be of.
    fragments : Fragments
        Whose `piece` counts within `numbers`.
    """

    def __init__(self, world: World, numbers: list[int], fragments: Fragments) -> None:
        self.clock: Clock = world.clock()
        owner = [world.pieces[numbers[n]] for n in fragments.piece]
        self.bodies = [b for b, p in enumerate(owner) if p.motion == "driven"]
        names = list(dict.fromkeys(owner[b].name for b in self.bodies))
        self._of = np.array([names.index(owner[b].name) for b in self.bodies], int)
        self._paths = [Path(next(p for p in owner if p.name == name)) for name in names]
        home = [at(world.start) for at in self._paths]
        self._home = rotation.inverse(np.array([turn for _, turn in home]).reshape(-1, 4))
        self._arm = fragments.centre[self.bodies] - np.array([place for place, _ in home]).reshape(-1, 3)[self._of]

    def __bool__(self) -> bool:
        return bool(self.bodies)

    def __call__(self, seconds: float) -> tuple[np.ndarray, np.ndarray]:
        """Return positions (d, 3) and quaternions (d, 4) of the driven bodies."""
        frame = self.clock.full_speed(seconds)
        now = [at(frame) for at in self._paths]
        place, turn = np.array([p for p, _ in now]), np.array([q for _, q in now])
        turn = rotation.product(turn, self._home)[self._of]
        return place[self._of] + rotation.turned(turn, self._arm), turn


def poses(fragments: Fragments, drive: Drive, seconds: float) -> tuple[np.ndarray, np.ndarray]:
    """Return where bodies of the set are at a time [s], positions (n, 3) and quaternions (n, 4): driven ones on their
    paths."""
    position, orientation = fragments.centre.copy(), np.tile(rotation.IDENTITY, (len(fragments), 1))
    if drive:
        position[drive.bodies], orientation[drive.bodies] = drive(seconds)
    return position, orientation


def fastest(world: World) -> tuple[float, str]:
    """Greatest speed [m/s] anything is given, by its path or at the start, and the name of what has it; 0 if none."""
    most, name = 0.0, ""
    for piece in world.pieces:
        speed = float(np.linalg.norm(piece.velocity)) if piece.motion == "loose" else 0.0
        if piece.motion == "driven" and len(piece.keys) > 1:
            speed = Path(piece).speed(world.start, world.end, world.rate)
        if speed > most:
            most, name = speed, piece.name
    return most, name


def bounds(world: World, *, skip_fixed: bool = False) -> tuple[np.ndarray, np.ndarray] | None:
    """Least and greatest corner of the set at the first frame, None where nothing has an end."""
    some = [p for p in world.pieces if not is_endless(p.shape) and not (skip_fixed and p.motion == "fixed")]
    points = [c for p in some for c in placed_corners(p, world)]
    if not points:
        return None
    return np.min([c.min(axis=0) for c in points], axis=0), np.max([c.max(axis=0) for c in points], axis=0)


def field_of_view(lens: float) -> float:
    """Horizontal angle of view of a lens [deg]."""
    return float(np.degrees(2 * np.arctan(0.5 * _FILM_BACK / lens)))
