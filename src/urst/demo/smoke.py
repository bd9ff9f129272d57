"""The Tidewater Granary: smoke from a burning grain heap drifts past the crane's pier. Gas alone, no bodies that
move."""

from urst.shot.document import Shot, parse


def shot(*, cell_size: float = 0.1, end: int = 72) -> Shot:
    """Return the shot; the arguments choose its quality."""
    pieces = [
        {"name": "Quay", "shape": {"kind": "ground"}, "material": "stone", "motion": "fixed"},
        {
            "name": "Grain heap",
            "shape": {"kind": "drum", "radius": 0.6, "height": 0.35, "sides": 20},
            "position": (-1.2, 0, 0),
            "material": "timber",
            "motion": "fixed",
        },
        {
            "name": "Pier",
            "shape": {"kind": "box", "width": 0.5, "depth": 0.5, "height": 3.2},
            "position": (1.0, 0.1, 0),
            "material": "concrete",
            "motion": "fixed",
        },
    ]
    settings = {
        "cell_size": cell_size,
        "low": (-2.6, -1.8, -0.2),
        "high": (4.2, 1.8, 5.0),
        "scalars": [
            {"name": "density", "buoyancy": 0.2, "clearing": 6.0},
            {"name": "temperature", "measure": "temperature", "rise": 140.0, "clearing": 6.0},
        ],
        "swirl": 0.25,
        "wind": (0.5, 0, 0),
        "sources": [{"piece": "Grain heap", "rate": 0.2, "velocity": (0, 0, 0.8), "until": 60}],
    }
    return parse(
        {
            "name": "Smoulder",
            "note": "smoke alone",
            "end": end,
            "pieces": pieces,
            "layers": [{"id": "smoke", "name": "Smoke", "kind": "billow", "settings": settings}],
            "cameras": [{"eye": (3.4, -9.0, 2.6), "target": (0.6, 0, 1.8), "lens": 32}],
        }
    )
