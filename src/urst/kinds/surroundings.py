"""What stops a matter, as the key of a result has it."""

from typing import Any

from urst.scene import content
from urst.scene.placing import stopping
from urst.scene.taking_part import Matter


def around(shot: Any, layer: Any, matter: Matter) -> dict[str, Any]:
    """Return what a layer's matter meets: set pieces as they stand, and which of the bodies that others carry stop it.

    Parameters
    ----------
    shot, layer : the document and one of its layers
    matter : str
        As what it is stopped.
    """
    casts = [shot.kind_of(x).cast(shot, x) for x in shot.takes(layer, "bodies")]
    standing = [shot.pieces[i] for i in stopping(shot, matter) if not any(i in cast for cast in casts)]
    stops = lambda p: [getattr(shot.part_of(p), matter), content.window(p, shot)]  # noqa: E731
    return {
        "around": [content.stance(p, shot) | {"there": content.window(p, shot)} for p in standing],
        "carried": [[stops(shot.pieces[i]) for i in cast] for cast in casts],
    }
