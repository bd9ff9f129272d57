"""What stops a matter: as the key of a result has it, and where it is thinner than a cell."""

from typing import Any

import numpy as np

from urst.core.checks.findings import Finding
from urst.kinds.kind import at
from urst.kinds.offers.bodies import BODIES
from urst.scene import content
from urst.scene.placing import stopping
from urst.scene.shapes import is_endless, is_hollow, meshes
from urst.scene.taking_part import Matter


def around(shot: Any, layer: Any, matter: Matter) -> dict[str, Any]:
    """Return what a layer's matter meets: set pieces as they stand, and which of the bodies that others carry stop it.

    Parameters
    ----------
    shot, layer : the document and one of its layers
    matter : str
        As what it is stopped.
    """
    casts = [shot.facts(x, BODIES).pieces for x in shot.takes(layer, BODIES)]
    carried = {i for cast in casts for i in cast}
    standing = [shot.pieces[i] for i in stopping(shot, matter) if i not in carried]
    stops = lambda p: [getattr(shot.part_of(p), matter), content.window(p, shot)]  # noqa: E731
    return {
        "around": [content.stance(p, shot) | {"there": content.window(p, shot)} for p in standing],
        "carried": [[stops(shot.pieces[i]) for i in cast] for cast in casts],
    }


def thin(
    shot: Any, layer: Any, matter: Matter, across: float, why: str, *, driven: bool = True, fraction: float = 1.0
) -> list[Finding]:
    """Return the thinnest piece that stops a matter and is thinner than a fraction of a cell, if there is one.

    Parameters
    ----------
    shot, layer : the document and one of its layers, which has cells
    matter : str
        What the piece stops.
    across : float
        Cells across the piece that the mend makes.
    why : str
        What happens there.
    driven : bool
        Whether driven pieces count.
    fraction : float
        Of a cell that is thick enough.
    """
    cell, found = layer.settings.cell_size, []
    for piece in (shot.pieces[i] for i in stopping(shot, matter)):
        if is_endless(piece.shape) or (piece.motion == "driven" and not driven):
            continue
        parts = meshes(piece.shape)
        thickness = (
            piece.shape.wall if is_hollow(piece.shape) else min(float(np.ptp(m.vertices, axis=0).min()) for m in parts)
        )
        extent = float(np.ptp(np.concatenate([m.vertices for m in parts]), axis=0).max())
        if 0 < thickness < fraction * cell < extent:
            found.append((thickness, piece.name))
    if not found:
        return []
    thickness, name = min(found)
    wanted = round(thickness / across, 4)
    return [
        Finding(
            f"'{name}' is {thickness * 100:.3g} cm thick, thinner than "
            f"{'a cell' if fraction == 1.0 else f'{fraction:g} of a cell'} of {cell * 100:.3g} cm.",
            why,
            layer=layer.id,
            fix=f"Use cells of {wanted * 100:.3g} cm",
            changes=((at(shot, layer, "cell_size"), wanted),),
        )
    ]
