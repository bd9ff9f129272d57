"""What of the set a result depends on: the part of a content key that pieces make up."""

from urst.core.curves.curve import Curve
from urst.scene.pieces import SetPiece
from urst.scene.shapes import is_hollow
from urst.scene.world import World


def shape(piece: SetPiece) -> dict:
    """What the piece's geometry depends on: not its name, nor the file a mesh came from."""
    about_walls = set() if is_hollow(piece.shape) else {"matter", "wall", "grows"}
    return piece.shape.model_dump(mode="json", exclude={"source"} | about_walls)


def stance(piece: SetPiece, world: World) -> dict:
    """Geometry and place at the first frame."""
    content = {"shape": shape(piece), "at": [piece.position, piece.rotation]}
    if piece.motion == "driven":
        content["at"] = [path_of(piece), world.start]
    return content


def path_of(piece: SetPiece) -> list:
    """The keys of a driven piece, and whether it heads along them."""
    return [piece.heads, *(k.model_dump(mode="json") for k in piece.keys)]


def motion(piece: SetPiece, world: World) -> dict:
    """Geometry and how it is moved."""
    content = stance(piece, world) | {"motion": piece.motion}
    return content | ({"thrown": [piece.velocity, piece.spin]} if piece.motion == "loose" else {})


def window(piece: SetPiece, world: World) -> list:
    """When it is there."""
    row = world.part_of(piece)
    return [row.since, row.until]


def clock(world: World) -> list:
    """The clock and what pulls."""
    scale = world.time_scale.model_dump(mode="json") if isinstance(world.time_scale, Curve) else world.time_scale
    return [world.start, world.rate, None if scale == 1.0 else scale, list(world.gravity)]
