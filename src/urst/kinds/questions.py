"""Settings as the questions an artist asks, in the order they come up."""

from dataclasses import dataclass
from typing import Any


@dataclass(frozen=True)
class Field:
    """One setting as it is shown: path in the settings, label, unit shown."""

    path: str
    label: str
    unit: str = ""
    scale: float = 1.0
    """shown value = kept value / scale"""
    si: str = ""
    """unit of the shown value as the number reader knows it"""
    only: tuple[tuple[str, tuple[str, ...]], ...] = ()
    """shown only where other settings of the same entry have one of some values each"""
    names: str = ""
    """what it names: `piece`, or `meant`: a piece or a tag"""
    among: str = ""
    """method of the settings that returns the names it may have, the first of which it has where it says none"""


@dataclass(frozen=True)
class Question:
    """A group of settings."""

    text: str
    hint: str
    fields: tuple[Field, ...]
    entries: str = ""
    """the list whose entries it is about, if it is about a list"""
    noun: str = ""
    """what one of them is called"""
    asks: tuple[str, ...] = ()
    """settings of an entry that are chosen as it is added"""
    named: str = ""
    """what a new entry is called, of what is asked and `{number}`; empty: the noun and a number"""


@dataclass(frozen=True)
class Note:
    """What the shot's own numbers say about a question, and the value they suggest, if any."""

    text: str
    path: str = ""
    value: str = ""
    offer: str = ""


#: a moment, for which a cue may be named
FRAME: dict[str, Any] = {"si": "frame"}
METRES: dict[str, Any] = {"unit": "m", "si": "m"}
SPEED: dict[str, Any] = {"unit": "m/s", "si": "m/s"}
SECONDS: dict[str, Any] = {"unit": "s", "si": "s"}
DENSITY: dict[str, Any] = {"unit": "kg/m3", "si": "kg/m3"}
DEGREES: dict[str, Any] = {"unit": "deg", "si": "deg"}
PER_SECOND: dict[str, Any] = {"unit": "1/s", "si": "1/s"}
PER_AREA: dict[str, Any] = {"unit": "1/m2", "si": "1/m2"}
KILONEWTON: dict[str, Any] = {"unit": "kN", "scale": 1e3, "si": "kN"}
MEGA: dict[str, Any] = {"unit": "MPa", "scale": 1e6, "si": "MPa"}
CENTIMETRES: dict[str, Any] = {"unit": "cm", "scale": 0.01, "si": "cm"}
PERCENT: dict[str, Any] = {"unit": "%", "scale": 0.01, "si": "%"}
