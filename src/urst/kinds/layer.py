"""What layers of every kind have in common."""

from pydantic import Field

from urst.core.ranges import Frame
from urst.scene.part import Name, Part, Slug


class Start(Part):
    """Where a layer begins: at a frame of an earlier bake of its kind."""

    of: str = Field(
        pattern=r"^([a-z][a-z0-9-]{0,39}|[0-9a-f]{40})$",
        description="A layer of this shot, or the content key of a kept bake (40 digits)",
    )
    frame: Frame = Field(description="The frame to begin from")

    def is_key(self) -> bool:
        """Whether `of` is a content key."""
        return len(self.of) == 40


class Layer(Part):
    """One step of the effect; the registry adds its kind and its settings."""

    id: Slug
    name: Name
    note: str = Field("", max_length=500)
    reads: tuple[Slug, ...] = Field((), max_length=200, description="Layers whose results it takes")
    keeps: tuple[Name, ...] = Field((), max_length=50, description="What its frames hold beside what they always do")
    start: Start | None = Field(None, description="Where it begins, instead of at rest")
