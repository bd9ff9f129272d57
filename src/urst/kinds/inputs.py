"""What the work of a layer is given: the shot, and what it takes from other layers and from the set.

A layer of the same group is taken live, any other from its frames on disk; the work sees no difference.
"""

from collections.abc import Callable
from typing import Any

import numpy as np

from urst.core.air import AIR_DENSITY
from urst.core.bodies.boundary import Boundary
from urst.core.bodies.fragments import Fragments
from urst.core.bodies.parting import Parting
from urst.core.bodies.patches import Patches
from urst.core.fields.sampled import SampledField
from urst.core.fields.wet import Wet
from urst.core.gas.sources import Puffs
from urst.errors import BadValue, CacheDamaged
from urst.kinds.working import Begun, Feed
from urst.scene.placing import Drive, poses, present, standing, stopping
from urst.scene.taking_part import Matter

#: called often within long work; raises to end it
Pulse = Callable[[], None]
#: called with what is done before the first frame, how much of it is, and how much there is
Tell = Callable[[str, int, int], None]


class Inputs:
    """What a layer takes.

    Parameters
    ----------
    shot, layer : the document and one of its layers
    store : Store
    keys : dict
        Content keys by layer id.
    begun : dict
        Layers of the same group that are set up already, by id.
    pulse, tell : callable
    """

    def __init__(
        self, shot: Any, layer: Any, store: Any, keys: dict[str, str], begun: dict[str, Begun], pulse: Pulse, tell: Tell
    ):
        self.tell = tell
        self.shot, self.layer, self.store, self.keys, self.begun, self.pulse = shot, layer, store, keys, begun, pulse
        self.kind = shot.kind_of(layer)
        self.clock = shot.clock()
        self.feeds: list[Feed] = []
        self.carried: set[int] = set()
        """numbers of the set pieces that a layer it takes bodies of carries along"""

    def fragments(self) -> list[tuple[Any, Fragments]]:
        """Return the layers it takes fragments of, with these."""
        return [
            (x, Fragments.from_arrays(self.store.read_static(self.keys[x.id])[0]))
            for x in self.shot.takes(self.layer, "fragments")
        ]

    def bodies(self, matter: Matter) -> list[Parting]:
        """Return the bodies of each layer it takes them of, as they stop a matter."""
        found = []
        for source in self.shot.takes(self.layer, "bodies"):
            cast = self.shot.kind_of(source).cast(self.shot, source)
            self.carried.update(cast)
            live, arrays = self._unchanging(source)
            fragments = Fragments.from_arrays(arrays)
            parting = Parting(Boundary(fragments), Patches.from_arrays(arrays), arrays["bond"])
            if live:
                live.readers.append(parting)
            else:
                self.feeds.append(_BakedBodies(self, source, parting))
            self.feeds.append(_Presence(self.shot, cast, parting.boundary, matter))
            found.append(parting)
        return found

    def puffs(self) -> list[Puffs]:
        """Return the dust puffs of each layer it takes points of."""
        found = []
        for source in self.shot.takes(self.layer, "points"):
            s = source.settings
            puffs = Puffs(s.puff_mass, s.puff_life, s.puff_radius, s.puff_giving)
            live = self.begun.get(source.id)
            if live:
                live.readers.append(puffs)
            else:
                self.feeds.append(_BakedPuffs(self, source, puffs))
            found.append(puffs)
        return found

    def air(self) -> list[tuple["BakedAir", float]]:
        """Return the baked gases it takes, and how strongly each acts; a live one acts through the group."""
        acting = {x.id: on_it for x, on_it, _ in self.shot.partners(self.layer) if on_it > 0.0}
        found = []
        for source in self.shot.takes(self.layer, "gas"):
            if not self.shot.grouped(self.layer, source):
                baked = BakedAir(self, source)
                self.feeds.append(baked)
                found.append((baked, acting.get(source.id, 1.0)))
        return found

    def liquid(self) -> tuple[Any, dict, "BakedLiquid"]:
        """Return the liquid it takes: its layer, what its frames lie on, and what tells of each.

        Raises
        ------
        BadValue
            If it takes none.
        """
        for source in self.shot.takes(self.layer, "liquid"):
            feed = BakedLiquid(self, source)
            self.feeds.append(feed)
            return source, self.store.read_static(self.keys[source.id])[1], feed
        raise BadValue(f"'{self.layer.name}' has no liquid: let it read a Flood.")

    def liquids(self) -> list[Callable[[float], Wet]]:
        """Return the liquids it takes, each as the `Wet` of a time [s]; a live one as it is at the moment."""
        found: list[Callable[[float], Wet]] = []
        for source in self.shot.takes(self.layer, "liquid"):
            live = self.begun.get(source.id)
            if live:
                found.append(live.solver.wet)
            else:
                baked = BakedWet(self, source)
                self.feeds.append(baked)
                found.append(baked)
        return found

    def surroundings(self, matter: Matter) -> list[Boundary]:
        """Return the set pieces that stop a matter and that no layer it takes bodies of carries along; ask for those first."""
        numbers = [i for i in stopping(self.shot, matter) if i not in self.carried]
        return [self.set_bodies(numbers, matter)] if numbers else []

    def set_bodies(self, numbers: list[int], matter: Matter | None) -> Boundary:
        """Return set pieces as bodies that stand or are driven."""
        boundary = Boundary(standing(self.shot, numbers))
        self.feeds.append(_SetBodies(self.shot, numbers, boundary))
        if matter:
            self.feeds.append(_Presence(self.shot, numbers, boundary, matter))
        return boundary

    def carrier(self, name: str) -> Boundary:
        """Return a set piece as what gives something off: with the layer that carries it along, else as it stands."""
        number = next(i for i, p in enumerate(self.shot.pieces) if p.name == name)
        for source in self.shot.takes(self.layer, "bodies"):
            cast = self.shot.kind_of(source).cast(self.shot, source)
            if number in cast:
                live, arrays = self._unchanging(source)
                fragments = Fragments.from_arrays(arrays)
                mine = np.flatnonzero(fragments.piece == cast.index(number))
                boundary = Boundary(fragments.only(mine))
                if live:
                    live.readers.append(_Some(boundary, mine))
                else:
                    self.feeds.append(_BakedBodies(self, source, _Some(boundary, mine)))
                return boundary
        return self.set_bodies([number], None)

    def _unchanging(self, source: Any) -> tuple[Begun | None, dict[str, np.ndarray]]:
        """Return a layer if it is live, and its arrays that no frame changes."""
        live = self.begun.get(source.id)
        return live, live.static if live else self.store.read_static(self.keys[source.id])[0]

    def window(self, source: Any) -> tuple[float, float]:
        """Return when a source opens and closes [s]."""
        first = self.shot.start if source.since is None else source.since
        last = self.shot.end + 1_000_000 if source.until is None else source.until
        return self.clock.seconds(first), self.clock.seconds(last + 1)

    def start_frame(self) -> dict[str, np.ndarray] | None:
        """Return the frame it begins from, None if it begins at rest; raises as `start` does."""
        found = self.start()
        return None if found is None else found[0]

    def start(self) -> tuple[dict[str, np.ndarray], dict] | None:
        """Return the frame it begins from and what does not change over time of that bake, None if it begins at rest.

        Raises
        ------
        BadValue
            If that frame is not on disk.
        """
        start = self.layer.start
        if start is None:
            return None
        key = start.of if start.is_key() else self.keys[start.of]
        try:
            return self.store.read_frame(key, start.frame)[0], self.store.read_static(key)[1]
        except CacheDamaged as error:
            raise BadValue(
                f"'{self.layer.name}' begins from frame {start.frame} of '{start.of}', which is not baked: bake that "
                "first, or choose a frame that is."
            ) from error


