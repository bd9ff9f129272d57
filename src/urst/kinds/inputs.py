"""What the work of a layer is given: the shot, and what it takes from other layers and from the set.

A layer of the same group is taken live, any other from its frames on disk; the work sees no difference.
"""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Generic, Protocol, TypeVar

import numpy as np

from urst.core.bodies.boundary import Boundary
from urst.core.bodies.fragments import Fragments
from urst.core.bodies.parting import Parting
from urst.core.bodies.patches import Patches
from urst.core.coupling.ports import Reader
from urst.core.fields.sampled import SampledField
from urst.core.fields.wet import Wet
from urst.core.gas.sources import Puffs
from urst.errors import BadValue, CacheDamaged
from urst.kinds.feeds import BakedGas, BakedLiquid, BakedOutputs, EachFrame, Presence, SetBodies, SomeBodies
from urst.kinds.kind import Arrays, Kind, Shot
from urst.kinds.layer import Layer
from urst.kinds.offers.bodies import BODIES, BodyFacts
from urst.kinds.offers.fragments import FRAGMENTS, FragmentFacts
from urst.kinds.offers.gas import GAS
from urst.kinds.offers.liquid import LIQUID, LiquidFacts
from urst.kinds.offers.offer import Facts, Offer
from urst.kinds.offers.points import POINTS
from urst.kinds.prepared import Feed, PreparedLayer
from urst.scene.placing import standing, stopping
from urst.scene.taking_part import Matter

#: called often within long work; raises to end it
CheckCancelled = Callable[[], None]
#: called with what is done before the first frame, how much of it is, and how much there is
ReportProgress = Callable[[str, int, int], None]
F = TypeVar("F", bound=Facts)


class Frames(Protocol):
    """What the work needs of a store."""

    def read_static(self, key: str) -> tuple[Arrays, dict[str, Any]]:
        """Return what does not change over time of a baked layer: (arrays, meta)."""

    def read_frame(self, key: str, frame: int) -> tuple[Arrays, dict[str, Any]]:
        """Return a baked frame: (arrays, meta)."""

    def key_of(self, arrays: Arrays, text: str) -> str:
        """Return the content key of arrays and a text."""

    def read_start(self, key: str) -> Arrays | None:
        """Return a state that work began from once, None if there is none under the key."""

    def write_start(self, key: str, state: Arrays) -> None:
        """Keep a state that work began from."""


@dataclass(frozen=True)
class Source(Generic[F]):
    """A layer that something is taken of."""

    inputs: "Inputs"
    layer: Layer
    offer: Offer[F]
    facts: F
    live: PreparedLayer | None
    """the layer's own work, if it is stepped in the same group"""

    @property
    def shot(self) -> Shot:
        """The document."""
        return self.inputs.shot

    @property
    def kind(self) -> Kind:
        """Its kind."""
        return self.shot.kind_of(self.layer)

    def static(self) -> Arrays:
        """Return its arrays that no frame changes."""
        return self.live.static if self.live else self.inputs.store.read_static(self.inputs.keys[self.layer.id])[0]

    def frame(self, frame: int) -> Arrays:
        """Return one of its baked frames in the offer's terms.

        Raises
        ------
        BadValue
            If the frame does not hold what the offer needs.
        """
        arrays = self.inputs.store.read_frame(self.inputs.keys[self.layer.id], frame)[0]
        found = self.kind.outputs(self.offer, arrays)
        missing = [n for n in self.offer.outputs if n not in found]
        if missing:
            kept, reader = self.kind.needs.get(self.offer.name), self.inputs.layer.name
            if kept:
                raise BadValue(
                    f"'{reader}' follows '{self.layer.name}', which keeps no {kept}: let it keep that, and bake again."
                )
            raise BadValue(
                f"'{reader}' reads the {self.offer.name} of '{self.layer.name}', whose frames hold no "
                f"{' and no '.join(missing)}: bake it again, or read another layer."
            )
        return found

    def follow(self, reader: Reader) -> None:
        """Have a reader follow it, live or from its frames."""
        if self.live:
            self.live.readers.append(reader)
        else:
            self.inputs.feeds.append(BakedOutputs(self, reader))


