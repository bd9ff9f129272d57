"""What a check says: a finding, why it matters, and a way to mend it."""

from dataclasses import dataclass, field


@dataclass(frozen=True)
class Finding:
    """One thing that looks wrong."""

    title: str
    """one short sentence"""
    why: str
    """what would come of it"""
    grave: bool = False
    """whether a bake cannot succeed with it"""
    layer: str | None = None
    """the layer it is about"""
    frame: int | None = None
    """the frame it shows at"""
    fix: str = ""
    """what the mend does, in a few words; empty if there is none"""
    changes: tuple[tuple[tuple, object], ...] = field(default=())
    """the mend: paths into the document and their new values"""
