"""What an artist says about a Break."""

from pydantic import Field

from urst.core.fracture.settings import FractureSettings
from urst.scene.part import Name


class BreakSettings(FractureSettings):
    """Which pieces break, and where the cracks run."""

    pieces: tuple[Name, ...] = Field(description="Names of the set pieces that break", min_length=1, max_length=10_000)
