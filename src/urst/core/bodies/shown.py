"""How the skins of fragments are shaded."""

import numpy as np

from urst.core.bodies.fragments import Fragments
from urst.core.geometry.surface import shading


def owners(fragments: Fragments) -> np.ndarray:
    """Return the body each triangle of the skins belongs to, (s,) int32."""
    return np.repeat(np.arange(len(fragments), dtype=np.int32), np.diff(fragments.skin_start))


def shaded(fragments: Fragments) -> tuple[np.ndarray, np.ndarray]:
    """Return normals and creases of all skins; see `shading`.

    A sheet is many bodies of one triangle each; it is shaded as the one surface it is.
    """
    body, count = owners(fragments), np.diff(fragments.skin_start)
    sheet = count[body] == 1
    surface = np.where(sheet, len(fragments) + fragments.piece[body], body)
    place = np.where(sheet[:, None], fragments.centre[body], 0.0)
    return shading(fragments.skin + place[:, None], surface, fragments.inner)
