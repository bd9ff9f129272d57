"""Small shots for the tests."""

from urst.demo import granary
from urst.kinds.registry import KINDS
from urst.shot.document import Shot, parse


def tiny(*, seed: int = 7, **changes) -> Shot:
    """The granary, small and coarse: every layer, a strike within the first frames, done in seconds.

    Another seed breaks it in another way, so that no other test has baked it already.
    """
    data = granary.shot(fragments=210, cell_size=0.6, end=18).model_dump(mode="json")
    data["layers"][1]["settings"]["steps"] = 4
    data["layers"][1]["settings"]["settle"] = 0.1
    data["layers"][0]["settings"]["seed"] = seed
    data["name"] = "Tiny"
    return parse(data | changes)


def falling_box(frames: int = 12, **settings) -> Shot:
    """A box that falls on a floor: no fracture, one layer."""
    return parse(
        {
            "name": "Box",
            "start": 1,
            "end": frames,
            "pieces": [
                {
                    "name": "Floor",
                    "shape": {"kind": "box", "width": 10, "depth": 10, "height": 1},
                    "position": (0, 0, -1),
                    "motion": "fixed",
                },
                {
                    "name": "Box",
                    "shape": {"kind": "box", "width": 0.4, "depth": 0.3, "height": 0.2},
                    "position": (0, 0, 0.3),
                    "spin": (1, 2, 0),
                },
            ],
            "layers": [{"id": "fall", "name": "Fall", "kind": "fall", "settings": {"settle": 0} | settings}],
        }
    )


def random_graph(rng, base: dict) -> dict:
    """A document whose layers read and are coupled with each other by chance, mostly as their kinds allow."""
    layers = []
    for n in range(int(rng.integers(2, 6))):
        layer = dict(base["layers"][int(rng.integers(4))])
        if layer["kind"] == "break" and any(x["kind"] == "break" for x in layers):
            layer = dict(base["layers"][1])
        keeps = ["velocity"] if layer["kind"] == "billow" else []
        layers.append(layer | {"id": f"x{n}", "name": f"X{n}", "reads": [], "keeps": keeps})
    names = [x["id"] for x in layers]
    for layer in layers:
        able = [x["id"] for x in layers if set(KINDS[x["kind"]].offers) & set(KINDS[layer["kind"]].reads)]
        some = able if rng.random() < 0.95 else names
        layer["reads"] = (
            [str(n) for n in rng.choice(some, min(len(some), int(rng.integers(0, 3))), replace=False)] if some else []
        )
    gases = [x["id"] for x in layers if x["kind"] == "billow"] or names
    pairs = zip(rng.choice(names, int(rng.integers(0, 3))), rng.choice(gases, 2))
    couplings = [
        {"first": str(a), "second": str(b), "forth": float(rng.choice([0, 1])), "back": float(rng.choice([0, 1, 2]))}
        for a, b in pairs
    ]
    return base | {"layers": layers, "couplings": couplings}
