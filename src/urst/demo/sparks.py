"""The Tidewater Granary: a grinder's sparks off a swinging steel drum. Points alone, no bodies that break."""

from urst.shot.document import Shot, parse


def shot(*, rate: float = 900.0, end: int = 72) -> Shot:
    """Return the shot; `rate` is how many points are given off in a second."""
    pieces = [
        {"name": "Quay", "shape": {"kind": "ground"}, "material": "stone", "motion": "fixed"},
        {
            "name": "Crate",
            "shape": {"kind": "box", "width": 0.8, "depth": 0.8, "height": 0.6},
            "position": (0.9, -0.2, 0),
            "material": "timber",
            "motion": "fixed",
        },
        {
            "name": "Drum",
            "shape": {"kind": "drum", "radius": 0.29, "height": 0.88},
            "material": "drum steel",
            "motion": "driven",
            "keys": [
                {"frame": 1, "position": (-1.6, 0, 1.6), "rotation": (90, 0, 0)},
                {"frame": 30, "position": (0.2, 0, 1.2), "rotation": (90, 160, 0)},
                {"frame": 60, "position": (1.8, 0, 1.7), "rotation": (90, 330, 0)},
            ],
        },
    ]
    settings = {
        "smallest": 0.006,
        "largest": 0.02,
        "density": 7800.0,
        "restitution": 0.45,
        "life": 2.5,
        "sources": [{"piece": "Drum", "rate": rate, "velocity": (2.2, -0.4, 0.8), "spread": 1.1, "until": 60}],
    }
    return parse(
        {
            "name": "Grinding",
            "note": "points alone",
            "end": end,
            "pieces": pieces,
            "layers": [{"id": "sparks", "name": "Sparks", "kind": "shed", "settings": settings}],
            "cameras": [{"eye": (2.4, -5.6, 1.9), "target": (0.4, 0, 0.8), "lens": 32}],
        }
    )
