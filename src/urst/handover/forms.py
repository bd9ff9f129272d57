"""The open formats there are, and where what is handed over lies."""

from pathlib import Path

#: name: (title, what it holds)
FORMS = {
    "usd": ("Fragments and motion, USD", "one mesh a fragment, its pose at every frame"),
    "points": ("Debris points, USD", "positions, velocities and sizes at every frame"),
    "gltf": ("Fragments and motion, glTF", "one file with an animation"),
    "froth": ("Foam, bubbles, spray and mist, USD", "each by itself, at every frame"),
    "surface": ("Surface, USD", "one mesh whose corners and triangles change, with velocities"),
    "ply": ("Surface, PLY", "one closed mesh a frame, with normals and velocities"),
    "obj": ("Surface, OBJ", "one closed mesh a frame, with normals"),
    "glb": ("Surface, glTF", "one closed mesh a frame, with normals and velocities"),
    "levels": ("Surface, OpenVDB", "one level set a frame, where these are kept"),
    "vdb": ("Dust, OpenVDB", "one density file a frame"),
    "csv": ("Gauges, CSV", "one table a layer"),
    "movie": ("Preview movie, MP4", "seen through the shot's camera"),
}


def folder(store: Path | str, shot_id: str) -> Path:
    """Return the folder of a shot's files within a store."""
    return Path(store) / "handover" / shot_id
