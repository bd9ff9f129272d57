"""A baked shot, layer by layer and frame by frame, for whatever writes it out."""

from collections.abc import Callable, Iterator

import numpy as np

from urst.core.fracture.fragments import Fragments
from urst.core.materials import MATERIALS
from urst.core.preview.colour import linear
from urst.errors import Stopped
from urst.shot.document import Shot
from urst.shot.keys import layer_keys
from urst.store.store import Store


class Baked:
    """The layers of a baked shot, ready to be read frame by frame."""

    def __init__(self, shot: Shot, store: Store, should_stop: Callable[[], bool] = lambda: False):
        self.shot, self.store, self.should_stop = shot, store, should_stop
        self.keys = layer_keys(shot)
        self.span = (shot.start, shot.end)

    def of(self, kind: str) -> list:
        return [x for x in self.shot.layers if x.kind == kind]

    def frames(self, layer) -> Iterator[tuple[int, dict[str, np.ndarray]]]:
        for frame in self.shot.frames():
            if self.should_stop():
                raise Stopped("The hand-over was stopped; whole files are kept.")
            yield frame, self.store.read_frame(self.keys[layer.id], frame)[0]

    def fragments(self, layer):
        arrays, meta = self.store.read_static(self.keys[layer.id])
        return Fragments.from_arrays(arrays), meta["pieces"], [linear(MATERIALS[m].colour) for m in meta["materials"]]
