"""The Tidewater Granary's glasshouse: a van on wheels runs through its front, a steel frame that yields with panes
that do not."""

from urst.shot.document import Shot, parse

_BAYS, _BAY, _TALL, _STEEL = 4, 1.0, 2.0, 0.05


def _bar(name: str, size: tuple[float, float, float], at: tuple[float, float, float]) -> dict:
    width, depth, height = size
    return {
        "name": name,
        "shape": {"kind": "box", "width": width, "depth": depth, "height": height},
        "position": at,
        "material": "steel",
        "holds": 40.0,
        "elongation": 0.15,
        "tags": ("frame",),
    }


def _front(y: float, side: str) -> list[dict]:
    """Posts, sills and panes of one long side."""
    span = _BAYS * _BAY
    pieces = []
    for k in range(_BAYS + 1):
        x = (k - _BAYS / 2) * _BAY
        pieces.append(_bar(f"Post {side} {k}", (_STEEL, _STEEL, _TALL), (x, y, 0)))
    pieces.append(_bar(f"Eaves {side}", (span + _STEEL, _STEEL, _STEEL), (0, y, _TALL)))
    for k in range(_BAYS):
        x = (k + 0.5 - _BAYS / 2) * _BAY
        pieces.append(_bar(f"Rail {side} {k}", (_BAY - _STEEL, _STEEL, _STEEL), (x, y, 0.55)))
        shape = {"kind": "box", "width": _BAY - _STEEL, "depth": 0.03}
        pieces += [
            {
                "name": f"Pane {side} {k}, low",
                "shape": shape | {"height": 0.55},
                "position": (x, y, 0),
                "material": "glass",
            },
            {
                "name": f"Pane {side} {k}, high",
                "shape": shape | {"height": _TALL - 0.55 - _STEEL},
                "position": (x, y, 0.55 + _STEEL),
                "material": "glass",
            },
        ]
    return pieces


def shot(*, end: int = 84, fragments: int = 420) -> Shot:
    """Return the shot: up to a last frame, with so many pieces of glass."""
    house = [*_front(0.0, "front"), *_front(2.6, "back")]
    for k in (0, 2, 4):
        x = (k - _BAYS / 2) * _BAY
        house.append(_bar(f"Tie {k}", (_STEEL, 2.6 - _STEEL, _STEEL), (x, 1.3, _TALL)))
    speed, radius = 13.0, 0.34
    wheels = [(x, y) for x in (-0.62, 0.62) for y in (-4.7, -3.0)]
    van = [
        {
            "name": "Van",
            "shape": {"kind": "box", "width": 1.24, "depth": 2.7, "height": 0.75},
            "position": (0, -3.85, 0.34),
            "density": 420,
        },
        {
            "name": "Cab",
            "shape": {"kind": "box", "width": 1.2, "depth": 1.7, "height": 0.7},
            "position": (0, -4.3, 1.09),
            "density": 160,
        },
        {
            "name": "Door",
            "shape": {"kind": "box", "width": 0.05, "depth": 0.8, "height": 0.65},
            "position": (0.64, -3.4, 1.12),
            "density": 800,
        },
        *(
            {
                "name": f"Wheel {n}",
                "shape": {"kind": "drum", "radius": radius, "height": 0.2, "sides": 40},
                "position": (x + (0.1 if x > 0 else -0.1) + 0.1, y, radius),
                "rotation": (0, -90, 0),
                "density": 900,
                "friction": 0.9,
                "spin": (-speed / radius, 0, 0),
            }
            for n, (x, y) in enumerate(wheels, 1)
        ),
    ]
    for piece in van:
        piece |= {"velocity": (0, speed, 0), "material": "drum steel", "bonded": False}
    joints: list[dict] = [
        {
            "name": f"axle {n}",
            "kind": "hinge",
            "first": f"Wheel {n}",
            "second": "Van",
            "at": (x, y, radius),
            "axis": (1, 0, 0),
        }
        for n, (x, y) in enumerate(wheels, 1)
    ]
    joints += [
        {"name": "cab", "kind": "weld", "first": "Cab", "second": "Van", "at": (0, -4.3, 1.09), "strength": 4e5},
        {
            "name": "door",
            "kind": "hinge",
            "first": "Door",
            "second": "Cab",
            "at": (0.64, -3.8, 1.4),
            "axis": (0, 0, 1),
            "turns": (-100, 0),
            "damping": 2.0,
        },
    ]
    panes = tuple(p["name"] for p in house if p["material"] == "glass")
    layers = [
        {
            "id": "break",
            "name": "Break",
            "kind": "break",
            "settings": {
                "pieces": panes,
                "pattern": "clustered",
                "count": fragments,
                "focus": (0, 0, 0.8),
                "focus_radius": 0.9,
                "seed": 3,
            },
        },
        {
            "id": "fall",
            "name": "Fall",
            "kind": "fall",
            "reads": ["break"],
            "settings": {
                "top_spin": 60,
                "joints": joints,
                "bonds": {"tension": 1.2e6, "shear": 1.6e6, "modulus": 2e10, "scatter": 0.25},
            },
        },
    ]
    yard = {"name": "Yard", "shape": {"kind": "ground"}, "material": "stone", "motion": "fixed", "bonded": True}
    return parse(
        {
            "name": "Glasshouse",
            "note": "a van through steel and glass",
            "end": end,
            "pieces": [yard, *house, *van],
            "layers": layers,
            "cameras": [{"eye": (7.6, -3.9, 2.5), "target": (0.0, 1.5, 0.8), "lens": 28}],
        }
    )
