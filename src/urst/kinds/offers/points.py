"""Points: debris that flies, and puffs of dust among it."""

from pydantic import BaseModel, ConfigDict

from urst.core.curves.varies import Number
from urst.kinds.offers.offer import Facts, Offer


class PuffFacts(BaseModel):
    """What each puff gives to a gas."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    mass: float
    """dust in one [kg]"""
    life: float
    """how long it gives off [s]"""
    radius: float
    """how far about its middle [m]"""
    giving: Number = 1.0
    """how strongly, over its age; only the shape counts"""


class PointFacts(Facts):
    """Where points come from, and what they give off."""

    pieces: tuple[int, ...] = ()
    """pieces they are born from"""
    puffs: PuffFacts | None = None
    """what puffs among them give off; None if there are none"""

    def content(self) -> dict[str, float] | None:
        return self.puffs.model_dump(mode="json") if self.puffs else None


POINTS = Offer(
    "points",
    PointFacts,
    outputs={
        "position": "(n, 3) of the puffs [m]",
        "velocity": "(n, 3) of the puffs [m/s]",
        "age": "(n,) of the puffs [s]",
    },
)
