"""Numbers of the shot with a name, and the settings that take them."""

from typing import Any

from pydantic import Field, field_validator

from urst.scene.part import Name, Part
from urst.scene.units import FACTORS


class NamedValue(Part):
    """A number with a name and a unit; its home is here."""

    name: Name
    value: float = Field(ge=-1e15, le=1e15, description="In the unit")
    unit: str = Field("", max_length=12)

    @field_validator("unit")
    @classmethod
    def _known(cls, value: str) -> str:
        if value and not any(value in family for family in FACTORS.values()):
            raise ValueError(f"'{value}' is no unit that is known here; use one like m, kg/m3, MPa or 1/s, or none")
        return value

    def si(self) -> float:
        """Return the number in SI units."""
        return self.value * next((f[self.unit] for f in FACTORS.values() if self.unit in f), 1.0)


class Use(Part):
    """A setting that takes a named value, times a factor, or the frame of a cue."""

    owner: str = Field("", max_length=80, description="A layer's id, or a set piece's name; empty: the shot itself")
    path: str = Field(
        pattern=r"^[a-z_]+(\.([a-z_]+|\d+))*$", max_length=120, description="The setting, such as bonds.tension"
    )
    value: Name = Field(description="A named value, or a cue")
    factor: float = Field(1.0, ge=-1e15, le=1e15)
    plus: float = Field(0.0, ge=-1e15, le=1e15, description="Added to it, such as frames after a cue")


def without_entry(uses: list[dict], owner: str, place: str, number: int) -> list[dict]:
    """Return uses as they are when an entry is taken out of one of the owner's lists: its own go, those behind move up.

    Parameters
    ----------
    uses : list of dict
    owner : str
    place : str
        The list, such as `sources` or `time_scale.points`.
    number : int
        Of the entry, from 0.
    """
    found = []
    for use in uses:
        if use["owner"] == owner and use["path"].startswith(f"{place}."):
            at, *rest = use["path"].removeprefix(f"{place}.").split(".")
            if int(at) == number:
                continue
            use = use | {"path": ".".join([place, str(int(at) - (int(at) > number)), *rest])}
        found.append(use)
    return found


def take(owners: dict[str, dict], what: list[dict], values: dict[str, float]) -> None:
    """Write named values and cues into the settings that take them.

    Parameters
    ----------
    owners : dict
        The part of the document each owner's settings lie in, changed in place.
    what : list of dict
        Uses, as validated.
    values : dict
        By name, in SI units; a cue's is its frame.

    Raises
    ------
    ValueError
        If an owner, a setting or a value is not there.
    """
    for use in what:
        owner, path, name = use["owner"], use["path"], use["value"]
        if owner not in owners:
            raise ValueError(f"'{owner}' takes '{name}' but is no layer and no set piece: remove the use")
        if name not in values:
            raise ValueError(
                f"'{owner or 'the shot'}' takes '{name}', which is no named value and no cue: add it, or remove the use"
            )
        at: Any = owners[owner]
        *parents, last = path.split(".")
        try:
            for part in parents:
                at = at[int(part)] if isinstance(at, list) else at.setdefault(part, {})
            number = float(f"{values[name] * use.get('factor', 1.0) + use.get('plus', 0.0):.12g}")
            before = at.get(last)
            at[last] = round(number) if isinstance(before, int) and not isinstance(before, bool) else number
        except (AttributeError, IndexError, KeyError, ValueError, TypeError) as error:
            raise ValueError(
                f"'{owner or 'the shot'}' has no setting '{path}' that could take the value '{name}'"
            ) from error
