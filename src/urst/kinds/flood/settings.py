"""What an artist says about a Flood."""

from urst.core.liquid.settings import LiquidSettings


class FloodSettings(LiquidSettings):
    """Where a liquid is solved and what of it there is."""
