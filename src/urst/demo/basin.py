"""The Tidewater Granary's basin: the counterweight throws the wall, crates and drums off the quay into the water."""

from typing import Any

from urst.demo.granary import along, pendulum, swing, touching
from urst.shot.document import Shot, parse


def shot(*, fragments: int = 260, cell_size: float = 0.11, end: int = 96, seed: int = 4) -> Shot:
    """Return the shot; the arguments choose its quality."""
    angles = swing(1, end, 24.0)
    touches = touching()

    def box(
        name: str,
        size: tuple[float, float, float],
        at: tuple[float, float, float],
        material: str = "stone",
        turn: int = 0,
        **more: Any,
    ) -> dict[str, Any]:
        return {
            "name": name,
            "shape": {"kind": "box", "width": size[0], "depth": size[1], "height": size[2]},
            "position": at,
            "rotation": (0, 0, turn),
            "material": material,
        } | more

    fixed: dict[str, Any] = {"motion": "fixed", "bonded": False}
    pieces = [
        box("Quay", (9.4, 6.2, 2.6), (0, 2.0, -2.6), **fixed),
        box("Basin floor", (9.4, 6.1, 0.4), (0, -4.15, -2.6), **fixed),
        box("Mole, west", (0.6, 6.1, 2.4), (-4.4, -4.15, -2.2), **fixed),
        box("Mole, east", (0.6, 6.1, 2.4), (4.4, -4.15, -2.2), **fixed),
        box("Mole, south", (8.2, 0.6, 1.9), (0, -6.9, -2.2), **fixed),
        {
            "name": "Wall",
            "shape": {
                "kind": "brick wall",
                "width": 4.5,
                "depth": 0.3,
                "height": 3,
                "brick_length": 0.5,
                "course_height": 0.25,
            },
            "material": "brick",
        },
        *pendulum(angles),
        *(
            box(f"Crate {n}", (0.7, 0.7, 0.6), at, "timber", turn, bonded=False)
            for n, (at, turn) in enumerate(
                [((-1.3, -0.86, 0), 8), ((-0.45, -0.9, 0), -5), ((-0.9, -0.88, 0.6), 18), ((0.4, -0.92, 0), 3)], 1
            )
        ),
        *(
            {
                "name": f"Drum {n}",
                "shape": {"kind": "drum", "radius": 0.29, "height": 0.88},
                "position": at,
                "material": "drum steel",
                "bonded": False,
            }
            for n, at in enumerate([(1.2, -0.92, 0), (1.85, -0.86, 0)], 1)
        ),
    ]
    layers = [
        {
            "id": "break",
            "name": "Break",
            "kind": "break",
            "settings": {
                "pieces": ("Wall",),
                "pattern": "clustered",
                "count": fragments,
                "focus": (0.2, 0, 1.9),
                "focus_radius": 0.8,
                "seed": seed,
            },
        },
        {
            "id": "fall",
            "name": "Fall",
            "kind": "fall",
            "reads": ["break"],
            "settings": {
                "top_spin": 20,
                "bonds": {"tension": 0.15e6, "shear": 0.2e6, "scatter": 0.3},
                "events": [
                    {
                        "name": "let go",
                        "what": "let go",
                        "of": ("Counterweight", "Cable"),
                        "when": "frame",
                        "frame": touches - 1,
                    }
                ],
                "joints": [{"name": "hook", "kind": "ball", "first": "Cable", "second": "", "at": along(0.0)}],
            },
        },
        {
            "id": "flood",
            "name": "Flood",
            "kind": "flood",
            "reads": ["fall"],
            "settings": {
                "cell_size": cell_size,
                "low": (-4.1, -6.6, -2.2),
                "high": (4.1, -1.1, 1.8),
                "level": -0.55,
                "air": "keeps its volume",
            },
        },
        {"id": "skin", "name": "Skin", "kind": "skin", "reads": ["flood"]},
        {"id": "froth", "name": "Froth", "kind": "froth", "reads": ["flood"]},
        {
            "id": "shed",
            "name": "Shed",
            "kind": "shed",
            "reads": ["fall", "flood"],
            "settings": {"chips": 160, "dust": 12, "smallest": 0.012, "largest": 0.05, "spread": 0.8},
        },
        {
            "id": "billow",
            "name": "Billow",
            "kind": "billow",
            "reads": ["fall", "shed", "flood"],
            "settings": {
                "cell_size": 1.6 * cell_size,
                "low": (-6, -8, -2.2),
                "high": (6, 4, 5),
                "scalars": [{"name": "density", "clearing": 5.0}],
            },
        },
    ]
    return parse(
        {
            "name": "Granary basin",
            "note": "what floats and what sinks",
            "start": 1,
            "end": end,
            "pieces": pieces,
            "layers": layers,
            "taking_part": [{"of": "Cable", "liquid": False}],
            "couplings": [{"first": "fall", "second": "flood"}],
            "cues": [{"name": "hit", "frame": touches}],
            "cameras": [{"eye": (6.6, -9.6, 4.0), "target": (0, -2.6, -0.2), "lens": 30}],
        }
    )
