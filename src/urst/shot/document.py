"""The shot: the one document that everything is a function of.

SI units throughout, z up. A shot is read from and written to `*.shot.json`; its JSON Schema is published in docs/.
"""

import json
import re
from functools import cached_property
from graphlib import CycleError, TopologicalSorter
from typing import TYPE_CHECKING, Any, Literal, TypeVar

from pydantic import Field, TypeAdapter, ValidationError, model_validator

from urst.core.coupling.exchanges import pair_of
from urst.core.geometry.mesh import Mesh, key_of
from urst.errors import BadFile, BadValue
from urst.kinds import registry
from urst.kinds.kind import Kind
from urst.kinds.layer import Layer
from urst.kinds.offers.offer import Facts, Offer
from urst.scene import library, mesh_codec, values
from urst.scene.part import Part
from urst.scene.shapes import Imported
from urst.scene.values import NamedValue, Use
from urst.scene.world import Cue, World, distinct
from urst.shot.accepted import Accepted
from urst.shot.couplings import Coupling
from urst.shot.explain import explain
from urst.shot.graph import groups
from urst.shot.upgrade import FORMAT, OLDER, upgraded

F = TypeVar("F", bound=Facts)
if TYPE_CHECKING:
    # a model of its own for each kind, made from the registry
    AnyLayer = Any
else:
    AnyLayer = registry.layer_union()

#: no whole number of a document is longer
_BITS = 200
#: in JSON: escapes of characters that are no text, halves of a pair, more digits than any number has
_ODD = re.compile(r"\\u00[01]|\\[bfr]|[\ud800-\udfff]|\d{60}")


