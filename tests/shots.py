"""Small shots for the tests."""

from urst.demo import granary
from urst.shot.document import Shot, parse


def tiny(**changes) -> Shot:
    """The granary, small and coarse: every layer, a strike within the first frames, done in seconds."""
    data = granary.shot(fragments=210, cell_size=0.6, end=18).model_dump(mode="json")
    data["layers"][1]["settings"]["steps"] = 4
    data["layers"][1]["settings"]["settle"] = 0.1
    data["name"] = "Tiny"
    return parse(data | changes)


def falling_box(frames: int = 12, **settings) -> Shot:
    """A box that falls on a floor: no fracture, one layer."""
    return parse({
        "name": "Box", "start": 1, "end": frames,
        "pieces": [
            {"name": "Floor", "shape": {"kind": "box", "width": 10, "depth": 10, "height": 1}, "position": (0, 0, -1), "motion": "fixed"},
            {"name": "Box", "shape": {"kind": "box", "width": 0.4, "depth": 0.3, "height": 0.2}, "position": (0, 0, 0.3), "spin": (1, 2, 0)},
        ],
        "layers": [{"id": "fall", "name": "Fall", "kind": "fall", "settings": {"settle": 0} | settings}],
    })  # fmt: skip
