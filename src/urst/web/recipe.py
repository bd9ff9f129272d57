"""The recipe: a layer's settings as the questions an artist asks, in the order they come up."""

from dataclasses import dataclass
from typing import Any, get_args

from annotated_types import Ge, Gt, Le, Lt
from pydantic import BaseModel

from urst.core.materials import MATERIALS
from urst.errors import BadValue
from urst.shot import advice
from urst.shot.document import SetPiece, Shot
from urst.shot.units import parse_number


@dataclass(frozen=True)
class Field:
    """One setting as it is shown: path in the settings, label, unit shown, what it changes."""

    path: str
    label: str
    unit: str = ""
    scale: float = 1.0
    """shown value = kept value / scale"""
    si: str = ""
    """unit of the shown value as the number reader knows it"""


@dataclass(frozen=True)
class Question:
    """A group of settings."""

    text: str
    hint: str
    fields: tuple[Field, ...]


METRES, SPEED, PER_SECOND = {"unit": "m", "si": "m"}, {"unit": "m/s", "si": "m/s"}, {"unit": "1/s", "si": "1/s"}
MEGA = {"unit": "MPa", "scale": 1e6, "si": "MPa"}
CENTIMETRES = {"unit": "cm", "scale": 0.01, "si": "cm"}

QUESTIONS: dict[str, tuple[Question, ...]] = {
    "break": (
        Question("What breaks?", "set pieces", (Field("pieces", "Pieces"),)),
        Question("Where do the cracks run?", "Voronoi", (
            Field("pattern", "Pattern"),
            Field("count", "Fragments"),
            Field("focus", "Focus x, y, z", **METRES),
            Field("focus_radius", "Focus reach", **METRES),
            Field("seed", "Seed"),
        )),
    ),
    "fall": (
        Question("What holds it?", "bonds", (
            Field("bonds.tension", "Tension", **MEGA),
            Field("bonds.shear", "Shear", **MEGA),
            Field("bonds.friction_angle", "Inner friction", "deg", 1.0, "deg"),
            Field("bonds.scatter", "Scatter", "%", 0.01, "%"),
            Field("bonds.modulus", "Stiffness", **MEGA),
            Field("bonds.seed", "Seed"),
        )),
        Question("How does it fly?", "limits", (
            Field("top_speed", "Fastest", **SPEED),
            Field("top_spin", "Fastest spin", "rad/s", 1.0, "rad/s"),
            Field("push_speed", "Out of overlap", **SPEED),
        )),
        Question("How does it settle?", "damping", (
            Field("linear_damping", "Damping", **PER_SECOND),
            Field("angular_damping", "Spin damping", **PER_SECOND),
            Field("settle", "Settle before", "s", 1.0, "s"),
        )),
        Question("How finely is it solved?", "steps", (
            Field("steps", "Checks a frame"),
            Field("substeps", "Substeps a check"),
        )),
    ),
    "shed": (
        Question("What is born?", "per area", (
            Field("chips", "Chips", "1/m2", 1.0, "1/m2"),
            Field("dust", "Dust puffs", "1/m2", 1.0, "1/m2"),
            Field("puff_mass", "Dust a puff", "g", 0.001, ""),
            Field("puff_life", "Puff gives off for", "s", 1.0, "s"),
            Field("puff_radius", "Puff reaches", **CENTIMETRES),
        )),
        Question("When is it born?", "parting", (
            Field("reach", "Spent after", **CENTIMETRES),
            Field("least_speed", "Slowest parting", **SPEED),
        )),
        Question("How does it fly?", "chips", (
            Field("spread", "Spread", "%", 0.01, "%"),
            Field("smallest", "Smallest", **CENTIMETRES),
            Field("largest", "Largest", **CENTIMETRES),
            Field("density", "Density", "kg/m3", 1.0, "kg/m3"),
            Field("life", "Kept for", "s", 1.0, "s"),
        )),
        Question("How does it land?", "contact", (
            Field("restitution", "Bounce"),
            Field("friction", "Friction"),
            Field("substeps", "Substeps a frame"),
            Field("seed", "Seed"),
        )),
    ),
    "billow": (
        Question("How fine?", "cells", (
            Field("cell_size", "Cell", **CENTIMETRES),
            Field("sharp", "Sharp detail"),
        )),
        Question("Where?", "domain", (
            Field("low", "Low corner", **METRES),
            Field("high", "High corner", **METRES),
            Field("wind", "Wind x, y, z", **SPEED),
        )),
        Question("How does it move?", "forces", (
            Field("weight", "Weight of dust", "x real"),
            Field("heat", "Warmth", "K", 1.0, "K"),
            Field("push", "Push of debris", "x real"),
            Field("swirl", "Swirl"),
        )),
        Question("When does it go?", "dissolve", (
            Field("dissolve", "Dissolves in", "s", 1.0, "s"),
        )),
        Question("How finely is it solved?", "steps", (
            Field("tolerance", "Divergence left"),
            Field("most_substeps", "Most substeps"),
        )),
    ),
}  # fmt: skip


