"""What an artist says about a Break."""

from pydantic import Field

from urst.core.fracture.settings import FractureSettings


class BreakSettings(FractureSettings):
    """Which pieces break, and where the cracks run."""

    pieces: tuple[str, ...] = Field(description="Names of the set pieces that break", min_length=1)
