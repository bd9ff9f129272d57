"""Fragments: solids cut into convex parts, with the faces they share."""

from urst.kinds.offers.offer import Facts, Offer


class FragmentFacts(Facts):
    """What is broken, and how finely."""

    pieces: tuple[int, ...]
    """pieces that are broken; the arrays' `piece` counts in this list"""
    count: int
    """fragments there will be"""
    area: float
    """faces that may part [m2]"""


FRAGMENTS = Offer(
    "fragments",
    FragmentFacts,
    static={"...": "what `Fragments.to_arrays` gives"},
)
