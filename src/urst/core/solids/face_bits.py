"""The six faces of a cell as bits, in masks of faces that thin walls close.

side is the number of a face, 0 to 5.
"""

import numpy as np

from urst.core.jit import kernel

#: the face towards lower x, the one towards higher x, and so on
LOW_X, HIGH_X, LOW_Y, HIGH_Y, LOW_Z, HIGH_Z = 1, 2, 4, 8, 16, 32


#: those of the three lower faces
LOW = LOW_X | LOW_Y | LOW_Z


@kernel
def face(side):
    """The bit of a face by its number: 0 lower x, 1 higher x, 2 lower y and so on."""
    return np.uint8(1 << side)


@kernel
def low_face(axis):
    """The bit of the lower face across an axis."""
    return np.uint8(LOW_X << (2 * axis))


@kernel
def high_face(axis):
    """The bit of the higher face across an axis."""
    return np.uint8(HIGH_X << (2 * axis))