class Shot(World):
    """A shot: range, set, layers and what couples them."""

    format: Literal["urst-shot/5"] = "urst-shot/5"
    layers: tuple[AnyLayer, ...] = Field((), max_length=200)
    couplings: tuple[Coupling, ...] = Field((), max_length=1000)
    accepted: tuple[Accepted, ...] = Field((), max_length=1000)

    @cached_property
    def hashed(self) -> int:
        """Its hash, reckoned once: much is looked up by the whole of a shot."""
        return hash(tuple(getattr(self, name) for name in type(self).model_fields))

    def __hash__(self) -> int:
        return self.hashed

    def unnamed(self) -> "Shot":
        """The shot without its own name and note: what is baked of it and found about it is the same."""
        return Shot.model_construct(**{n: getattr(self, n) for n in Shot.model_fields} | {"name": "", "note": ""})

    @model_validator(mode="before")
    @classmethod
    def _take_values(cls, data: Any) -> Any:
        """Write named values into the settings that take them: a number has one home."""
        lists = (
            (data.get(n) or [] for n in ("uses", "cues", "values", "layers", "pieces"))
            if isinstance(data, dict)
            else ()
        )
        # what is no list is left to the validator
        if not isinstance(data, dict) or not data.get("uses") or not all(isinstance(x, (list, tuple)) for x in lists):
            return data
        data = json.loads(TypeAdapter(Any).dump_json(data))
        try:
            named = {c.name: float(c.frame) for c in map(Cue.model_validate, data.get("cues") or [])}
            named |= {v.name: v.si() for v in map(NamedValue.model_validate, data.get("values") or [])}
            uses = [Use.model_validate(u).model_dump() for u in data["uses"]]
        except ValidationError as error:
            raise ValueError(explain(error).rstrip(".")) from error
        layers = [x for x in data.get("layers") or [] if isinstance(x, dict)]
        owners = {p.get("name"): p for p in data.get("pieces") or [] if isinstance(p, dict)}
        owners |= {x.get("id"): x.setdefault("settings", {}) for x in layers}
        values.take(owners | {"": data}, uses, named)
        return data

    @model_validator(mode="after")
    def _consistent(self) -> "Shot":
        distinct([layer.id for layer in self.layers], "layers")
        by_id = {layer.id: layer for layer in self.layers}
        for layer in self.layers:
            self._check_links(layer, by_id)
            problem = self.kind_of(layer).problem(self, layer)
            if problem:
                raise ValueError(f"layer '{layer.name}' {problem}")
        distinct(
            [n for x in self.layers for n in self.kind_of(x).breaks(x)],
            "broken pieces (each piece is broken by one layer)",
        )
        for coupling in self.couplings:
            self._check_coupling(coupling, by_id)
        distinct([f"{a.layer or ''} {a.finding}" for a in self.accepted], "accepted findings")
        distinct([" and ".join(sorted((c.first, c.second))) for c in self.couplings], "couplings")
        _no_circle(self.layers, by_id)
        return self

    def _check_links(self, layer: Any, by_id: dict[str, Any]) -> None:
        kind = self.kind_of(layer)
        distinct(list(layer.reads), f"links of layer '{layer.name}'")
        for link in layer.reads:
            if link not in by_id:
                raise ValueError(f"layer '{layer.name}' reads '{link}', which is not in the shot: add or unlink it")
            other = self.kind_of(by_id[link])
            if not set(other.offers) & set(kind.reads):
                able = [k.name for k in registry.KINDS.values() if set(k.offers) & set(kind.reads)]
                raise ValueError(
                    f"layer '{layer.name}' ({kind.name}) cannot read a {other.name} layer; "
                    f"it reads {', '.join(able) or 'no other layer'}"
                )
        optional = {q.name for q in kind.kept(layer) if not q.always}
        for name in layer.keeps:
            if name not in optional:
                raise ValueError(
                    f"layer '{layer.name}' is to keep '{name}', which is not its to choose; "
                    f"it may keep {', '.join(sorted(optional)) or 'nothing more'}"
                )
        start = layer.start
        if start and not start.is_key():
            if start.of not in by_id:
                raise ValueError(
                    f"layer '{layer.name}' begins from '{start.of}', which is not in the shot: name one that is"
                )
            other = by_id[start.of]
            if other.kind != layer.kind or not kind.moving:
                raise ValueError(f"layer '{layer.name}' ({kind.name}) cannot begin from a {other.kind} layer")
            if not self.start <= start.frame <= self.end:
                raise ValueError(
                    f"layer '{layer.name}' begins from frame {start.frame} of '{other.name}', outside {self.start} to "
                    f"{self.end}"
                )

    def _check_coupling(self, coupling: Coupling, by_id: dict[str, Any]) -> None:
        for name in (coupling.first, coupling.second):
            if name not in by_id:
                raise ValueError(f"'{name}' is coupled but is not in the shot: add it, or remove the coupling")
        first, second = by_id[coupling.first], by_id[coupling.second]
        if not pair_of(self.kind_of(first).ports, self.kind_of(second).ports):
            raise ValueError(
                f"layers '{first.name}' ({first.kind}) and '{second.name}' ({second.kind}) cannot act on each other: "
                "remove the coupling, or let one read the other"
            )

    def kind_of(self, layer: Layer) -> Kind:
        """Return the kind of one of its layers."""
        return registry.kind_of(layer)

    def layer(self, layer_id: str) -> Any:
        """Return the layer with this id.

        Raises
        ------
        BadValue
            If there is none.
        """
        for layer in self.layers:
            if layer.id == layer_id:
                return layer
        raise BadValue(f"The shot has no layer '{layer_id}'; it has {', '.join(x.id for x in self.layers) or 'none'}.")

    def partners(self, layer: Layer) -> list[tuple[Any, float, float]]:
        """Return the layers it is coupled with, how strongly each acts on it and it on each."""
        found = [(c.second, c.back, c.forth) for c in self.couplings if c.first == layer.id]
        found += [(c.first, c.forth, c.back) for c in self.couplings if c.second == layer.id]
        return [(self.layer(name), to, fro) for name, to, fro in found]

    def takes(self, layer: Layer, offer: Offer) -> list[Any]:
        """Return the layers it reads, or that act on it, and whose kind offers something it can take."""
        if offer not in self.kind_of(layer).reads:
            return []
        acting = [x.id for x, on_it, _ in self.partners(layer) if on_it > 0.0]
        names = {*layer.reads, *acting}
        # by id, so that the order of the list changes no result
        return sorted((x for x in self.layers if x.id in names and offer in self.kind_of(x).offers), key=lambda x: x.id)

    def facts(self, layer: Layer, offer: Offer[F]) -> F:
        """Return what the document tells of something that a layer offers.

        Raises
        ------
        BadValue
            If its kind offers no such thing.
        """
        kind = self.kind_of(layer)
        if offer not in kind.offers:
            raise BadValue(f"'{layer.name}' ({kind.name}) offers no {offer}: read another layer.")
        found = kind.facts(self, layer, offer)
        assert isinstance(found, offer.facts), f"{kind.name} gives {type(found).__name__} as the facts of {offer}"
        return found

    def grouped(self, first: Layer, second: Layer) -> bool:
        """Whether two layers are stepped together."""
        return any({first.id, second.id} <= set(group) for group in groups(self))


def _no_circle(layers: tuple[Any, ...], by_id: dict[str, Any]) -> None:
    try:
        graph = {x.id: {*x.reads, *([x.start.of] if x.start and not x.start.is_key() else [])} for x in layers}
        TopologicalSorter(graph).prepare()
    except CycleError as error:
        circle = error.args[1]
        names = " and ".join(f"'{by_id[n].name}'" for n in dict.fromkeys(circle))
        raise ValueError(
            f"layers {names} read each other in a circle: remove one link, or couple the two that act on each other"
        ) from error


