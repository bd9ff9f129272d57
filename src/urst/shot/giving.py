"""One setting, a whole recipe or a piece's property given to others at once."""

from collections.abc import Sequence
from typing import Any

from urst.errors import BadValue
from urst.shot.document import Shot, parse

#: what a piece may give to others
OF_PIECES = (
    "material",
    "density",
    "friction",
    "restitution",
    "rolling",
    "compression",
    "bonded",
    "motion",
    "velocity",
    "spin",
    "rotation",
    "tags",
)


def given(shot: Shot, layer_id: str, path: str, to: Sequence[str]) -> Shot:
    """Return the shot in which other layers of a layer's kind have a setting of it, or all but what is its own.

    Parameters
    ----------
    shot : Shot
    layer_id : str
    path : str
        The setting, such as `bonds.tension`; empty for the whole recipe.
    to : list of str
        Ids of the layers that are to have it.

    Raises
    ------
    BadValue
        If there is no such layer or setting, or the document would no longer be sound.
    """
    layer, data = shot.layer(layer_id), shot.model_dump(mode="json")
    kind = shot.kind_of(layer)
    mine = layer.settings.model_dump(mode="json")
    names = [path] if path else [n for n in mine if n not in kind.own]
    for other in map(shot.layer, _some(to)):
        if other.kind != layer.kind:
            raise BadValue(
                f"'{other.name}' is a {other.kind} layer and cannot take the settings of a {layer.kind} layer."
            )
        theirs = next(x for x in data["layers"] if x["id"] == other.id)["settings"]
        for name in names:
            value = _get(mine, name)
            try:
                _put(theirs, name, value)
            except IndexError as error:
                raise BadValue(
                    f"'{other.name}' has no entry of that number in its '{name.split('.')[0]}': give it the whole list."
                ) from error
        _give_uses(data, layer_id, other.id, names)
    return parse(data)


def given_piece(shot: Shot, name: str, path: str, to: Sequence[str]) -> Shot:
    """Return the shot in which other pieces have a property of a piece.

    Parameters
    ----------
    shot : Shot
    name : str
    path : str
        One of `OF_PIECES`.
    to : list of str
        Names of pieces, or tags that stand for all that bear them.

    Raises
    ------
    BadValue
        If there is no such piece or property, or the document would no longer be sound.
    """
    piece, data = shot.piece(name), shot.model_dump(mode="json")
    if piece is None or path not in OF_PIECES:
        raise BadValue(f"'{path}' of '{name}' is nothing that can be given to other pieces.")
    value = piece.model_dump(mode="json")[path]
    chosen = [p.name for p in shot.pieces if set(_some(to)) & {p.name, *p.tags}]
    unknown = [t for t in to if not any(t in (p.name, *p.tags) for p in shot.pieces)]
    if unknown:
        raise BadValue(f"'{unknown[0]}' is no set piece and no tag: name one of the set.")
    for other in data["pieces"]:
        if other["name"] in chosen and other["name"] != name:
            other[path] = value
            _give_uses(data, name, other["name"], [path])
    return parse(data)


def _some(to: Sequence[str]) -> Sequence[str]:
    if not to:
        raise BadValue("Nothing is chosen that could take it: tick at least one.")
    return to


def _get(settings: dict[str, Any], path: str) -> Any:
    try:
        for part in path.split("."):
            settings = settings[_step(settings, part)]
    except (KeyError, IndexError, TypeError, ValueError) as error:
        raise BadValue(f"'{path}' is no setting that can be given to others.") from error
    return settings


def _put(settings: dict[str, Any], path: str, value: Any) -> None:
    *parents, last = path.split(".")
    for part in parents:
        settings = settings[_step(settings, part)]
    settings[_step(settings, last)] = value


def _step(settings: Any, part: str) -> Any:
    """A key, or a number within a list."""
    return int(part) if isinstance(settings, list) else part


def _give_uses(data: dict[str, Any], giver: str, taker: str, paths: list[str]) -> None:
    """What a setting takes its value from goes along."""
    inside = lambda use: any(use["path"] == p or use["path"].startswith(f"{p}.") for p in paths)  # noqa: E731
    rest = [u for u in data["uses"] if not (u["owner"] == taker and inside(u))]
    data["uses"] = rest + [u | {"owner": taker} for u in data["uses"] if u["owner"] == giver and inside(u)]
