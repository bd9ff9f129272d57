"""The same shot, faster or shorter."""

import re

from urst.errors import BadValue
from urst.shot.by_shot import by_shot
from urst.shot.document import Shot, parse

QUALITIES = ("shot", "draft")


def of_quality(shot: Shot, quality: str) -> Shot:
    """Return a shot as it is ('shot') or as a draft ('draft').

    Raises
    ------
    BadValue
        If there is no such quality.
    """
    if quality not in QUALITIES:
        raise BadValue(f"'{quality}' is no quality; there are {' and '.join(QUALITIES)}.")
    return draft(shot) if quality == "draft" else shot


@by_shot
def draft(shot: Shot) -> Shot:
    """The same character, sooner: each kind knows what it can do without."""
    layers = []
    for layer in shot.layers:
        data = layer.model_dump(mode="json")
        layers.append(data | {"settings": shot.kind_of(layer).draft(data["settings"])})
    # named values stand in the settings already; taken again they would undo the draft
    return parse(shot.model_dump(mode="json") | {"layers": layers, "uses": []})


def until(shot: Shot, frame: int) -> Shot:
    """The shot up to a frame; what is baked of it is found again by the whole.

    Raises
    ------
    BadValue
        If the frame is not one of the shot's, or a layer begins from a later one.
    """
    if not shot.start <= frame <= shot.end:
        raise BadValue(f"Frame {frame} is outside the shot's {shot.start} to {shot.end}.")
    return parse(shot.model_dump(mode="json") | {"end": frame})


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
    return until(shot, last)
