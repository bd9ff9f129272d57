"""Open water off the Tidewater Granary: a timber raft and two drums are dropped into wind waves, duck and come back."""

from urst.shot.document import Shot, parse


def shot(*, cell_size: float = 0.14, end: int = 96) -> Shot:
    """Return the shot; the arguments choose its quality."""
    beam = lambda n, x: {  # noqa: E731
        "name": f"Beam {n}",
        "shape": {"kind": "box", "width": 0.42, "depth": 2.4, "height": 0.3},
        "position": (x, 0.2, 0.9),
        "material": "timber",
        "velocity": (0, 0, -1.0),
    }
    pieces = [
        {"name": "Sea bed", "shape": {"kind": "ground"}, "position": (0, 0, -30), "motion": "fixed"},
        *(beam(n, -0.84 + 0.42 * (n - 1)) for n in range(1, 6)),
        *(
            {
                "name": f"Drum {n}",
                "shape": {"kind": "drum", "radius": 0.29, "height": 0.88},
                "position": at,
                "rotation": turn,
                "material": "empty drum",
                "bonded": False,
                "velocity": (0, 0, -1.0),
                "spin": (1.0, 0.5, 0),
            }
            for n, (at, turn) in enumerate([((-2.3, -1.2, 0.7), (40, 20, 0)), ((2.4, 0.9, 1.0), (75, 0, 30))], 1)
        ),
    ]
    settings = {
        "cell_size": cell_size,
        "low": (-4.8, -3.9, -2.4),
        "high": (4.8, 3.9, 2.0),
        "level": 0.0,
        "sides": "waves",
        "waves": {
            "wind": 7.0,
            "fetch": 2500.0,
            "heading": 205.0,
            "swell_height": 0.3,
            "swell_period": 2.6,
            "swell_heading": 170.0,
            "depth": 30.0,
            "band": 1.4,
        },
    }
    return parse(
        {
            "name": "Swell",
            "note": "a raft and drums in wind waves",
            "end": end,
            "pieces": pieces,
            "layers": [
                {"id": "fall", "name": "Fall", "kind": "fall", "settings": {"bonds": {"tension": 2e6, "shear": 2e6}}},
                {"id": "flood", "name": "Flood", "kind": "flood", "reads": ["fall"], "settings": settings},
                {"id": "skin", "name": "Skin", "kind": "skin", "reads": ["flood"], "settings": {"horizon": True}},
                {"id": "froth", "name": "Froth", "kind": "froth", "reads": ["flood"]},
            ],
            "couplings": [{"first": "fall", "second": "flood"}],
            "cameras": [{"eye": (5.2, -7.6, 2.9), "target": (0, 0, 0.1), "lens": 32}],
        }
    )
