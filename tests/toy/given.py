"""Toy kinds, one for each offer: what anybody may write, with settings named unlike those of Urst's own kinds."""

from typing import Any, ClassVar

from pydantic import BaseModel, ConfigDict, Field

from urst.kinds.gauge import Gauge, Quantity
from urst.kinds.kind import Kind
from urst.kinds.offers.bodies import BODIES, BodyFacts
from urst.kinds.offers.fragments import FRAGMENTS, FragmentFacts
from urst.kinds.offers.gas import GAS, GasFacts
from urst.kinds.offers.grains import GRAINS, GrainFacts
from urst.kinds.offers.grid import Grid
from urst.kinds.offers.liquid import LIQUID, LiquidFacts
from urst.kinds.offers.points import POINTS, PointFacts, PuffFacts


class One(BaseModel):
    """One number, which every result depends on."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    amount: float = Field(1.0, gt=0, le=100, description="How much")


class Toy(Kind):
    """What all of them are."""

    version = 1
    settings = One
    hue = ("#ffffff", "#000000")
    work = "tests.toy.given_work"
    gauges = (Gauge("amount", "amount"),)
    chief = "amount"
    questions = ()
    quantities = (Quantity("all", "all", 30.0),)
    number: ClassVar[dict[str, Any]] = {}

    def _first(self, shot):
        return next(i for i, p in enumerate(shot.pieces) if p.motion == "loose")


class Splitter(Toy):
    """Fragments: a piece cut in two."""

    name, title, moving = "splitter", "Splitter", False
    offers, representation = (FRAGMENTS,), "bodies"

    def cast(self, shot, layer):
        return [self._first(shot)]

    def facts(self, shot, layer, offer):
        return FragmentFacts(pieces=(self._first(shot),), count=2, area=0.1)


class Lifter(Toy):
    """Bodies: a piece that rises."""

    name, title = "lifter", "Lifter"
    offers, reads, representation, hands_over = (BODIES,), (FRAGMENTS,), "bodies", ("usd", "gltf", "csv")

    def cast(self, shot, layer):
        return [self._first(shot)]

    def facts(self, shot, layer, offer):
        return BodyFacts(pieces=(self._first(shot),))


class Marker(Toy):
    """Points: dust puffs on a line, among the bodies it reads."""

    name, title = "marker", "Marker"
    offers, reads, representation, hands_over = (POINTS,), (BODIES, FRAGMENTS), "points", ("points", "csv")

    def facts(self, shot, layer, offer):
        return PointFacts(puffs=PuffFacts(mass=0.01 * layer.settings.amount, life=1.0, radius=0.3))

    def outputs(self, offer, arrays):
        return {"position": arrays["position"], "velocity": arrays["velocity"], "age": arrays["since"]}


class Pebbles(Marker):
    """Points that give off nothing, and take whatever is read."""

    name, title = "pebbles", "Pebbles"
    reads = (BODIES, FRAGMENTS, GRAINS)

    def facts(self, shot, layer, offer):
        return PointFacts()


class Draught(Toy):
    """Gas: a wind through a box."""

    name, title = "draught", "Draught"
    offers, representation, hands_over = (GAS,), "volume", ("vdb", "csv")

    def grid(self, layer):
        return Grid(low=(-2.0, -2.0, -1.0), cell=0.5, shape=(8, 8, 8))

    def facts(self, shot, layer, offer):
        return GasFacts(grid=self.grid(layer))


class Puddle(Toy):
    """Liquid: a pool that stands still."""

    name, title = "puddle", "Puddle"
    offers, representation, hands_over = (LIQUID,), "points", ("points", "csv")

    def grid(self, layer):
        return Grid(low=(-2.0, -2.0, -0.5), cell=0.25, shape=(16, 16, 12))

    def facts(self, shot, layer, offer):
        return LiquidFacts(grid=self.grid(layer), viscosity=1e-6 * layer.settings.amount, density=1000.0)


class Heap(Toy):
    """Grains: a few at rest."""

    name, title = "heap", "Heap"
    offers, representation, hands_over = (GRAINS,), "points", ("points", "csv")

    def facts(self, shot, layer, offer):
        return GrainFacts(spacing=0.05 * layer.settings.amount, density=1500.0)


KINDS = (Splitter, Lifter, Marker, Pebbles, Draught, Puddle, Heap)