@dataclass(frozen=True)
class Row:
    """A field with its value, ready for the page."""

    field: Field
    kind: str
    """number, vector, choice, switch, words"""
    shown: str
    title: str
    """what it changes, and its range"""
    choices: tuple[str, ...] = ()


_SHAPE_FIELDS = {
    "width": ("Width", "m"), "depth": ("Depth", "m"), "height": ("Height", "m"), "radius": ("Radius", "m"),
    "brick_length": ("Brick length", "m"), "course_height": ("Course height", "m"), "sides": ("Sides", ""), "rings": ("Rings", ""),
}  # fmt: skip

SHOT_QUESTIONS = (
    Question("What is it called?", "shot", (Field("name", "Name"), Field("note", "Note"))),
    Question("How long?", "frames", (
        Field("start", "First frame"),
        Field("end", "Last frame"),
        Field("rate", "Frames a second", "1/s", 1.0, "1/s"),
        Field("gravity", "Gravity x, y, z", "m/s2", 1.0, "m/s2"),
    )),
    Question("Seen from where?", "camera", (
        Field("camera.eye", "Eye x, y, z", **METRES),
        Field("camera.target", "Looks at", **METRES),
        Field("camera.lens", "Lens", "mm", 1.0, ""),
    )),
)  # fmt: skip


def cue_questions(shot: Shot) -> tuple[Question, ...]:
    """One question a cue: its name and its frame."""
    return tuple(
        Question("", "", (Field(f"cues.{i}.name", "Name"), Field(f"cues.{i}.frame", "Frame")))
        for i in range(len(shot.cues))
    )


def key_questions(piece: SetPiece) -> tuple[Question, ...]:
    """One question a key of a driven piece: frame, place, turn."""
    return tuple(
        Question("", "", (
            Field(f"keys.{i}.frame", "Frame"),
            Field(f"keys.{i}.position", "At", **METRES),
            Field(f"keys.{i}.rotation", "Turned", "deg", 1.0, "deg"),
        ))
        for i in range(len(piece.keys) if piece.motion == "driven" else 0)
    )  # fmt: skip


def piece_questions(piece: SetPiece) -> tuple[Question, ...]:
    """The questions about a set piece."""
    sizes = tuple(
        Field(f"shape.{name}", label, unit, 1.0, unit)
        for name, (label, unit) in _SHAPE_FIELDS.items()
        if name in type(piece.shape).model_fields
    )
    return (
        Question("What is it?", piece.shape.kind, (Field("name", "Name"), *sizes)),
        Question("Where does it stand?", "base", (
            Field("position", "At x, y, z", **METRES),
            Field("rotation", "Turned x, y, z", "deg", 1.0, "deg"),
        )),
        Question("How does it move?", "motion", (
            Field("motion", "Motion"),
            Field("bonded", "Bonds to what it touches"),
            Field("velocity", "Velocity", **SPEED),
            Field("spin", "Spin", "rad/s", 1.0, "rad/s"),
        )),
        Question("What is it made of?", "matter", (
            Field("material", "Material"),
            Field("density", "Density", "kg/m3", 1.0, "kg/m3"),
            Field("friction", "Friction"),
            Field("restitution", "Bounce"),
        )),
    )  # fmt: skip


@dataclass(frozen=True)
class Note:
    """What the shot's own numbers say about a question, and the value they suggest, if any."""

    text: str
    path: str = ""
    value: str = ""
    offer: str = ""


