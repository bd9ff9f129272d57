"""What a kind of layer is to the rest of Urst."""

from collections.abc import Callable, Sequence
from importlib import import_module
from typing import Any, Protocol, TypeVar

import numpy as np
from pydantic import BaseModel

from urst.core.checks.findings import Finding
from urst.core.curves.clock import Clock
from urst.core.curves.curve import Curve
from urst.core.preview.look import Tint
from urst.kinds.gauge import Gauge, Quantity, Reading, Shade, Sliced, Spread
from urst.kinds.layer import Layer
from urst.kinds.offers.grid import Grid
from urst.kinds.offers.offer import Facts, Offer
from urst.kinds.questions import Note, Question
from urst.scene import content
from urst.scene.materials import MATERIALS, Material
from urst.scene.pieces import SetPiece
from urst.scene.world import World

Arrays = dict[str, np.ndarray]

F = TypeVar("F", bound=Facts)


class Shot(Protocol):
    """The document, as a kind sees it: the world, and the other layers."""

    layers: tuple
    start: int
    end: int

    def clock(self) -> Clock:
        """Return when each frame is."""

    def layer(self, layer_id: str) -> Any: ...

    def kind_of(self, layer: Layer) -> "Kind":
        """Return the kind of one of its layers."""

    def takes(self, layer: Layer, offer: Offer) -> list:
        """Return the layers that a layer reads or is coupled with and whose kind offers something."""

    def facts(self, layer: Layer, offer: Offer[F]) -> F:
        """Return the facts of something that a layer offers."""

    def partners(self, layer: Layer) -> list[tuple[Any, float, float]]:
        """Return the layers it is coupled with, how strongly each acts on it and it on each."""

    def grouped(self, first: Layer, second: Layer) -> bool:
        """Return whether two layers are stepped together."""


class Results(Protocol):
    """What is on disk of a shot's layers, at one frame."""

    def static(self, layer: Any) -> Arrays | None:
        """Return what does not change over time; None if the layer is not baked."""

    def frame(self, layer: Any) -> Arrays | None:
        """Return the frame; None if it is not baked."""


