"""The Tidewater Granary: a head of water is let go in the quay's basin, runs over its pool and round a pier. Liquid
alone."""

from urst.shot.document import Shot, parse


def shot(*, cell_size: float = 0.08, end: int = 72) -> Shot:
    """Return the shot; the arguments choose its quality."""
    box = lambda name, size, at, material="stone", turn=0: {  # noqa: E731
        "name": name,
        "shape": {"kind": "box", "width": size[0], "depth": size[1], "height": size[2]},
        "position": at,
        "rotation": (0, 0, turn),
        "material": material,
        "motion": "fixed",
    }
    pieces = [
        box("Basin", (6.0, 4.0, 0.4), (0, 0, -0.4)),
        box("Wall, west", (0.3, 4.0, 1.6), (-2.85, 0, 0)),
        box("Wall, east", (0.3, 4.0, 1.6), (2.85, 0, 0)),
        box("Wall, north", (5.4, 0.3, 1.6), (0, 1.85, 0)),
        box("Sill, south", (5.4, 0.3, 0.9), (0, -1.85, 0)),
        box("Pier", (0.4, 0.4, 1.8), (1.0, 0.2, 0), "concrete", 20),
        box("Head of water", (1.2, 3.4, 1.4), (-2.1, 0, 0), "glass"),
    ]
    nothing = {"bodies": False, "chips": False, "gas": False, "liquid": False, "grains": False, "seen": False}
    settings = {
        "cell_size": cell_size,
        "low": (-3.2, -2.8, -0.4),
        "high": (3.2, 2.4, 2.4),
        "sides": "open",
        "level": 0.25,
        "pool_at": (1.9, 0, 0.1),
        "fills": [{"piece": "Head of water"}],
    }
    return parse(
        {
            "name": "Sluice",
            "note": "water alone",
            "end": end,
            "pieces": pieces,
            "taking_part": [{"of": "Head of water"} | nothing],
            "layers": [
                {"id": "flood", "name": "Flood", "kind": "flood", "settings": settings},
                {"id": "skin", "name": "Skin", "kind": "skin", "reads": ["flood"]},
                {"id": "froth", "name": "Froth", "kind": "froth", "reads": ["flood"]},
            ],
            "cameras": [{"eye": (4.5, -6.5, 4.2), "target": (0, -0.2, 0.4), "lens": 30}],
        }
    )
