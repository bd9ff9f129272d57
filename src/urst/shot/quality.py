"""The same shot, faster or shorter."""

import re

from urst.errors import BadValue
from urst.shot.document import Shot, parse


def draft(shot: Shot) -> Shot:
    """The same character, sooner: each kind knows what it can do without."""
    layers = []
    for layer in shot.layers:
        data = layer.model_dump(mode="json")
        layers.append(data | {"settings": shot.kind_of(layer).draft(data["settings"])})
    return parse(shot.model_dump(mode="json") | {"layers": layers})


def with_frames(shot: Shot, text: str) -> Shot:
    """End the shot earlier: 'FIRST-LAST', where FIRST must be the shot's own first frame.

    A simulation can only start at the start, so another FIRST is refused.
    """
    match = re.fullmatch(r"(-?\d+)-(-?\d+)", text.strip())
    if not match:
        raise BadValue(f"frames: '{text}' is not a range; write FIRST-LAST, like {shot.start}-{shot.end}.")
    first, last = int(match[1]), int(match[2])
    if first != shot.start:
        raise BadValue(f"frames: a bake starts at frame {shot.start}, not {first}: write {shot.start}-{last}.")
    if not shot.start <= last <= shot.end:
        raise BadValue(f"frames: last frame {last} is outside {shot.start} to {shot.end}.")
    return parse(shot.model_dump(mode="json") | {"end": last})