class PackedMesh(Part):
    """A mesh that a file brings along."""

    vertices: str = Field(description="base64 of zlib of float64 x, y, z, little endian")
    triangles: str = Field(description="base64 of zlib of int32 index triples, little endian")


class ShotFile(Shot):
    """A shot as a file: the document, and the meshes it names."""

    meshes: dict[str, PackedMesh] = Field({}, description="By the hash of their content")


def parse(data: dict) -> Shot:
    """Validate a document, of this version or an older one.

    Raises
    ------
    BadValue
        With one sentence that names the field, the value and the allowed range.
    """
    if not _plain(data):
        _check_text(data)
    try:
        return Shot.model_validate(upgraded(data))
    except ValidationError as error:
        raise BadValue(explain(error)) from error
    except RecursionError as error:
        raise BadValue("The document is nested too deep to be a shot: take an earlier copy.") from error


def _plain(data: dict[str, Any]) -> bool:
    """Whether there is nothing in a document that has to be looked at word by word."""
    try:
        return _ODD.search(json.dumps(data, ensure_ascii=False)) is None
    except (ValueError, TypeError, RecursionError):
        return False


def _check_text(data: object) -> None:
    """Refuse words that are no text, with characters that no page shows and no database keeps, and numbers without
    end."""
    heap = [data]
    while heap:
        value = heap.pop()
        if isinstance(value, dict):
            heap += [*value, *value.values()]
        elif isinstance(value, (list, tuple)):
            heap += value
        elif isinstance(value, int) and value.bit_length() > _BITS:
            raise BadValue(f"A number in the document has more than {_BITS * 3 // 10} digits: no setting takes it.")
        elif isinstance(value, str) and not value.isprintable():
            bad = next((c for c in value if c not in "\n\t" and (ord(c) < 32 or 0xD800 <= ord(c) < 0xE000)), None)
            if bad is not None:
                raise BadValue(
                    f"'{value[:40].encode('ascii', 'replace').decode()}' holds the character U+{ord(bad):04X}, which "
                    "is no text: take it out."
                )


def loads(text: str | bytes, source: str = "the file") -> Shot:
    """Read a shot from the text of a `*.shot.json`.

    Raises
    ------
    BadFile
        If it is no shot file, or lacks a mesh.
    BadValue
        If something in it is out of range.
    """
    try:
        data = json.loads(text)
    except RecursionError as error:
        raise BadFile(f"{source} is nested too deep to be a shot: take an earlier copy.") from error
    except (ValueError, UnicodeDecodeError) as error:
        raise BadFile(
            f"{source} is not complete JSON ({error}): it may have been cut short; take an earlier copy."
        ) from error
    if not isinstance(data, dict) or data.get("format") not in (FORMAT, *OLDER):
        raise BadFile(
            f"{source} is not a shot: its 'format' must be '{FORMAT}', or an older one such as '{OLDER[-1]}'."
        )
    data = dict(data)
    brought = _brought(data.pop("meshes", {}))
    shot = parse(data)
    _complete(shot, brought, source)
    # only what is whole is kept
    for mesh in brought.values():
        library.put(mesh)
    return shot


def _brought(raw: Any) -> dict[str, Mesh]:
    """The meshes that a file brings along, each under its own hash."""
    try:
        packed = TypeAdapter(dict[str, PackedMesh]).validate_python(raw)
    except ValidationError as error:
        raise BadValue(f"meshes: {explain(error)}") from error
    found = {key: mesh_codec.unpack(text.vertices, text.triangles, key) for key, text in packed.items()}
    for key, mesh in found.items():
        if key_of(mesh) != key:
            raise BadFile(f"The mesh under '{key}' is another than its hash says: take an earlier copy of the file.")
    return found


def _complete(shot: Shot, brought: dict[str, Mesh], source: str) -> None:
    """Refuse a shot whose meshes are neither in its file nor here."""
    named = {p.shape.mesh: (p, p.shape) for p in shot.pieces if isinstance(p.shape, Imported)}
    for key, (piece, shape) in named.items():
        if key not in brought and not library.has(key):
            raise BadFile(
                f"{source} lacks the mesh '{shape.source or key[:8]}' of '{piece.name}', and it is not in the "
                "store: "
                "export the shot again where it opens."
            )


def dumps(shot: Shot) -> str:
    """Write a shot as the text of a `*.shot.json`, with the meshes it names.

    Raises
    ------
    BadFile
        If one of them is not in the library.
    """
    data = shot.model_dump(mode="json")
    named = {p.shape.mesh: p.shape.source for p in shot.pieces if isinstance(p.shape, Imported)}
    if named:
        packed = {key: mesh_codec.pack(library.get(key, source)) for key, source in named.items()}
        data["meshes"] = {key: {"vertices": v, "triangles": t} for key, (v, t) in packed.items()}
    return json.dumps(data, indent=1) + "\n"
