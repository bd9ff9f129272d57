"""Validation errors in words."""

from collections.abc import Mapping
from typing import Any, get_args

from pydantic import ValidationError

from urst.core.curves.varies import TAGS
from urst.kinds import registry
from urst.scene.shapes import Shape

#: what a field may be, by what the validator calls the fault
_ALLOWED = {
    "missing": "it is missing: give it a value",
    "extra_forbidden": "there is no such field here: correct its name, or remove it",
    "float_type": "it must be a number",
    "float_parsing": "it must be a number",
    "int_type": "it must be a whole number",
    "int_parsing": "it must be a whole number",
    "int_parsing_size": "it must be a smaller whole number",
    "int_from_float": "it must be a whole number",
    "finite_number": "it must be a finite number",
    "bool_type": "it must be true or false",
    "bool_parsing": "it must be true or false",
    "string_type": "it must be a text",
    "string_unicode": "it must be a text in Unicode",
    "string_too_long": "it may have {max_length} letters at most",
    "string_too_short": "it must have {min_length} letters at least",
    "string_pattern_mismatch": "it must be written as {pattern}",
    "greater_than": "it must be more than {gt}",
    "greater_than_equal": "it must be {ge} or more",
    "less_than": "it must be less than {lt}",
    "less_than_equal": "it must be {le} or less",
    "literal_error": "it must be {expected}",
    "enum": "it must be {expected}",
    "model_type": "it must be an object with named fields",
    "model_attributes_type": "it must be an object with named fields",
    "dict_type": "it must be an object with named fields",
    "list_type": "it must be a list",
    "tuple_type": "it must be a list",
    "set_type": "it must be a list",
    "too_long": "it has {actual_length} entries: {max_length} at most",
    "too_short": "it has {actual_length} entries: {min_length} at least",
    "union_tag_invalid": "'{tag}' is no kind: it must be one of {expected_tags}",
    "union_tag_not_found": "its kind is missing: name one",
    "json_invalid": "it is no JSON",
}
#: letters of a name or value that are told
_LONG = 240


def explain(error: ValidationError) -> str:
    """One sentence for the first fault in a document: field, value, what is allowed."""
    first: dict[str, Any] = dict(error.errors()[0])
    where = " > ".join(_plain(part) for part in first["loc"] if not _is_tag(part)) or "shot"
    text, shown = allowed(first), first.get("input")
    if first["type"] in ("value_error", "missing", "extra_forbidden") or isinstance(shown, (dict, list, tuple)):
        return f"{_short(where)}: {_short(text)}."
    return f"{_short(where)}: {_short(_said(shown))} is not allowed; {_short(text)}."


def allowed(fault: Mapping[str, Any]) -> str:
    """What a field may be, of which a validator found a fault, without a full stop.

    Parameters
    ----------
    fault : dict
        One of what `ValidationError.errors` returns.
    """
    told = {k: _number(v) for k, v in dict(fault.get("ctx", {})).items()}
    if fault["type"] in _ALLOWED:
        return _ALLOWED[fault["type"]].format_map(_Told(told))
    text = str(fault["msg"]).removeprefix("Value error, ").removeprefix("Assertion failed, ")
    return text[:1].lower() + text[1:] if fault["type"] != "value_error" else text


class _Told(dict[str, Any]):
    def __missing__(self, key: str) -> str:
        return "what is written here"


def _number(value: Any) -> Any:
    return f"{value:,.12g}" if isinstance(value, (int, float)) and not isinstance(value, bool) else value


def _said(value: Any) -> str:
    if value is None:
        return "nothing"
    if isinstance(value, bool):
        return "true" if value else "false"
    return repr(value) if isinstance(value, (int, float, str)) else "that"


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
