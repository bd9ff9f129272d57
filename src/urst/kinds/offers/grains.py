"""Grains: granular matter as points of one spacing."""

from urst.kinds.offers.offer import Facts, Offer


class GrainFacts(Facts):
    """What the grains are, and where they come from."""

    pieces: tuple[int, ...] = ()
    """pieces that are filled with them or give them off"""
    spacing: float
    """distance between neighbours as they are born [m]"""
    density: float
    """of the matter in bulk [kg/m3]"""

    def content(self) -> list[float]:
        return [self.spacing, self.density]


GRAINS = Offer(
    "grains",
    GrainFacts,
    outputs={"position": "(n, 3) [m]", "velocity": "(n, 3) [m/s]"},
)
