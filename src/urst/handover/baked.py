"""A baked shot, layer by layer and frame by frame, for whatever writes it out."""

from collections.abc import Callable, Iterator
from typing import Any

import numpy as np

from urst.core.bodies.fragments import Fragments
from urst.core.preview.colour import linear
from urst.core.preview.look import SIGHT, Tint, tint
from urst.drawn.representations import REPRESENTATIONS
from urst.errors import Stopped
from urst.scene.materials import MATERIALS, Material
from urst.scene.pieces import SetPiece
from urst.shot.document import Shot
from urst.shot.keys import layer_keys
from urst.store.store import Store


class Baked:
    """The layers of a baked shot, ready to be read frame by frame."""

    def __init__(self, shot: Shot, store: Store, should_stop: Callable[[], bool] = lambda: False) -> None:
        self.shot, self.store, self.should_stop = shot, store, should_stop
        self.keys = layer_keys(shot)
        self.span = (shot.start, shot.end)

    def drawn_as(self, representation: str) -> list[Any]:
        """Return the layers with frames that are drawn in a way."""
        kinds = [(x, self.shot.kind_of(x)) for x in self.shot.layers]
        return [x for x, kind in kinds if kind.moving and kind.representation == representation]

    def handed_over_as(self, form: str) -> list[Any]:
        """Return the layers that are handed over in a format."""
        return [x for x in self.shot.layers if form in self.shot.kind_of(x).hands_over]

    def check(self) -> None:
        """Raise if somebody asked to stop."""
        if self.should_stop():
            raise Stopped("The hand-over was stopped; whole files are kept.")

    def frame(self, layer: Any, frame: int) -> dict[str, np.ndarray]:
        """Return a layer's frame in the terms of its representation."""
        return self.shot.kind_of(layer).drawn(self.store.read_frame(self.keys[layer.id], frame)[0])

    def at(self, layer: Any, moment: float) -> dict[str, np.ndarray]:
        """Return a layer at a moment between frames, in the terms of its representation."""
        frame = int(np.floor(moment))
        fraction, first = moment - frame, self.frame(layer, frame)
        drawn_as = self.shot.kind_of(layer).representation
        if fraction < 1e-9 or drawn_as is None:
            return first
        clock = self.shot.clock()
        span = clock.seconds(frame + 1) - clock.seconds(frame)
        second = self.frame(layer, min(frame + 1, self.shot.end))
        return REPRESENTATIONS[drawn_as].between(first, second, span, fraction)

    def frames(self, layer: Any) -> Iterator[tuple[int, dict[str, np.ndarray]]]:
        """Return all frames of a layer, one after another."""
        for frame in self.shot.frames():
            self.check()
            yield frame, self.frame(layer, frame)

    def static(self, layer: Any) -> tuple[dict[str, np.ndarray], dict]:
        """Return what does not change over time: (arrays, meta)."""
        return self.store.read_static(self.keys[layer.id])

    def fragments(self, layer: Any) -> tuple[Fragments, list[SetPiece]]:
        """Return a layer's bodies and the pieces they are of."""
        cast = self.shot.kind_of(layer).cast(self.shot, layer)
        return Fragments.from_arrays(self.static(layer)[0]), [self.shot.pieces[i] for i in cast]

    def shades(self, layer: Any) -> list[tuple[str, np.ndarray, float]]:
        """Return the concentrations of a layer's volume: name, linear colour, extinction [m2/kg]."""
        dust = self.matter(layer).dust
        found = self.shot.kind_of(layer).shades(self.shot, layer)
        return [(s.name, linear(s.colour or dust), s.extinction) for s in found]

    def matter(self, layer: Any) -> Material:
        """Return the material of a layer's points or dust."""
        shot = self.shot
        return shot.kind_of(layer).matter(shot, layer) or MATERIALS[shot.pieces[0].material if shot.pieces else "stone"]

    def tint(self, layer: Any) -> Tint:
        """Return how a liquid looks where it is deep."""
        return self.shot.kind_of(layer).tint(self.shot, layer) or tint("", SIGHT)


def colours(pieces: list[SetPiece]) -> list[np.ndarray]:
    """Return the linear colour of each piece."""
    return [linear(MATERIALS[p.material].colour) for p in pieces]
