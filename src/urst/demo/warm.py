"""Compiling every kernel before anyone waits for one, by baking a tiny shot of each kind of layer, and of all together."""

import tempfile
from collections.abc import Iterator

from urst.bake.runner import bake
from urst.demo import granary
from urst.shot.document import parse
from urst.store.store import Store


def _tiny(make):
    """A shot that calls every kernel within a few frames: cracks, contacts, points, dust."""
    shot = make(fragments=210, cell_size=0.6, end=15).model_dump(mode="json")
    shot["layers"][3]["settings"] |= {"heat": 1.0}
    return parse(shot)


def warm() -> Iterator[tuple[int, int, str]]:
    """Compile layer by layer; yields (done, total, what is next or 'done')."""
    shot = _tiny(granary.shot)
    total = len(shot.layers) + 1
    with tempfile.TemporaryDirectory() as folder:
        for done, layer in enumerate(shot.layers):
            yield done, total, layer.name
            bake(shot, Store(folder), [layer.id])
        yield total - 1, total, "layers that act on each other"
        bake(_tiny(granary.coupled), Store(folder))
    yield total, total, "done"