class _Some:
    """Some bodies of a layer, fed with the poses of all."""

    def __init__(self, boundary, mine):
        self.boundary, self.mine, self.parted = boundary, mine, None

    def span(self, before, after, start, dt):
        pick = lambda poses: {k: poses[k][self.mine] for k in ("position", "orientation")}  # noqa: E731
        self.boundary.span(pick(before), pick(after), start, dt)


class _BakedBodies:
    """Feeds bodies from the frames of a layer."""

    def __init__(self, inputs, source, target):
        self.inputs, self.key, self.target = inputs, inputs.keys[source.id], target
        self._last = (None, {})

    def _read(self, frame):
        if self._last[0] != frame:
            self._last = (frame, self.inputs.store.read_frame(self.key, frame)[0])
        return self._last[1]

    def load(self, frame):
        clock = self.inputs.clock
        first = max(frame - 1, self.inputs.shot.start)
        before, after = self._read(first), self._read(frame)
        dt = clock.dt(frame)
        self.target.span(before, after, clock.seconds(frame) - dt, dt)
        if self.target.parted is not None:
            self.target.parted = after["bond_alive"] == 0


class _BakedPuffs:
    """Feeds puffs from the frames of a layer."""

    def __init__(self, inputs, source, puffs):
        self.inputs, self.source, self.puffs = inputs, source, puffs

    def load(self, frame):
        arrays = self.inputs.store.read_frame(self.inputs.keys[self.source.id], frame)[0]
        puff = self.inputs.shot.kind_of(self.source).is_puff(arrays)
        self.puffs.take(*(arrays[n][puff] for n in ("position", "velocity", "age")), self.inputs.clock.seconds(frame))


