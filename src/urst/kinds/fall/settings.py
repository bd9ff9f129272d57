"""What an artist says about a Fall."""

from urst.core.rigid.settings import RigidSettings


class FallSettings(RigidSettings):
    """How bodies move."""
