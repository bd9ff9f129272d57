"""The recipe on the page: settings with their values, read from what is typed and shown as it is kept."""

import re
from collections.abc import Sequence
from dataclasses import dataclass, replace
from operator import attrgetter
from types import UnionType
from typing import Annotated, Any, Union, get_args, get_origin

from annotated_types import Ge, Gt, Le, Lt
from pydantic import BaseModel

from urst.core.curves.curve import UNITS, Curve
from urst.core.curves.varies import Varies
from urst.errors import BadValue
from urst.kinds.questions import (
    CENTIMETRES,
    DEGREES,
    DENSITY,
    FRAME,
    KILONEWTON,
    MEGA,
    METRES,
    PERCENT,
    SPEED,
    Field,
    Question,
)
from urst.scene.materials import MATERIALS
from urst.scene.part import Part
from urst.scene.pieces import SetPiece
from urst.scene.shapes import Closed
from urst.scene.taking_part import MATTERS
from urst.scene.units import FACTORS, parse_number
from urst.scene.values import Use
from urst.scene.world import World
from urst.shot.compare import Difference
from urst.shot.document import Shot
from urst.web import curve_text


@dataclass(frozen=True)
class Row:
    """A field with its value, ready for the page."""

    field: Field
    kind: str
    """number, curve, vector, choice, switch, words"""
    shown: str
    title: str
    """what it changes, and its range"""
    choices: tuple[str, ...] = ()
    taken: str = ""
    """the named value it takes, if any"""
    over: tuple[str, ...] = ()
    """what it may run over as a curve"""
    plot: dict | None = None
    """the curve it is, for the editor"""


_SHAPE_FIELDS = {
    "width": ("Width", "m"),
    "depth": ("Depth", "m"),
    "height": ("Height", "m"),
    "radius": ("Radius", "m"),
    "brick_length": ("Brick length", "m"),
    "course_height": ("Course height", "m"),
    "sides": ("Sides", ""),
    "rings": ("Rings", ""),
    "relief": ("Relief", "m"),
    "feature": ("Longest wave", "m"),
    "cells": ("Squares", ""),
    "seed": ("Seed", ""),
}

SHOT_QUESTIONS = (
    Question("What is it called?", "shot", (Field("name", "Name"), Field("note", "Note"))),
    Question(
        "How long?",
        "frames",
        (
            Field("start", "First frame"),
            Field("end", "Last frame"),
            Field("rate", "Frames a second", "1/s", 1.0, "1/s"),
            Field("time_scale", "Time scale", "x"),
            Field("played", "Playback speed", "x"),
            Field("gravity", "Gravity x, y, z", "m/s2", 1.0, "m/s2"),
        ),
    ),
    Question(
        "What picture is taken?",
        "pixels",
        (
            Field("picture.width", "Width"),
            Field("picture.height", "Height"),
            Field("picture.exposure", "Exposure", "stops"),
        ),
    ),
)


def camera_questions(shot: World) -> tuple[Question, ...]:
    """The cameras: which is seen through, and where that one stands."""
    i = shot.cameras.index(shot.camera)
    return (
        Question(
            "Seen from where?",
            "cameras",
            (
                Field("through", "Through"),
                Field(f"cameras.{i}.name", "Name"),
                Field(f"cameras.{i}.eye", "Eye x, y, z", **METRES),
                Field(f"cameras.{i}.target", "Looks at", **METRES),
                Field(f"cameras.{i}.lens", "Lens", "mm", 1.0, ""),
            ),
        ),
    )


LAYER_QUESTIONS = (Question("What is it called?", "layer", (Field("name", "Name"), Field("note", "Note"))),)


def cue_questions(shot: World) -> tuple[Question, ...]:
    """One question a cue: its name and its frame."""
    return tuple(
        Question("", "", (Field(f"cues.{i}.name", "Name"), Field(f"cues.{i}.frame", "Frame")))
        for i in range(len(shot.cues))
    )


def key_questions(piece: SetPiece) -> tuple[Question, ...]:
    """One question a key of a driven piece: frame, place, turn."""
    return tuple(
        Question(
            "",
            "",
            (
                Field(f"keys.{i}.frame", "Frame", **FRAME),
                Field(f"keys.{i}.position", "At", **METRES),
                Field(f"keys.{i}.rotation", "Turned", **DEGREES),
                Field(f"keys.{i}.going", "Goes"),
            ),
        )
        for i in range(len(piece.keys) if piece.motion == "driven" else 0)
    )


