"""Toy: points that go round, following the bodies' middle where it reads some."""

from tests.toy.settings import ToySettings
from urst.kinds.gauge import Gauge, Quantity
from urst.kinds.kind import Kind
from urst.kinds.offers.bodies import BODIES
from urst.kinds.offers.points import POINTS, PointFacts
from urst.kinds.questions import METRES, Field, Question


class Toy(Kind):
    """Points on a circle that turns."""

    name, title, version = "toy", "Toy", 1
    settings = ToySettings
    hue = ("#ffffff", "#000000")
    work = "tests.toy.work"
    offers = (POINTS,)
    reads = (BODIES,)
    representation = "points"
    hands_over = ("points", "csv")
    unit = "points"
    quantities = (Quantity("points", "points", 28.0),)
    chief = "spread"
    activity = "spread"
    gauges = (Gauge("spread", "spread", "m", 1.0, None, 10.0),)
    questions = (
        Question("How many?", "points", (Field("count", "Points"), Field("radius", "Radius", **METRES))),
        Question("How fast?", "turning", (Field("turn", "Turn", "rad/s", 1.0, "rad/s"),)),
    )

    def facts(self, shot, layer, offer):
        return PointFacts()

    def count(self, shot, layer):
        return layer.settings.count

    def draft(self, settings):
        return settings | {"count": max(1, settings["count"] // 2)}