class Inputs:
    """What a layer takes.

    Parameters
    ----------
    shot, layer : the document and one of its layers
    store : Frames
    keys : dict
        Content keys by layer id.
    prepared : dict
        Layers of the same group that are set up already, by id.
    check_cancelled, report_progress : callable
    """

    def __init__(
        self,
        shot: Any,
        layer: Any,
        store: Frames,
        keys: dict[str, str],
        prepared: dict[str, PreparedLayer],
        check_cancelled: CheckCancelled,
        report_progress: ReportProgress,
    ) -> None:
        self.shot, self.layer, self.store, self.keys, self.prepared = shot, layer, store, keys, prepared
        self.check_cancelled, self.report_progress = check_cancelled, report_progress
        self.kind: Kind = shot.kind_of(layer)
        self.clock = shot.clock()
        self.feeds: list[Feed] = []
        self.carried: set[int] = set()
        """numbers of the set pieces that a layer it takes bodies of carries along"""

    def sources(self, offer: Offer[F]) -> list[Source[F]]:
        """Return the layers that it takes something of.

        Parameters
        ----------
        offer : Offer
        """
        return [
            Source(self, x, offer, self.shot.facts(x, offer), self.prepared.get(x.id))
            for x in self.shot.takes(self.layer, offer)
        ]

    def fragments(self) -> list[tuple[FragmentFacts, Fragments]]:
        """Return the fragments of each layer it takes them of, with what is known of these."""
        return [(s.facts, Fragments.from_arrays(s.static())) for s in self.sources(FRAGMENTS)]

    def bodies(self, matter: Matter) -> list[Parting]:
        """Return the bodies of each layer it takes them of, as they stop a matter.

        Parameters
        ----------
        matter : str
        """
        found = []
        for source in self.sources(BODIES):
            pieces, arrays = list(source.facts.pieces), source.static()
            self.carried.update(pieces)
            parting = Parting(Boundary(Fragments.from_arrays(arrays)), Patches.from_arrays(arrays), arrays["bond"])
            source.follow(parting)
            self.feeds.append(Presence(self.shot, pieces, parting.boundary, matter))
            found.append(parting)
        return found

    def puffs(self, scalar: int) -> list[Puffs]:
        """Return the dust puffs of each layer it takes points of, where there are any.

        Parameters
        ----------
        scalar : int
            To which of a gas's scalars they give.
        """
        found = []
        for source in self.sources(POINTS):
            if source.facts.puffs:
                p = source.facts.puffs
                found.append(Puffs(p.mass, p.life, p.radius, p.giving, scalar))
                source.follow(found[-1])
        return found

    def gases(self) -> list[tuple[Callable[[float], SampledField], float]]:
        """Return the baked gases it takes, each as its velocity at a time [s], and how strongly each acts.

        A live one acts through the group.
        """
        acting = {x.id: on_it for x, on_it, _ in self.shot.partners(self.layer) if on_it > 0.0}
        found: list[tuple[Callable[[float], SampledField], float]] = []
        for source in self.sources(GAS):
            if not self.shot.grouped(self.layer, source.layer):
                baked = BakedGas(source)
                self.feeds.append(baked)
                found.append((baked, acting.get(source.layer.id, 1.0)))
        return found

    def liquid_frames(self, take: Callable[[Arrays], None]) -> tuple[LiquidFacts, EachFrame]:
        """Have each frame of the liquid it takes handed over, and return what is known of that, and what hands over.

        Parameters
        ----------
        take : callable
            Called with the arrays of a frame, in the offer's terms.

        Raises
        ------
        BadValue
            If it takes none.
        """
        for source in self.sources(LIQUID):
            feed = EachFrame(source, take)
            self.feeds.append(feed)
            return source.facts, feed
        raise BadValue(f"'{self.layer.name}' has no liquid: let it read a layer that has one.")

    def liquids(self) -> list[Callable[[float], Wet]]:
        """Return the liquids it takes, each as the `Wet` of a time [s]; a live one as it is at the moment."""
        found: list[Callable[[float], Wet]] = []
        for source in self.sources(LIQUID):
            if source.live:
                found.append(source.live.solver.wet)
            else:
                baked = BakedLiquid(source)
                self.feeds.append(baked)
                found.append(baked)
        return found

    def surroundings(self, matter: Matter) -> list[Boundary]:
        """Return the set pieces that stop a matter and that no layer it takes bodies of carries along; ask for those
        first.

        Parameters
        ----------
        matter : str
        """
        numbers = [i for i in stopping(self.shot, matter) if i not in self.carried]
        return [self.set_bodies(numbers, matter)] if numbers else []

    def set_bodies(self, numbers: list[int], matter: Matter | None) -> Boundary:
        """Return set pieces as bodies that stand or are driven.

        Parameters
        ----------
        numbers : list of int
        matter : str, optional
            Where they are there only as they stop it.
        """
        boundary = Boundary(standing(self.shot, numbers, close=matter == "liquid"))
        self.feeds.append(SetBodies(self.shot, numbers, boundary))
        if matter:
            self.feeds.append(Presence(self.shot, numbers, boundary, matter))
        return boundary

    def carrier(self, name: str) -> Boundary:
        """Return a set piece as what gives something off: with the layer that carries it along, else as it stands.

        Parameters
        ----------
        name : str
        """
        number = next(i for i, p in enumerate(self.shot.pieces) if p.name == name)
        for source in self.sources(BODIES):
            facts: BodyFacts = source.facts
            if number in facts.pieces:
                fragments = Fragments.from_arrays(source.static())
                mine = np.flatnonzero(fragments.piece == facts.pieces.index(number))
                boundary = Boundary(fragments.only(mine))
                source.follow(SomeBodies(boundary, mine))
                return boundary
        return self.set_bodies([number], None)

    def window(self, source: Any) -> tuple[float, float]:
        """Return when a source opens and closes [s].

        Parameters
        ----------
        source
            Something with the frames `since` and `until`.
        """
        first = self.shot.start if source.since is None else source.since
        last = self.shot.end + 1_000_000 if source.until is None else source.until
        return self.clock.seconds(first), self.clock.seconds(last + 1)

    def start_frame(self) -> Arrays | None:
        """Return the frame it begins from, None if it begins at rest; raises as `start` does."""
        found = self.start()
        return None if found is None else found[0]

    def start(self) -> tuple[Arrays, dict[str, Any]] | None:
        """Return the frame it begins from and the meta of that bake, None if it begins at rest.

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