class Kind:
    """One kind of layer. Each has a folder with a subclass, and a line in the registry.

    A subclass sets the attributes and overrides the methods that its kind needs.
    """

    name: str
    """as the document has it"""
    title: str
    version: int
    """raised whenever the same content no longer gives the same bytes; `tests/digests` holds it to that"""
    settings: type[BaseModel]
    hue: tuple[str, str]
    """colour of its band, on dark and on light ground"""
    work: str
    """module that bakes it, the only one that may load Numba; its `prepare` is called"""
    moving = True
    """whether it has frames at all"""
    offers: tuple[Offer, ...] = ()
    """what other layers may take from it"""
    reads: tuple[Offer, ...] = ()
    """offers of others that it can take, all optional"""
    joins: tuple[Offer, ...] = ()
    """offers that a new layer is linked to, from layers that give them to no other of its kind yet"""
    ports: tuple[str, ...] = ()
    """the ports its solver has (`core.coupling.ports`), by which other layers may act on it"""
    needs: dict[str, str] = {}
    """what its frames must keep for each offer to be taken from disk, by the offer's name"""
    own: tuple[str, ...] = ()
    """settings that say what one layer is about, which are not given along with its recipe"""
    representation: str | None = None
    """what the stage and pictures draw of a frame: bodies, points or volume"""
    hands_over: tuple[str, ...] = ("csv",)
    """open formats"""
    quantities: tuple[Quantity, ...] = ()
    """what frames of any of its layers may hold"""
    sorts: tuple[tuple[str, str], ...] = ()
    """names and colours of what its points may be, where `drawn` tells a `sort` of each"""
    sliced: tuple[Sliced, ...] = ()
    """what of its frames is shown on a plane across them, by their `cells`"""
    gauges: tuple[Gauge, ...] = ()
    chief: str | None = None
    """the gauge drawn in its band"""
    activity: str | None = None
    """the gauge that tells its liveliest frame"""
    breaking: str | None = None
    """the gauge that falls as things break, if they do"""
    fastest: str | None = None
    """the gauge of the greatest speed of what is drawn, which colours by speed go up to"""
    questions: tuple[Question, ...] = ()
    unit = "frames"
    """what its cost is counted in"""
    seconds = 1e-6
    """a frame, unit and round, measured on two cores at 2.5 GHz"""
    memory = 100.0
    """bytes a unit"""

    # the document

    def problem(self, shot: World, layer: Any) -> str:
        """Return what is wrong with a layer within its shot, in one sentence without its stop; empty if nothing is."""
        return ""

    def cast(self, shot: World, layer: Any) -> list[int]:
        """Return the numbers of the set pieces its bodies are of; their `piece` counts within this list."""
        return []

    def breaks(self, layer: Any) -> tuple[str, ...]:
        """Return the names of the pieces it takes apart."""
        return ()

    def facts(self, shot: Any, layer: Any, offer: Offer) -> Facts:
        """Return what the document tells of one of its offers; must be of the type that the offer says."""
        raise NotImplementedError

    def outputs(self, offer: Offer, arrays: Arrays) -> Arrays:
        """Return a frame's arrays in the terms of one of its offers; see `Offer.outputs`."""
        return arrays

    def grid(self, layer: Any) -> Grid | None:
        """Return the grid it is solved on, None if it has none."""
        return None

    def rename_references(self, settings: dict, before: str, now: str) -> dict:
        """Return settings (as in the document) in which a piece has its new name."""
        return settings

    def follow_name(self, layer: dict, place: str, before: str, now: str) -> None:
        """Let a layer (as in the document) follow a change of the name of an entry of one of its lists; `now` is empty
        where the entry is gone."""

    def content(self, shot: World, layer: Any) -> dict:
        """Return all that a result depends on beside other layers: neither names nor what is only seen."""
        return {"settings": layer.settings.model_dump(mode="json"), "clock": content.clock(shot)}

    def draft(self, settings: dict) -> dict:
        """Return settings (as in the document) of the same character that bake sooner."""
        return settings

    # a new one

    def links(self, shot: Any) -> list[Any]:
        """Return the layers that a new one would read: those free for it, else the last that could be."""
        found = []
        for offer in self.joins:
            able = [x for x in shot.layers if offer in shot.kind_of(x).offers]
            taken = {r for x in shot.layers if x.kind == self.name for r in x.reads}
            found += [x for x in able if x.id not in taken] or able[-1:]
        return found

    def proposal(self, shot: Any, reads: Sequence[Any]) -> dict:
        """Return starting settings (as in the document) of a new layer in a shot, given what it is to read.

        Raises
        ------
        BadValue
            If the set has nothing for it.
        """
        return {}

    def copied(self, shot: Any, layer: Any) -> dict:
        """Return the settings (as in the document) of a copy.

        Raises
        ------
        BadValue
            If there cannot be a second one.
        """
        return layer.settings.model_dump(mode="json")

    # what it costs

    def count(self, shot: World, layer: Any) -> int:
        """Return how many units it has."""
        return 1

    def rounds(self, layer: Any) -> int:
        """Return how often each unit is gone over in a frame."""
        return 1

    def disk(self, layer: Any) -> float:
        """Return the bytes on disk of a unit and frame."""
        return sum(q.bytes for q in self.kept(layer) if q.always or q.name in layer.keeps)

    def kept(self, layer: Any) -> tuple[Quantity, ...]:
        """Return what the frames of a layer may hold."""
        return self.quantities

    def start_needs(self, layer: Any) -> tuple[str, ...]:
        """Return what a layer's frames must keep for another bake to begin from them."""
        return ()

    # what is said of it

    def notes(self, shot: World, layer: Any, first: dict[str, float]) -> dict[str, Note]:
        """Return notes by the question they stand under; `first`: its gauges at the first frame, empty if not baked."""
        return {}

    def findings(self, shot: World, layer: Any) -> list[Finding]:
        """Return what looks wrong before a bake."""
        return []

    def watch(self, shot: World, layer: Any, rows: dict[int, dict[str, float]]) -> list[Finding]:
        """Return what the gauges of baked frames show."""
        return []

    def summary(self, gauges: dict[str, float]) -> str:
        """Return one line about a still result."""
        return ""

    def spread(self, shot: Any, layer: Any, path: str, curve: Curve, results: Results) -> Spread | None:
        """Return how what a setting's curve runs over is spread at a frame; None if nothing of it is known."""
        return None

    def sources(self, layer: Any) -> list[tuple[Any, str]]:
        """Return the set pieces that give something off for it, each with the unit of how much."""
        return []

    def inflows(self, shot: World, layer: Any) -> list[tuple[Any, Callable, float]]:
        """Return what pours: its settings, what gives points of bodies that pour and their normals, and how much in
        all [m3]."""
        return []

    def launches(self, shot: World, layer: Any) -> list[tuple[str, Any, list[int]]]:
        """Return what sets bodies off: its name, the launch, and the numbers of the pieces it is about."""
        return []

    def gauge(self, name: str) -> Gauge:
        """Return one of its gauges."""
        return next(g for g in self.gauges if g.name == name)

    # what is drawn of it

    def drawn(self, arrays: Arrays) -> Arrays:
        """Return a frame's arrays in the terms of its representation.

        bodies: position, orientation, velocity, and if known awake, pressed, bond_alive, bond_load, touch_point,
        touch_force; points: position, velocity, size, and if there are `sorts` sort; volume: all scalars kept, by
        name, each (nx, ny, nz)
        """
        return arrays

    def shades(self, shot: World, layer: Any) -> list[Shade]:
        """Return how each concentration of its volume looks."""
        return [Shade("density")]

    def cells(self, arrays: Arrays, meta: dict, name: str) -> tuple[np.ndarray, np.ndarray]:
        """Return one of what is `sliced` at cells' middles, and where it is anything (nx, ny, nz), bool."""
        raise NotImplementedError

    def probe_surface(self, arrays: Arrays) -> np.ndarray | None:
        """Return how far cells' middles lie from what a probe meets, negative within [cells]; None if it meets
        nothing."""
        return None

    def probe(self, arrays: Arrays, meta: dict, at: np.ndarray) -> list[Reading]:
        """Return what a probe tells of a place within the grid, (3,) [cells]."""
        return []

    def matter(self, shot: World, layer: Any) -> Material | None:
        """Return what its points or its dust are of, None if that is not known."""
        return None

    def tint(self, shot: World, layer: Any) -> Tint | None:
        """Return how its liquid looks where it is deep, None if it has none."""
        return None

    # the bake

    def rehearsal(self) -> tuple[dict, ...]:
        """Return the layers (as in the document) of a tiny shot that calls its kernels, itself last; its id is its
        kind."""
        return ()

    def prepare(self, inputs: Any) -> Any:
        """Set up the work of a layer; see `working.PreparedLayer`. Loads what bakes it."""
        return import_module(self.work).prepare(inputs)


def at(shot: Any, layer: Layer, *names: str | int) -> tuple:
    """Return the path of a setting in the document."""
    return ("layers", [x.id for x in shot.layers].index(layer.id), "settings", *names)


def first_over(gauge: Gauge, rows: dict[int, dict[str, float]]) -> int | None:
    """Return the first frame at which a gauge is above its band."""
    return next((f for f, g in sorted(rows.items()) if gauge.over(g.get(gauge.name, 0.0))), None)


def made_of(piece: SetPiece) -> Material:
    """Return what a set piece is made of."""
    return MATERIALS[piece.material]


def piece_problem(shot: World, names: Sequence[str], verb: str) -> str:
    """Return the sentence about the first name that is no set piece, empty if all are."""
    missing = [n for n in names if shot.piece(n) is None]
    return f"{verb} '{missing[0]}', which is no set piece: name one of the set" if missing else ""
