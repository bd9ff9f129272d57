"""Curves as they are typed and shown: `over speed 0: 60, 4: 800`, `over frame strike - 2: 0, strike + 6: 1.5`."""

import re
from typing import Any

from urst.core.curves.curve import UNITS, Curve
from urst.core.curves.varies import Varies
from urst.errors import BadValue
from urst.kinds.questions import Field
from urst.scene.units import parse_number
from urst.scene.values import Use
from urst.scene.world import World

_NUMBER = r"[-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?"
_HEAD = re.compile(
    rf"^\s*over\s+(?P<over>[a-z]+)(?:\s+from\s+(?P<origin>{_NUMBER}\s+{_NUMBER}\s+{_NUMBER}))?\s*[,;]?\s*(?P<points>.*)$"
)
_SHIFT = re.compile(r"^(?P<name>.+?)\s*(?P<sign>[+-])\s*(?P<plus>\d+(?:\.\d+)?)$")


def is_curve(text: str) -> bool:
    """Whether what was typed is meant as a curve."""
    return text.lstrip().startswith("over ") or ":" in text


def read(field: Field, varies: Varies, shot: World, text: str) -> tuple[dict, list[dict]]:
    """Return a curve, as in the document, and what of it takes cues: path within the curve, cue, frames after it.

    Raises
    ------
    BadValue
        If it is none that could stand in the field.
    """
    match = _HEAD.match(text if text.lstrip().startswith("over ") else f"over {varies.over[0]} {text}")
    if not match or match["over"] not in varies.over:
        raise BadValue(f"{field.label}: a curve here runs over {' or '.join(varies.over)}; write {example(varies)}.")
    over, points, uses = match["over"], list[dict](), list[dict]()
    for part in (p for p in match["points"].split(",") if p.strip()):
        place, colon, value = part.rpartition(":")
        if not colon:
            raise BadValue(f"{field.label}: '{part.strip()}' is no point of a curve; write {example(varies)}.")
        at, cue = _place(field, over, shot, place.strip())
        if cue:
            uses.append({"path": f"points.{len(points)}.at"} | cue)
        points.append({"at": at, "value": _plain(parse_number(value, field.si, field.label) * field.scale)})
    if not points:
        raise BadValue(f"{field.label}: the curve has no points; write {example(varies)}.")
    origin = [float(x) for x in match["origin"].split()] if match["origin"] else None
    return {"over": over, "points": points} | ({"origin": origin} if origin else {}), uses


def example(varies: Varies) -> str:
    """Return how a curve is written."""
    return f"over {varies.over[0]} 0: 1, 10: 2"


def _place(field: Field, over: str, shot: World, text: str) -> tuple[float, dict[str, Any] | None]:
    unit = UNITS[over]
    try:
        return _plain(parse_number(text, unit, field.label)), None
    except BadValue:
        if over != "frame" or not text:
            raise
    cues = {c.name: c.frame for c in shot.cues}
    shift = None if text in cues else _SHIFT.match(text)
    name, plus = text, 0.0
    if shift:
        name, plus = shift["name"], float(f"{shift['sign']}{shift['plus']}")
    if name not in cues:
        known = ", ".join(cues) or "none yet"
        raise BadValue(f"{field.label}: '{text}' is no frame and no cue; the cues are: {known}.")
    return cues[name] + plus, {"value": name, "plus": plus}


def said(curve: Curve, field: Field, uses: list[Use]) -> str:
    """Return a curve as it would be typed; `uses`: those that lie within it."""
    origin = " from {:g} {:g} {:g}".format(*curve.origin) if curve.over == "distance" and curve.origin else ""
    points = ", ".join(f"{p['told']}: {p['value']:.6g}" for p in plotted(curve, field, uses))
    return f"over {curve.over}{origin} {points}"


def plotted(curve: Curve, field: Field, uses: list[Use]) -> list[dict]:
    """Return the points as the editor takes them: place, shown value, and the place in words."""
    taken = {u.path.rsplit(".", 2)[-2]: u for u in uses if u.path.endswith(".at")}
    found: list[dict[str, Any]] = []
    for number, p in enumerate(curve.points):
        use = taken.get(str(number))
        cue = use.value if use and not re.search("[,:]", use.value) else ""
        plus = use.plus if use else 0.0
        shift = f" {'+' if plus > 0 else '-'} {abs(plus):g}" if plus else ""
        found.append(
            {"at": p.at, "value": p.value / field.scale, "cue": cue, "told": f"{cue}{shift}" if cue else f"{p.at:.6g}"}
        )
    return found


def _plain(number: float) -> float:
    # decimal scales leave no trace of binary rounding in the document
    return float(f"{number:.12g}")
