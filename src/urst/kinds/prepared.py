"""A layer on its way to disk."""

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any, Protocol

from urst.core.coupling.ports import Reader
from urst.kinds.kind import Arrays


class Solver(Protocol):
    """What moves through time.

    The state after `restore(snapshot())` goes on to the same bytes as one that never stopped.
    """

    time: float

    def stable_dt(self) -> float:
        """Return the longest step the present state allows [s]."""

    def step(self, dt: float) -> None:
        """Advance by `dt` seconds."""

    def frame(self) -> Arrays:
        """Return what a frame keeps."""

    def gauges(self) -> dict[str, float]:
        """Return the numbers judged on every frame."""

    def snapshot(self) -> Arrays:
        """Return the whole state."""

    def restore(self, state: Arrays) -> None:
        """Take up a state that `snapshot` returned."""


class Feed(Protocol):
    """What brings a layer's input up to a frame: baked frames of another layer, or the set."""

    def load(self, frame: int) -> None:
        """Make ready for the time from the frame before to this one."""


@dataclass
class PreparedLayer:
    """A layer that is set up."""

    static: Arrays
    """what does not change over time"""
    meta: dict
    solver: Any = None
    """what moves it; None where it has no frames"""
    feeds: list[Feed] = field(default_factory=list)
    readers: list[Reader] = field(default_factory=list)
    """what layers of the same group follow of it"""
    before_step: list[Callable[[float], None]] = field(default_factory=list)
    """called before each of its steps with its length [s]: what acts on it from baked layers"""
    settle: Callable[[], None] = lambda: None
    """called once before the first frame"""