def notes(shot: Shot, layer, first: dict[str, float]) -> dict[str, Note]:
    """Notes by the question they stand under; `first`: the layer's gauges at the first frame, empty if not baked."""
    found = {}
    if layer.kind == "fall" and first.get("bond_load"):
        load = 100 * first["bond_load"]
        verdict = (
            "stands by itself" if load < 90 else "hardly stands by itself" if load < 100 else "does not stand by itself"
        )
        found["What holds it?"] = Note(
            f"At the first frame it {verdict}: the most loaded bond bears {load:.0f} % of its strength"
        )
    if layer.kind == "break" and (hint := advice.breaking(shot, layer)):
        text = f"{hint.cause} at {hint.speed:.2g} m/s breaks this into pieces of about {hint.size * 100:.2g} cm (Grady 1982)"
        found["Where do the cracks run?"] = Note(text, "count", str(hint.count), f"Use {hint.count} fragments")
    return found


def rows(model: BaseModel, questions: tuple[Question, ...], shot: Shot) -> list[tuple[Question, list[Row]]]:
    """The recipe of a layer's settings, of a piece, or of the shot itself."""
    return [(q, [_row(model, shot, f) for f in q.fields]) for q in questions]


def _row(model, shot, field):
    info, value = _find(model, field.path)
    title = info.description or ""
    span = _range(info, field)
    if span:
        title = f"{title} · {span}"
    if field.path == "material":
        return Row(field, "choice", value, title, tuple(MATERIALS))
    if value is None:
        return Row(field, "number", "", f"{title}; empty: the material's")
    if isinstance(value, bool):
        return Row(field, "switch", "on" if value else "off", title)
    if isinstance(value, tuple) and value and isinstance(value[0], float):
        return Row(field, "vector", ", ".join(_number(v / field.scale) for v in value), title)
    if isinstance(value, tuple):
        return Row(field, "words", ", ".join(value), title, tuple(p.name for p in shot.pieces))
    if isinstance(value, str):
        choices = get_args(info.annotation)
        return Row(field, "choice" if choices else "text", value, title, choices)
    return Row(field, "number", _number(value / field.scale if field.scale != 1 else value), title)


def _find(settings: BaseModel, path: str):
    *parents, last = path.split(".")
    for name in parents:
        settings = settings[int(name)] if isinstance(settings, tuple) else getattr(settings, name)
    return type(settings).model_fields[last], getattr(settings, last)


def _number(value: float | int) -> str:
    return f"{value:,}".replace(",", " ") if isinstance(value, int) else f"{value:.6g}"


def _range(info, field) -> str:
    low = high = None
    for rule in info.metadata:
        if isinstance(rule, Ge | Gt):
            low = (rule.ge if isinstance(rule, Ge) else rule.gt) / field.scale
        if isinstance(rule, Le | Lt):
            high = (rule.le if isinstance(rule, Le) else rule.lt) / field.scale
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
    field = next((f for q in questions for f in q.fields if f.path == path), None)
    if field is None:
        raise BadValue(f"'{path}' is no setting that can be changed here.")
    info, value = _find(model, path)
    if not text.strip() and info.default is None:
        return None
    if isinstance(value, bool):
        return text == "on"
    if isinstance(value, tuple) and value and isinstance(value[0], float):
        parts = [p for p in text.replace(";", ",").split(",") if p.strip()]
        if len(parts) != 3:
            raise BadValue(f"{field.label}: '{text}' has {len(parts)} numbers; write three, like 0, 1.5, 2.")
        return [parse_number(p, field.si, field.label) * field.scale for p in parts]
    if isinstance(value, tuple):
        return (
            [p.strip() for p in text.split(",") if p.strip()] if "," in text and text not in value else [text.strip()]
        )
    if isinstance(value, str):
        return text
    number = parse_number(text.replace(" ", "") if isinstance(value, int) else text, field.si, field.label)
    if isinstance(value, int):
        if number != int(number):
            raise BadValue(f"{field.label}: {text} is not a whole number.")
        return int(number)
    # decimal scales leave no trace of binary rounding in the document
    return float(f"{number * field.scale:.12g}")
