"""The events and joints of a fall in the document: what they ask, whom they mean."""

from typing import Any

import numpy as np

from urst.core.rigid.settings import Event, Joint
from urst.kinds import launching
from urst.kinds.fall.settings import FallSettings
from urst.kinds.questions import DEGREES, FRAME, METRES, PER_SECOND, SECONDS, SPEED, Field, Question
from urst.scene.pieces import SetPiece

_LAUNCH = (("what", ("launch",)),)
_PLACED = (("what", ("launch", "blast")),)
_REGION = (("when", ("region",)),)
_SLOW = (("what", ("slow down",)),)

EVENTS = Question(
    "What happens when?",
    "events",
    (
        Field("events.*.name", "Name"),
        Field("events.*.what", "Action"),
        Field("events.*.of", "Applies to", names="meant"),
        Field("events.*.when", "Trigger"),
        Field("events.*.frame", "At frame", only=(("when", ("frame",)),), **FRAME),
        Field("events.*.by", "Touched by", only=(("when", ("touch",)),), names="meant"),
        Field("events.*.force", "Load", "kN", 1e3, "kN", only=(("when", ("load",)),)),
        Field("events.*.low", "Region from", only=_REGION, **METRES),
        Field("events.*.high", "Region to", only=_REGION, **METRES),
        Field("events.*.after", "After event", only=(("when", ("after",)),)),
        Field("events.*.delay", "Delay", **SECONDS),
        *launching.fields("events.*.launch", _LAUNCH, _PLACED),
        Field("events.*.launch.spin", "Random spin up to", "rad/s", 1.0, "rad/s", only=_LAUNCH),
        Field("events.*.charge", "Charge", "kg", 1.0, "kg", only=(("what", ("blast",)),)),
        Field("events.*.top_speed", "Slow to", only=_SLOW, **SPEED),
        Field("events.*.over", "over", only=_SLOW, **SECONDS),
    ),
    entries="events",
    noun="event",
    asks=("what",),
)

_SPAN = (("kind", ("rope", "spring")),)

JOINTS = Question(
    "What is joined?",
    "joints",
    (
        Field("joints.*.name", "Name"),
        Field("joints.*.kind", "Joint type"),
        Field("joints.*.first", "Piece", names="piece"),
        Field("joints.*.second", "Joined to", names="piece or world"),
        Field("joints.*.at", "Position", **METRES),
        Field("joints.*.to", "Second end", only=_SPAN, **METRES),
        Field("joints.*.length", "Length", only=_SPAN, **METRES),
        Field("joints.*.axis", "Axis", only=(("kind", ("hinge", "slider")),)),
        Field("joints.*.turns", "Angle limits", only=(("kind", ("hinge",)),), **DEGREES),
        Field("joints.*.slides", "Slide limits", only=(("kind", ("slider",)),), **METRES),
        Field("joints.*.stiffness", "Stiffness", "N/m", only=(("kind", ("spring",)),)),
        Field("joints.*.damping", "Damping", only=(("kind", ("hinge", "slider", "spring")),)),
        Field("joints.*.strength", "Breaks at", "kN", 1e3, "kN"),
    ),
    entries="joints",
    noun="joint",
    asks=("kind", "first", "second"),
)


REGIONS = Question(
    "What pulls elsewhere?",
    "regions",
    (
        Field("regions.*.name", "Name"),
        Field("regions.*.low", "From", **METRES),
        Field("regions.*.high", "To", **METRES),
        Field("regions.*.pull", "Gravity inside", "m/s2", 1.0, "m/s2"),
        Field("regions.*.damping", "Damping", **PER_SECOND),
        Field("regions.*.since", "From frame", **FRAME),
        Field("regions.*.until", "Until frame", **FRAME),
    ),
    entries="regions",
    noun="region",
)


def means(names: tuple[str, ...], piece: SetPiece) -> bool:
    """Return whether names of pieces and tags mean a piece; no names mean every one.

    Parameters
    ----------
    names : sequence of str
    piece : SetPiece
    """
    return not names or piece.name in names or any(t in names for t in piece.tags)


def whom(names: tuple[str, ...], pieces: list[SetPiece], of_body: np.ndarray) -> np.ndarray:
    """Return which bodies names of pieces and tags mean, (n,) bool.

    Parameters
    ----------
    names : sequence of str
    pieces : sequence of SetPiece
    of_body : (n,) int64
        Which of the pieces each body is of.
    """
    return np.array([means(names, p) for p in pieces], bool)[of_body]


def problem(shot: Any, settings: FallSettings) -> str:
    """Return what is wrong with the events within a shot, empty if nothing is."""
    known = {p.name for p in shot.pieces} | {t for p in shot.pieces for t in p.tags}
    for e in settings.events:
        if e.when == "touch" and not (e.of or e.by):
            return (
                f"has the event '{e.name}', which waits for all to touch itself: name what it happens to, or what "
                f"touches it"
            )
        for name in (*e.of, *([e.by] if e.by else [])):
            if name not in known:
                return f"has the event '{e.name}' about '{name}', which is no set piece and no tag: name one of the set"
    for j in settings.joints:
        for name in (j.first, *([j.second] if j.second else [])):
            if shot.piece(name) is None:
                return f"has the joint '{j.name}' at '{name}', which is no set piece: name one of the set"
    return ""


def renamed(settings: dict, before: str, now: str) -> dict:
    """Return settings (as in the document) in which a piece has its new name."""
    new = lambda name: now if name == before else name  # noqa: E731
    events = [
        e | {"of": [new(x) for x in e.get("of", [])], "by": new(e.get("by", ""))} for e in settings.get("events", [])
    ]
    joints = [j | {"first": new(j["first"]), "second": new(j.get("second", ""))} for j in settings.get("joints", [])]
    return settings | ({"events": events} if events else {}) | ({"joints": joints} if joints else {})


def joints_content(joints: tuple[Joint, ...], pieces: list[SetPiece]) -> list:
    """Return what a result depends on of the joints: which pieces they join, not what these are called.

    Parameters
    ----------
    joints : sequence of Joint
    pieces : sequence of SetPiece
    """
    return [
        j.model_dump(mode="json", exclude={"name", "first", "second"})
        | {"between": [[p.name == name for p in pieces] for name in (j.first, j.second)], "world": not j.second}
        for j in joints
    ]


def events_content(events: tuple[Event, ...], pieces: list[SetPiece]) -> list:
    """Return what a result depends on of the events: which pieces they mean, not what these are called.

    Parameters
    ----------
    events : sequence of Event
    pieces : sequence of SetPiece
    """
    order = {e.name: n for n, e in enumerate(events)}
    return [
        e.model_dump(mode="json", exclude={"name", "of", "by", "after"})
        | {"of": [means(e.of, p) for p in pieces], "by": [bool(e.by) and means((e.by,), p) for p in pieces]}
        | {"after": order.get(e.after)}
        for e in events
    ]
