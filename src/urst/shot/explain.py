"""Validation errors in words."""

from typing import get_args

from pydantic import ValidationError

from urst.core.curves.varies import TAGS
from urst.kinds import registry
from urst.scene.shapes import Shape

#: letters of a name or value that are told
_LONG = 240


def explain(error: ValidationError) -> str:
    """One sentence for the first fault in a document: field, value, what is allowed."""
    first = error.errors()[0]
    where = " > ".join(_plain(part) for part in first["loc"] if not _is_tag(part)) or "shot"
    text = first["msg"].removeprefix("Value error, ")
    shown = first.get("input")
    if first["type"] == "value_error" or isinstance(shown, (dict, list, tuple)) or shown is None:
        return f"{_short(where)}: {_short(text)}."
    return f"{_short(where)}: {_short(repr(shown))} is not allowed; {text[0].lower()}{text[1:]}."


def _short(text: str) -> str:
    """What a user reads of what may be thousands of letters long."""
    return text if len(text) <= _LONG else f"{text[: _LONG // 2]} … {text[-_LONG // 2 :]}"


def _plain(part: int | str) -> str:
    return f"no. {part + 1}" if isinstance(part, int) else str(part).replace("_", " ")


def _is_tag(part: int | str) -> bool:
    """Whether a part of a field's place is only the name of a kind that the validator went by."""
    return (
        part in TAGS
        or part in registry.KINDS
        or part in {m.model_fields["kind"].default for m in get_args(get_args(Shape)[0])}
    )
