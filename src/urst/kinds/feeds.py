"""What brings the inputs of a layer up to a frame: frames of baked layers, and the set."""

from collections.abc import Callable
from typing import TYPE_CHECKING, Any

import numpy as np

from urst.core.air import AIR_DENSITY
from urst.core.bodies.boundary import Boundary
from urst.core.coupling.ports import Outputs, Reader
from urst.core.fields.sampled import SampledField
from urst.core.fields.wet import Wet
from urst.kinds.offers.gas import GasFacts
from urst.kinds.offers.liquid import LiquidFacts
from urst.scene.placing import Drive, poses, present
from urst.scene.taking_part import Matter

if TYPE_CHECKING:
    from urst.kinds.inputs import Source


class SomeBodies:
    """Follows the outputs of all bodies for the sake of some.

    Parameters
    ----------
    boundary : Boundary
        Those.
    mine : (m,) int
        Their numbers.
    """

    def __init__(self, boundary: Boundary, mine: np.ndarray) -> None:
        self.boundary, self.mine = boundary, mine

    def update(self, before: Outputs, after: Outputs, start: float, dt: float) -> None:
        """Take up the poses; see `ports.Reader`."""
        first, last = ({k: x[k][self.mine] for k in ("position", "orientation")} for x in (before, after))
        self.boundary.update(first, last, start, dt)


class _Frames:
    """Reads the frames of a layer at either end of the time to a frame, each once."""

    def __init__(self, source: "Source") -> None:
        self.source = source
        self._known: dict[int, Outputs] = {}

    def around(self, frame: int) -> tuple[Outputs, Outputs, float, float]:
        """Return the outputs before and at a frame, and when that time begins and how long it is [s]."""
        shot, clock = self.source.shot, self.source.shot.clock()
        first, dt = max(frame - 1, shot.start), clock.dt(frame)
        known = self._known
        self._known = {f: known[f] if f in known else self.source.frame(f) for f in (first, frame)}
        return self._known[first], self._known[frame], clock.seconds(frame) - dt, dt


class BakedOutputs:
    """Lets a reader follow a layer from its frames."""

    def __init__(self, source: "Source", reader: Reader) -> None:
        self.frames, self.reader = _Frames(source), reader

    def load(self, frame: int) -> None:
        """Feed the reader with the time to a frame."""
        self.reader.update(*self.frames.around(frame))


class EachFrame:
    """Hands each frame of a layer to a function."""

    def __init__(self, source: "Source", take: Callable[[Outputs], None]) -> None:
        self.source, self.take = source, take

    def load(self, frame: int) -> None:
        """Hand over a frame."""
        self.take(self.source.frame(frame))


class _Blended:
    """Fields between two frames, in proportion to time."""

    def __init__(self, source: "Source") -> None:
        self.frames = _Frames(source)

    def load(self, frame: int) -> None:
        """Make ready for the time to a frame."""
        before, after, start, dt = self.frames.around(frame)
        self._ends, self._span = (self._fields(before), self._fields(after)), (start, dt)

    def _fields(self, outputs: Outputs) -> list[np.ndarray]:
        raise NotImplementedError

    def _at(self, time: float) -> list[np.ndarray]:
        fraction = np.float32(min(1.0, max(0.0, (time - self._span[0]) / self._span[1])))
        return [a + fraction * (b - a) for a, b in zip(*self._ends)]


class BakedLiquid(_Blended):
    """A liquid from the frames of a layer, as others meet it."""

    def __init__(self, source: "Source[LiquidFacts]") -> None:
        super().__init__(source)
        self.facts = source.facts
        self.load(source.shot.start)

    def _fields(self, outputs: dict[str, np.ndarray]) -> list[np.ndarray]:
        return [outputs[n].astype(np.float32) for n in ("phi", "flow")]

    def __call__(self, time: float) -> Wet:
        """Return it at a time [s]."""
        phi, flow = self._at(time)
        f = self.facts
        return Wet(phi, flow, np.array(f.grid.low, float), f.grid.cell, f.viscosity, f.density)


class BakedGas(_Blended):
    """The velocity of a gas from the frames of a layer."""

    def __init__(self, source: "Source[GasFacts]") -> None:
        super().__init__(source)
        self.grid = source.facts.grid

    def _fields(self, outputs: dict[str, np.ndarray]) -> list[np.ndarray]:
        return [outputs[f"velocity_{a}"].astype(np.float32) for a in "xyz"]

    def __call__(self, time: float) -> SampledField:
        """Return it at a time [s]."""
        velocity = self._at(time)
        weights = [np.ones(u.shape, np.float32) for u in velocity]
        return SampledField(velocity, weights, self.grid.low, self.grid.cell, AIR_DENSITY)


class SetBodies:
    """Moves bodies of the set: driven ones follow their paths."""

    def __init__(self, shot: Any, numbers: list[int], boundary: Boundary) -> None:
        self.clock, self.boundary = shot.clock(), boundary
        self.drive = Drive(shot, numbers, boundary.fragments)

    def load(self, frame: int) -> None:
        """Move them from the frame before to a frame."""
        if not self.drive:
            return
        dt = self.clock.dt(frame)
        start = self.clock.seconds(frame) - dt
        self.boundary.update(self._poses(start), self._poses(start + dt), start, dt)

    def _poses(self, time: float) -> dict[str, np.ndarray]:
        position, orientation = poses(self.boundary.fragments, self.drive, time)
        return {"position": position, "orientation": orientation}


class Presence:
    """Tells which bodies stop a matter at each frame."""

    def __init__(self, shot: Any, numbers: list[int], boundary: Boundary, matter: Matter) -> None:
        self.shot, self.numbers, self.boundary, self.matter = shot, numbers, boundary, matter
        self.load(shot.start)

    def load(self, frame: int) -> None:
        """Tell it of a frame."""
        piece = self.boundary.fragments.piece
        self.boundary.present = present(self.shot, self.numbers, piece, self.matter, frame)
