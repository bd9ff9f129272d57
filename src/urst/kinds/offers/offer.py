"""What an offer is."""

from dataclasses import dataclass, field
from typing import Any, Generic, TypeVar

from pydantic import BaseModel, ConfigDict


class Facts(BaseModel):
    """What a document tells of an offer before anything is baked.

    Piece numbers count in the list of the set's pieces.
    """

    model_config = ConfigDict(extra="forbid", frozen=True, arbitrary_types_allowed=True)

    def content(self) -> Any:
        """Return what of them a reader's result depends on beside the offering layer's own key, as JSON can hold it."""
        return None


F = TypeVar("F", bound=Facts)


@dataclass(frozen=True)
class Offer(Generic[F]):
    """Something that one layer gives and others read."""

    name: str
    """as documents and ports have it"""
    facts: type[F]
    outputs: dict[str, str] = field(default_factory=dict, compare=False)
    """arrays that a reader is fed with, and what each holds; a kind's frames must give them"""
    static: dict[str, str] = field(default_factory=dict, compare=False)
    """arrays that no frame changes, and what each holds"""
    sampled: bool = False
    """whether live readers look at it where it is, so that it may be stepped after them; else they follow it"""

    def __str__(self) -> str:
        return self.name