def value_questions(shot: World) -> tuple[Question, ...]:
    """One question a named value: its name, its number, its unit."""
    return tuple(
        Question(
            "",
            "",
            (
                Field(f"values.{i}.name", "Name"),
                Field(f"values.{i}.value", "Number"),
                Field(f"values.{i}.unit", "Unit"),
            ),
        )
        for i in range(len(shot.values))
    )


def part_questions(shot: World) -> tuple[Question, ...]:
    """One question a row of who takes part: what it stops, its window, whether it is seen."""
    return tuple(
        Question(
            "",
            "",
            (
                *(Field(f"taking_part.{i}.{m}", m) for m in MATTERS),
                Field(f"taking_part.{i}.since", "From frame", **FRAME),
                Field(f"taking_part.{i}.until", "Until frame", **FRAME),
                Field(f"taking_part.{i}.seen", "seen"),
            ),
        )
        for i in range(len(shot.taking_part))
    )


def coupling_questions(shot: Shot) -> tuple[Question, ...]:
    """One question a coupling: how strongly each side acts on the other."""
    name = {x.id: x.name for x in shot.layers}
    return tuple(
        Question(
            "",
            "",
            (
                Field(f"couplings.{i}.forth", f"{name[c.first]} on {name[c.second]}", "x real"),
                Field(f"couplings.{i}.back", f"{name[c.second]} on {name[c.first]}", "x real"),
            ),
        )
        for i, c in enumerate(shot.couplings)
    )


def _inside(shape: Part) -> tuple[Field, ...]:
    """What is asked about the inside of a closed shape."""
    if not isinstance(shape, Closed):
        return ()
    wall = (Field("shape.wall", "Wall", **CENTIMETRES),)
    grows = (Field("shape.grows", "Wall grows"),)
    asked = {"solid": (), "hollow": wall + grows, "void": wall}
    return (Field("shape.matter", "Inside"), *asked[shape.matter])


def piece_questions(piece: SetPiece) -> tuple[Question, ...]:
    """The questions about a set piece."""
    sizes = tuple(
        Field(f"shape.{name}", label, unit, 1.0, unit)
        for name, (label, unit) in _SHAPE_FIELDS.items()
        if name in type(piece.shape).model_fields
    )
    return (
        Question("What is it?", piece.shape.kind, (Field("name", "Name"), *sizes, Field("tags", "Tags"))),
        Question(
            "Where does it stand?",
            "base",
            (
                Field("position", "Position x, y, z", **METRES),
                Field("rotation", "Rotation x, y, z", **DEGREES),
            ),
        ),
        Question(
            "How does it move?",
            "motion",
            (
                Field("motion", "Motion"),
                Field("heads", "Faces along its path"),
                Field("force", "Greatest force", **KILONEWTON),
                Field("bonded", "Bonds to what it touches"),
                Field("holds", "Bond strength", "x"),
                Field("elongation", "Elongation at break", **PERCENT),
                Field("velocity", "Velocity", **SPEED),
                Field("spin", "Spin", "rad/s", 1.0, "rad/s"),
            ),
        ),
        Question(
            "What is it made of?",
            "matter",
            (
                *_inside(piece.shape),
                Field("material", "Material"),
                Field("density", "Density", **DENSITY),
                Field("friction", "Friction"),
                Field("restitution", "Restitution"),
                Field("rolling", "Rolling resistance"),
                Field("compression", "Compressive strength", **MEGA),
            ),
        ),
    )


def spread(model: BaseModel, questions: tuple[Question, ...]) -> tuple[Question, ...]:
    """Write out the fields of lists, one for each entry; a question about an empty list has no fields."""
    return tuple(replace(q, fields=tuple(f for field in q.fields for f in _entries(model, field))) for q in questions)


def _entries(model: Any, field: Field) -> list[Field]:
    if ".*." not in field.path:
        return [field]
    before, after = field.path.split(".*.")
    return [
        replace(field, path=f"{before}.{i}.{after}")
        for i, entry in enumerate(getattr(model, before))
        if all(attrgetter(name)(entry) in values for name, values in field.only)
    ]


@dataclass(frozen=True)
class Asked:
    """What is chosen as an entry is added to a list."""

    name: str
    label: str
    choices: tuple[str, ...]


