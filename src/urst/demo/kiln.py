"""The Tidewater Granary's kiln: its brick chimney is blown at the foot, topples, and comes down its length on the
yard."""

from urst.shot.document import Shot, parse

_WIDE, _THICK, _TALL, _FOOT = 1.5, 0.25, 9.0, 1.25
_BASE = 1.6


def _wall(name: str, at: tuple[float, float, float], turn: float, width: float, height: float, **more) -> dict:
    shape = {
        "kind": "brick wall",
        "width": width,
        "depth": _THICK,
        "height": height,
        "brick_length": 0.5,
        "course_height": 0.25,
    }
    return {"name": name, "shape": shape, "position": at, "rotation": (0, 0, turn), "material": "brick"} | more


def shot(*, end: int = 144) -> Shot:
    """Return the shot, up to a last frame."""
    half, inner = 0.5 * (_WIDE - _THICK), _WIDE - 2 * _THICK
    up = _BASE + _FOOT
    pieces = [
        {"name": "Yard", "shape": {"kind": "ground"}, "material": "stone", "motion": "fixed", "bonded": False},
        {
            "name": "Kiln",
            "shape": {"kind": "box", "width": 3.2, "depth": 3.2, "height": _BASE},
            "material": "stone",
            "motion": "fixed",
        },
        *(
            _wall(f"{part}, {side}", (x, y, z), turn, wide, tall, tags=(tag,), holds=10.0)
            for part, tag, z, tall in (("Shaft", "shaft", up, _TALL - 1.0), ("Crown", "crown", up + _TALL - 1.0, 1.0))
            for side, x, y, turn, wide in (
                ("front", 0, -half, 0, _WIDE),
                ("back", 0, half, 0, _WIDE),
                ("west", -half, 0, 90, inner),
                ("east", half, 0, 90, inner),
            )
        ),
        _wall("Foot, front", (0, -half, _BASE), 0, _WIDE, _FOOT, tags=("foot",)),
        *(
            _wall(f"Foot, {side}, {part}", (x, y, _BASE), 90, long, _FOOT, tags=tags)
            for side, x in (("west", -half), ("east", half))
            for part, y, long, tags in (("fore", -0.15, 0.7 * inner, ("foot",)), ("rear", 0.35, 0.3 * inner, ()))
        ),
        _wall("Foot, back", (0, half, _BASE), 0, _WIDE, _FOOT),
        *(
            {
                "name": f"Sack {n}",
                "shape": {"kind": "box", "width": 0.7, "depth": 0.45, "height": 0.25},
                "position": at,
                "rotation": (0, 0, turn),
                "material": "timber",
                "density": 900,
                "bonded": False,
                "tags": ("sacks",),
            }
            for n, (at, turn) in enumerate(
                [((1.1, -4.6, 0), 15), ((2.0, -5.3, 0), -20), ((1.1, -4.55, 0.25), 40), ((-1.2, -7.2, 0), 5)], 1
            )
        ),
    ]
    launch = {
        "way": "centre",
        "centre": (0.0, 0.5, _BASE + 0.6),
        "speed": 15.0,
        "cone": 10.0,
        "noise": 0.5,
        "noise_size": 0.6,
        "spin": 6.0,
    }
    events = [
        {"name": "cut", "what": "part", "of": ("foot",), "when": "frame", "frame": 12},
        {"name": "burst", "what": "launch", "of": ("foot",), "when": "frame", "frame": 12, "launch": launch},
        {
            "name": "charge",
            "what": "blast",
            "of": ("sacks",),
            "when": "frame",
            "frame": 12,
            "charge": 3.0,
            "launch": {"centre": (0.0, -1.2, _BASE + 0.4)},
        },
        {"name": "crown lands", "what": "part", "of": ("crown",), "when": "touch", "by": "Yard"},
        {
            "name": "shaft breaks",
            "what": "part",
            "of": ("shaft",),
            "when": "after",
            "after": "crown lands",
            "delay": 0.04,
        },
    ]
    layers = [
        {
            "id": "fall",
            "name": "Fall",
            "kind": "fall",
            "settings": {
                "top_spin": 30,
                "bonds": {"tension": 0.9e6, "shear": 1.4e6, "scatter": 0.25},
                "events": events,
            },
        },
    ]
    return parse(
        {
            "name": "Kiln",
            "note": "chimney blown at its foot",
            "end": end,
            "pieces": pieces,
            "layers": layers,
            "cues": [{"name": "burst", "frame": 12}],
            "cameras": [{"eye": (18.0, -13.0, 3.4), "target": (0.0, -6.0, 4.2), "lens": 25}],
        }
    )
