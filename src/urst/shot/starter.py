"""A shot to begin with: a wall on the ground, and something that flies into it."""

from urst.shot.document import Shot, parse


def starter(name: str) -> Shot:
    """Return a small shot with one layer of each kind."""
    pieces = [
        {
            "name": "Ground",
            "shape": {"kind": "box", "width": 60, "depth": 60, "height": 1},
            "position": (0, 0, -1),
            "material": "stone",
            "motion": "fixed",
        },
        {
            "name": "Wall",
            "shape": {
                "kind": "brick wall",
                "width": 4,
                "depth": 0.3,
                "height": 2.5,
                "brick_length": 0.5,
                "course_height": 0.25,
            },
            "material": "brick",
        },
        {
            "name": "Ball",
            "shape": {"kind": "ball", "radius": 0.4, "rings": 8},
            "position": (0, 3, 1),
            "material": "stone",
            "velocity": (0, -9, 1.5),
        },
    ]
    layers = [
        {
            "id": "break",
            "name": "Break",
            "kind": "break",
            "settings": {
                "pieces": ("Wall",),
                "pattern": "clustered",
                "count": 160,
                "focus": (0, 0, 1.4),
                "focus_radius": 0.7,
            },
        },
        {"id": "fall", "name": "Fall", "kind": "fall", "reads": ["break"], "settings": {}},
        {
            "id": "shed",
            "name": "Shed",
            "kind": "shed",
            "reads": ["fall"],
            "settings": {"chips": 260, "dust": 120, "puff_mass": 0.0006},
        },
        {
            "id": "billow",
            "name": "Billow",
            "kind": "billow",
            "reads": ["fall", "shed"],
            "settings": {"cell_size": 0.18, "low": (-6, -8, -0.3), "high": (6, 5, 4.2)},
        },
    ]
    camera = {"eye": (5.0, -8.0, 2.4), "target": (0, -0.4, 1.1), "lens": 35}
    return parse({"name": name, "end": 60, "pieces": pieces, "layers": layers, "cameras": [camera]})