def asked(model: BaseModel, question: Question, shot: World) -> list[Asked]:
    """What is chosen as an entry is added to the list that a question is about."""
    entry = get_args(type(model).model_fields[question.entries].annotation)[0]
    found = []
    for name in question.asks:
        field = next(f for f in question.fields if f.path == f"{question.entries}.*.{name}")
        choices = _named(field, shot) or get_args(entry.model_fields[name].annotation)
        found.append(Asked(name, field.label, tuple(choices)))
    return found


def _named(field: Field, shot: World) -> tuple[str, ...]:
    """The names that a setting may take, none if it is not one of names."""
    pieces = tuple(p.name for p in shot.pieces)
    if field.names == "meant":
        return ("", *pieces, *sorted({t for p in shot.pieces for t in p.tags} - set(pieces)))
    return {"piece": pieces, "piece or world": ("", *pieces)}.get(field.names, ())


def rows(
    model: BaseModel, questions: tuple[Question, ...], shot: World, owner: str = ""
) -> list[tuple[Question, list[Row]]]:
    """The recipe of a layer's settings, of a piece, or of the shot itself; `owner`: who takes named values."""
    uses = [u for u in shot.uses if u.owner == owner]
    taken = {u.path: _taken(u) for u in uses}
    return [
        (q, [replace(_row(model, shot, f, uses), taken=taken.get(f.path, "")) for f in q.fields])
        for q in spread(model, questions)
    ]


def _taken(use: Use) -> str:
    shift = f" {'+' if use.plus > 0 else '−'} {abs(use.plus):g}" if use.plus else ""
    return use.value + (f" × {use.factor:g}" if use.factor != 1 else "") + shift


def _row(model: Any, shot: World, field: Field, uses: Sequence[Use] = ()) -> Row:
    info, value = find(model, field.path)
    title = info.description or ""
    span = _range(info, field)
    if span:
        title = f"{title} · {span}"
    varies = varying(info)
    if varies and isinstance(value, Curve):
        inside = [u for u in uses if u.path.startswith(f"{field.path}.points.")]
        plot = {
            "over": value.over,
            "unit": UNITS[value.over],
            "origin": value.origin,
            "points": curve_text.plotted(value, field, inside),
            "least": varies.least / field.scale,
            "most": varies.most / field.scale,
        }
        return Row(field, "curve", curve_text.said(value, field, inside), title, over=varies.over, plot=plot)
    if field.path == "material":
        return Row(field, "choice", value, title, tuple(MATERIALS))
    if field.path == "through":
        return Row(field, "choice", value, title, tuple(c.name for c in shot.cameras))
    if field.among:
        names = getattr(model, field.among)()
        return Row(field, "choice", value or names[0], title, names)
    if field.names and isinstance(value, str):
        return Row(field, "choice", value, title, _named(field, shot))
    if value is None:
        return Row(field, "number", "", title if "empty" in title else f"{title}; empty: the material's")
    if isinstance(value, bool):
        return Row(field, "switch", "on" if value else "off", title)
    if _is_vector(info):
        return Row(field, "vector", ", ".join(_number(v / field.scale) for v in value), title)
    if isinstance(value, tuple):
        choices = () if field.path == "tags" else tuple(p.name for p in shot.pieces)
        return Row(field, "words", ", ".join(value), title, choices)
    if isinstance(value, str):
        choices = get_args(info.annotation)
        return Row(field, "choice" if choices else "text", value, title, choices)
    shown = _number(value / field.scale if field.scale != 1 else value)
    return Row(field, "number", shown, title, over=varies.over if varies else ())


def varying(info: Any) -> Varies | None:
    """Return what a setting may run over, None if it is always a number."""
    return next((m for m in info.metadata if isinstance(m, Varies)), None)


def _is_vector(info: Any) -> bool:
    return _size(info) > 0


def _size(info: Any) -> int:
    """How many numbers a setting is made of, 0 if it is no row of numbers."""
    able = get_args(info.annotation) if _may_be_empty(info) else (info.annotation,)
    row = next((x for x in able if get_origin(x) is tuple and _bare(get_args(x)[0]) is float), None)
    return len(get_args(row)) if row else 0


def _bare(kind: Any) -> type:
    """A type without the bounds that it may have."""
    return get_args(kind)[0] if get_origin(kind) is Annotated else kind


def shown(model: BaseModel, questions: tuple[Question, ...], shot: Any, path: str) -> str:
    """Return a setting as the page shows it, with its unit."""
    every = (row for _, found in rows(model, questions, shot) for row in found)
    row = next(r for r in every if r.field.path == path)
    return f"{row.shown} {row.field.unit}".strip()


