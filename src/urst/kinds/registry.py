"""The kinds of layers there are."""

from functools import reduce
from operator import or_
from typing import Annotated, Any, Literal

from pydantic import Field, create_model

from urst.errors import BadValue
from urst.kinds.billow.kind import Billow
from urst.kinds.break_.kind import Break
from urst.kinds.fall.kind import Fall
from urst.kinds.flood.kind import Flood
from urst.kinds.froth.kind import Froth
from urst.kinds.kind import Kind
from urst.kinds.layer import Layer
from urst.kinds.shed.kind import Shed
from urst.kinds.skin.kind import Skin

#: in the order of work
KINDS: dict[str, Kind] = {}


def register(kind: Kind) -> None:
    """Add a kind; before the document is first read."""
    KINDS[kind.name] = kind


register(Break())
register(Fall())
register(Shed())
register(Billow())
register(Flood())
register(Skin())
register(Froth())


def kind_of(layer: Any) -> Kind:
    """Return the kind of a layer."""
    return KINDS[layer.kind]


def named(name: str) -> Kind:
    """Return a kind by name.

    Raises
    ------
    BadValue
        If there is none.
    """
    if name not in KINDS:
        raise BadValue(f"'{name}' is no kind of layer; there are {', '.join(KINDS)}.")
    return KINDS[name]


def layer_models() -> list[type[Layer]]:
    """Make the model of each kind's layer: what all have, its name and its settings."""
    made = []
    for kind in KINDS.values():
        needed = any(f.is_required() for f in kind.settings.model_fields.values())
        fields: dict[str, Any] = {
            "kind": (Literal[kind.name], kind.name),
            "settings": (kind.settings, ... if needed else kind.settings()),
        }
        doc = (kind.__doc__ or kind.title).strip().splitlines()[0]
        made.append(create_model(f"{kind.title}Layer", __base__=Layer, __doc__=doc, **fields))
    return made


def layer_union() -> Any:
    """Return the type of a layer of any kind."""
    return Annotated[reduce(or_, layer_models()), Field(discriminator="kind")]
