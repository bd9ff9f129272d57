"""The set as it is drawn: each shape in its own coordinates, where its piece stands, and the paths of what is
driven."""

import numpy as np

from urst.core.bodies.fragments import Fragments
from urst.core.geometry import rotation
from urst.core.geometry.convex import pack
from urst.core.geometry.mesh import Mesh
from urst.core.remembered import remembered
from urst.drawn.still import skins
from urst.errors import BadFile
from urst.kinds.kind import Arrays
from urst.scene import content
from urst.scene.paths import Path
from urst.scene.placing import placed_corners, stance
from urst.scene.shapes import Shape, meshes
from urst.scene.world import World


def geometry(world: World) -> Arrays:
    """Return the skins of all pieces, each in its shape's own coordinates; nothing of a piece whose mesh is missing."""
    parts, bodies = [], 0
    for number, piece in enumerate(world.pieces):
        try:
            drawn = _skins(piece.shape)
        except BadFile:
            # said by preflight
            continue
        n = len(drawn["centre"])
        parts.append(drawn | {"body": drawn["body"] + np.int32(bodies), "piece": np.full(n, number, np.int32)})
        bodies += n
    names = parts[0] if parts else _as_bodies(())
    return {name: np.concatenate([p[name] for p in parts]) if parts else names[name] for name in names}


def geometry_content(world: World) -> list:
    """What `geometry` depends on."""
    return [content.shape(p) for p in world.pieces]


@remembered(5e8, lambda _, found: sum(a.nbytes for a in found.values()))
def _skins(shape: Shape) -> Arrays:
    return _as_bodies(meshes(shape))


def _as_bodies(found: tuple[Mesh, ...]) -> Arrays:
    n, hulls = len(found), pack([])
    none = np.zeros(n + 1, np.int64)
    centre = np.array([np.mean(m.bounds(), axis=0) if len(m.vertices) else np.zeros(3) for m in found]).reshape(-1, 3)
    corners = [(m.vertices - c)[m.triangles].reshape(-1, 3, 3) for m, c in zip(found, centre)]
    count = [len(c) for c in corners]
    return skins(
        Fragments(
            piece=np.zeros(n, np.int64),
            part=np.arange(n),
            centre=centre,
            volume=np.zeros(n),
            inertia=np.zeros((n, 3, 3)),
            ball=np.zeros(n),
            whole=np.full(n, -1),
            hulls=hulls._replace(vertex_start=none, face_start=none, edge_start=none),
            skin=np.concatenate(corners).astype(np.float32) if n else np.zeros((0, 3, 3), np.float32),
            skin_start=np.concatenate([[0], np.cumsum(count)]).astype(np.int64),
            inner=np.zeros(sum(count), np.uint8),
        )
    )


def stances(world: World) -> list[dict]:
    """Return of each piece where it stands at the first frame, seven numbers: place and quaternion, and its box."""
    found = []
    for piece in world.pieces:
        turn, position = stance(piece, world)
        try:
            corners = placed_corners(piece, world)
        except BadFile:
            corners = ()
        box = None
        if corners:
            low, high = (
                np.min([c.min(axis=0) for c in corners], axis=0),
                np.max([c.max(axis=0) for c in corners], axis=0),
            )
            box = {"low": low.tolist(), "high": high.tolist()}
        found.append({"stance": [*map(float, position), *map(float, turn)], "box": box})
    return found


def paths(world: World) -> Arrays:
    """Return which pieces are driven (d,), and how each has moved since the first frame: shift and quaternion,
    (frames, d, 7).

    A point c of the piece at the first frame is then at q c + shift.
    """
    driven = [i for i, p in enumerate(world.pieces) if p.motion == "driven"]
    if not driven:
        return {}
    clock, rows = world.clock(), []
    frames = clock.full_speed(clock.times(np.array(world.frames(), float)))
    for piece in (world.pieces[i] for i in driven):
        at = Path(piece)
        home, home_turn = at(world.start)
        position, turn = at.along(frames)
        moved = rotation.turns(turn) * rotation.turns(home_turn).inv()
        rows.append(np.hstack([position - moved.apply(home), rotation.quaternions(moved)]))
    table = np.array(rows, np.float32).reshape(len(driven), -1, 7)
    return {"driven": np.array(driven, np.int32), "path": np.ascontiguousarray(table.transpose(1, 0, 2))}


def paths_content(world: World) -> list:
    """What `paths` depends on."""
    driven = [[i, content.path_of(p)] for i, p in enumerate(world.pieces) if p.motion == "driven"]
    return [driven, content.clock(world), world.end] if driven else []