def find(settings: BaseModel, path: str) -> tuple[Any, Any]:
    """Return the declaration and the value of a setting."""
    *parents, last = path.split(".")
    for name in parents:
        settings = settings[int(name)] if isinstance(settings, tuple) else getattr(settings, name)
    return type(settings).model_fields[last], getattr(settings, last)


def _number(value: float | int) -> str:
    return f"{value:,}".replace(",", " ") if isinstance(value, int) else f"{value:.6g}"


def _range(info: Any, field: Field) -> str:
    low: Any = None
    high: Any = None
    for rule in info.metadata:
        if isinstance(rule, Ge | Gt):
            low = getattr(rule, "ge" if isinstance(rule, Ge) else "gt") / field.scale
        if isinstance(rule, Le | Lt):
            high = getattr(rule, "le" if isinstance(rule, Le) else "lt") / field.scale
        if isinstance(rule, Varies):
            low, high = rule.least / field.scale, rule.most / field.scale
    if low is None or high is None:
        return ""
    return f"{low:g} to {high:g}{' ' + field.unit if field.unit else ''}"


def read(model: BaseModel, questions: tuple[Question, ...], path: str, text: str) -> Any:
    """Turn what was typed for a field into the kept value.

    Raises
    ------
    BadValue
        If there is no such field or the text does not fit it.
    """
    field = next((f for q in spread(model, questions) for f in q.fields if f.path == path), None)
    if field is None:
        raise BadValue(f"'{path}' is no setting that can be changed here.")
    info, value = find(model, path)
    if not text.strip() and _may_be_empty(info):
        return None
    if isinstance(value, bool):
        return text == "on"
    if _is_vector(info):
        parts = [p for p in text.replace(";", ",").split(",") if p.strip()]
        if len(parts) != _size(info):
            many, like = ("three", "0, 1.5, 2") if _size(info) == 3 else ("two", "0, 1.5")
            raise BadValue(f"{field.label}: '{text}' has {len(parts)} numbers; write {many}, like {like}.")
        return [parse_number(p, field.si, field.label) * field.scale for p in parts]
    if isinstance(value, tuple):
        words = [p.strip() for p in text.split(",") if p.strip()]
        return words if ("," in text and text not in value) or not text.strip() else [text.strip()]
    if isinstance(value, str):
        return text
    whole = isinstance(value, int) or (value is None and int in map(_bare, get_args(info.annotation)))
    number = parse_number(text.replace(" ", "") if whole else text, field.si, field.label)
    if whole:
        if number != int(number):
            raise BadValue(f"{field.label}: {text} is not a whole number.")
        return int(number)
    # decimal scales leave no trace of binary rounding in the document
    return float(f"{number * field.scale:.12g}")


def difference(d: Difference, before: Any, now: Any) -> str:
    """Say a difference as the recipe would: 'Fall · Tensile strength 0.35 → 0.3 MPa'."""
    whose = f"{d.of} · " if d.of else ""
    if not d.path:
        return f"{d.of} is new" if d.now else f"{d.of} is gone"
    field, scale, unit = None, 1.0, ""
    if d.layer:
        kind = now.kind_of((now if any(x.id == d.layer for x in now.layers) else before).layer(d.layer))
        plain = re.sub(r"\.\d+\.", ".*.", d.path)
        field = next((f for q in kind.questions for f in q.fields if f.path == plain), None)
    label = field.label if field else d.path.replace(".", " ").replace("_", " ")
    if field:
        scale, unit = field.scale, f" {field.unit}" if field.unit else ""
    return f"{whose}{label} {_said(d.before, scale)} → {_said(d.now, scale)}{unit}"


def _said(value: float, scale: float) -> str:
    if isinstance(value, dict):
        points = ", ".join(f"{p['at']:g}: {_said(p['value'], scale)}" for p in value["points"])
        return f"over {value['over']} {points}"
    if isinstance(value, bool):
        return "on" if value else "off"
    if isinstance(value, int | float):
        return _number(value / scale if scale != 1 else value)
    if isinstance(value, list):
        return ", ".join(_said(v, scale) for v in value) or "none"
    return "none" if value in (None, "") else str(value)


def _may_be_empty(info: Any) -> bool:
    return get_origin(info.annotation) in (Union, UnionType) and type(None) in get_args(info.annotation)


def fits(field: Field, unit: str) -> bool:
    """Whether a named value of a unit may stand in a field."""
    family = next((f for f in FACTORS.values() if field.si in f), None)
    return unit in family if family else not unit