class _SetBodies:
    """Feeds bodies of the set: driven ones follow their paths."""

    def __init__(self, shot, numbers, boundary):
        self.clock, self.boundary = shot.clock(), boundary
        self.drive = Drive(shot, numbers, boundary.fragments)

    def load(self, frame):
        if not self.drive:
            return
        dt = self.clock.dt(frame)
        start = self.clock.seconds(frame) - dt
        self.boundary.span(self._poses(start), self._poses(start + dt), start, dt)

    def _poses(self, time):
        position, orientation = poses(self.boundary.fragments, self.drive, time)
        return {"position": position, "orientation": orientation}


class _Presence:
    """Tells which bodies stop a matter at each frame."""

    def __init__(self, shot, numbers, boundary, matter):
        self.shot, self.numbers, self.boundary, self.matter = shot, numbers, boundary, matter
        self.load(shot.start)

    def load(self, frame):
        piece = self.boundary.fragments.piece
        self.boundary.present = present(self.shot, self.numbers, piece, self.matter, frame)


class BakedLiquid:
    """Tells of the frames of a liquid."""

    def __init__(self, inputs, source):
        self.store, self.key = inputs.store, inputs.keys[source.id]
        self.told: Callable[[dict[str, np.ndarray]], None] = lambda arrays: None
        """called with each frame's arrays"""

    def load(self, frame):
        self.told(self.store.read_frame(self.key, frame)[0])


class BakedWet:
    """A liquid from the frames of a layer, between two of them in proportion to time."""

    def __init__(self, inputs, source):
        self.inputs, self.key, self.viscosity = inputs, inputs.keys[source.id], source.settings.kinematic()
        self.meta = inputs.store.read_static(self.key)[1]
        self._frames: dict[int, tuple[np.ndarray, np.ndarray]] = {}
        self.load(inputs.shot.start)

    def _read(self, frame):
        arrays = self.inputs.store.read_frame(self.key, frame)[0]
        return arrays["phi"].astype(np.float32), arrays["flow"].astype(np.float32)

    def load(self, frame):
        first, clock = max(frame - 1, self.inputs.shot.start), self.inputs.clock
        self._frames = {f: self._frames.get(f) or self._read(f) for f in (first, frame)}
        self._ends, dt = (self._frames[first], self._frames[frame]), clock.dt(frame)
        self._span = clock.seconds(frame) - dt, dt

    def __call__(self, time: float) -> Wet:
        """Return it at a time [s]."""
        share = np.float32(min(1.0, max(0.0, (time - self._span[0]) / self._span[1])))
        phi, flow = (a + share * (b - a) for a, b in zip(*self._ends))
        return Wet(phi, flow, np.array(self.meta["origin"], float), float(self.meta["cell"]), self.viscosity)


class BakedAir:
    """A gas from the frames of a layer, its velocity between two of them in proportion to time."""

    def __init__(self, inputs, source):
        self.inputs, self.key, self.settings = inputs, inputs.keys[source.id], source.settings
        self._frames: dict[int, list[np.ndarray]] = {}
        self._span = (0.0, 1.0)

    def _read(self, frame):
        arrays = self.inputs.store.read_frame(self.key, frame)[0]
        if "velocity_x" not in arrays:
            raise BadValue(
                f"'{self.inputs.layer.name}' follows a gas that keeps no velocity: let it keep that, and bake again."
            )
        return [arrays[f"velocity_{a}"].astype(np.float32) for a in "xyz"]

    def load(self, frame):
        first = max(frame - 1, self.inputs.shot.start)
        self._frames = {f: self._frames.get(f) or self._read(f) for f in (first, frame)}
        self._ends = self._frames[first], self._frames[frame]
        dt = self.inputs.clock.dt(frame)
        self._span = self.inputs.clock.seconds(frame) - dt, dt

    def field(self, time: float) -> SampledField:
        """Return the velocity at a time [s]."""
        share = np.float32(min(1.0, max(0.0, (time - self._span[0]) / self._span[1])))
        velocity = [a + share * (b - a) for a, b in zip(*self._ends)]
        weights = [np.ones(u.shape, np.float32) for u in velocity]
        return SampledField(velocity, weights, self.settings.low, self.settings.cell_size, AIR_DENSITY)
