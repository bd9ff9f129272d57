"""The Tidewater Granary's quay stairs: a steel cask, half full, tumbles down, bursts on the last step and empties."""

from typing import Any

from urst.shot.document import Shot, parse

#: of the stairs
_STEPS, _RISE, _RUN = 5, 0.34, 0.52
#: of the cask [m]
_RADIUS, _LENGTH, _WALL = 0.45, 1.15, 0.02


def shot(*, fragments: int = 20, cell_size: float = 0.045, end: int = 84, seed: int = 3) -> Shot:
    """Return the shot; the arguments choose its quality."""
    top = _STEPS * _RISE
    fixed = {"material": "stone", "motion": "fixed", "bonded": False}

    def box(name: str, size: tuple[float, float, float], at: tuple[float, float, float]) -> dict[str, Any]:
        return {
            "name": name,
            "shape": {"kind": "box", "width": size[0], "depth": size[1], "height": size[2]},
            "position": at,
        } | fixed

    steps = [
        box(f"Step {n}", (_RUN, 3.4, top - n * _RISE + 0.3), ((n - 0.5) * _RUN, 0, -0.3)) for n in range(1, _STEPS)
    ]
    pieces = [
        box("Quay", (1.6, 3.4, top + 0.3), (-0.8, 0, -0.3)),
        *steps,
        box("Landing", (5.2, 3.4, 0.3), ((_STEPS - 1) * _RUN + 2.6, 0, -0.3)),
        box("Kerb, north", (7.28, 0.3, 0.42), (3.64, 1.85, -0.3)),
        box("Kerb, south", (7.28, 0.3, 0.42), (3.64, -1.85, -0.3)),
        {
            "name": "Cask",
            "shape": {
                "kind": "drum",
                "radius": _RADIUS,
                "height": _LENGTH,
                "sides": 16,
                "matter": "hollow",
                "wall": _WALL,
            },
            "position": (-0.62, 0.5 * _LENGTH, top + _RADIUS),
            "rotation": (90, 0, 6),
            "material": "steel",
            "velocity": (1.9, 0, 0),
            "spin": (0, 4.2, 0),
        },
    ]
    layers = [
        {
            "id": "break",
            "name": "Break",
            "kind": "break",
            "settings": {"pieces": ("Cask",), "count": fragments, "seed": seed},
        },
        {
            "id": "fall",
            "name": "Fall",
            "kind": "fall",
            "reads": ["break"],
            "settings": {
                "bonds": {"tension": 90e6, "shear": 90e6, "scatter": 0.2},
                "events": [{"name": "burst", "what": "part", "of": ("Cask",), "when": "touch", "by": "Landing"}],
            },
        },
        {
            "id": "flood",
            "name": "Flood",
            "kind": "flood",
            "reads": ["fall"],
            "settings": {
                "cell_size": cell_size,
                "low": (-1.7, -1.7, -0.05),
                "high": (7.2, 1.7, 3.1),
                "sides": "open",
                "fills": [{"piece": "Cask", "level": top + _RADIUS}],
            },
        },
        {"id": "skin", "name": "Skin", "kind": "skin", "reads": ["flood"]},
    ]
    return parse(
        {
            "name": "Cask",
            "note": "half full, down the quay stairs",
            "end": end,
            "pieces": pieces,
            "layers": layers,
            "couplings": [{"first": "fall", "second": "flood"}],
            "cameras": [{"eye": (6.4, -6.3, 3.1), "target": (1.7, 0, 0.95), "lens": 32}],
        }
    )
