"""Shed: debris and dust puffs."""

from collections.abc import Sequence
from typing import Any

import numpy as np

from urst.core.checks.findings import Finding
from urst.core.curves.curve import Curve
from urst.core.curves.varies import mean, most
from urst.core.debris.settings import CHIP, PUFF
from urst.kinds.emitting import Emitting
from urst.kinds.gauge import Gauge, Quantity, Spread
from urst.kinds.kind import made_of
from urst.kinds.offers.bodies import BODIES, BodyFacts
from urst.kinds.offers.gas import GAS
from urst.kinds.offers.liquid import LIQUID
from urst.kinds.offers.offer import Offer
from urst.kinds.offers.points import POINTS, PointFacts, PuffFacts
from urst.kinds.questions import (
    CENTIMETRES,
    DENSITY,
    FRAME,
    PER_AREA,
    PER_SECOND,
    PERCENT,
    SECONDS,
    SPEED,
    Field,
    Question,
)
from urst.kinds.shed.parting import parting_speeds
from urst.kinds.shed.proposal import proposal
from urst.kinds.shed.settings import ShedSettings
from urst.scene.materials import Material


class Shed(Emitting):
    """Chips and dust puffs: born where bonds part, or given off by set pieces."""

    name, title, version = "shed", "Shed", 8
    settings = ShedSettings
    gives, counted, stopped = "points", "points", "chips"
    hue = ("#a98159", "#85592c")
    own = ("sources",)
    work = "urst.kinds.shed.work"
    offers = (POINTS,)
    ports = ("points",)
    reads = (BODIES, GAS, LIQUID)
    joins = (BODIES,)
    representation = "points"
    hands_over = ("points", "csv")
    unit = "points"
    seconds, memory = 3e-6, 200.0
    quantities = (Quantity("points", "position, velocity, size and age", 18.0),)
    chief = "chips"
    fastest = "top_speed"
    activity = "top_speed"
    gauges = (
        Gauge("chips", "chips"),
        Gauge("puffs", "dust puffs"),
        Gauge("top_speed", "fastest", "m/s"),
        Gauge("deepest_overlap", "deepest overlap", "mm", 1e3),
    )
    questions = (
        Question(
            "What is born?",
            "per area",
            (
                Field("chips", "Chips", **PER_AREA),
                Field("dust", "Dust puffs", **PER_AREA),
                Field("puff_mass", "Dust per puff", "g", 0.001, "g"),
                Field("puff_life", "Puff emits for", **SECONDS),
                Field("puff_giving", "Emission over age"),
                Field("puff_radius", "Puff radius", **CENTIMETRES),
            ),
        ),
        Question(
            "When is it born?",
            "parting",
            (
                Field("reach", "Shedding distance", **CENTIMETRES),
                Field("least_speed", "Minimum speed", **SPEED),
            ),
        ),
        Question(
            "How does it fly?",
            "chips",
            (
                Field("spread", "Random speed", **PERCENT),
                Field("smallest", "Smallest size", **CENTIMETRES),
                Field("largest", "Largest size", **CENTIMETRES),
                Field("density", "Density", **DENSITY),
                Field("life", "Lifetime", **SECONDS),
            ),
        ),
        Question(
            "How does it land?",
            "contact",
            (
                Field("restitution", "Restitution"),
                Field("friction", "Friction"),
                Field("substeps", "Substeps a frame"),
                Field("seed", "Seed"),
            ),
        ),
        Question(
            "What else gives it off?",
            "set pieces",
            (
                Field("sources.*.piece", "Piece", names="piece"),
                Field("sources.*.where", "Emit from"),
                Field("sources.*.rate", "Points per second", **PER_SECOND),
                Field("sources.*.dust_share", "Dust among them", **PERCENT),
                Field("sources.*.velocity", "Velocity", **SPEED),
                Field("sources.*.spread", "Random speed", **SPEED),
                Field("sources.*.since", "From frame", **FRAME),
                Field("sources.*.until", "Until frame", **FRAME),
            ),
            entries="sources",
            noun="source",
            asks=("piece",),
        ),
    )

    def facts(self, shot: Any, layer: Any, offer: Offer) -> PointFacts:
        s = layer.settings
        own = tuple(i for source in s.sources for i, p in enumerate(shot.pieces) if p.name == source.piece)
        return PointFacts(
            pieces=tuple(i for f in self._shedding(shot, layer) for i in f.parting) + own,
            puffs=PuffFacts(mass=s.puff_mass, life=s.puff_life, radius=s.puff_radius, giving=s.puff_giving),
        )

    def _shedding(self, shot: Any, layer: Any) -> list[BodyFacts]:
        return [shot.facts(x, BODIES) for x in shot.takes(layer, BODIES)]

    def outputs(self, offer: Offer, arrays: dict[str, np.ndarray]) -> dict[str, np.ndarray]:
        puff = arrays["kind"] == PUFF
        return {n: arrays[n][puff] for n in ("position", "velocity", "age")}

    def proposal(self, shot: Any, reads: Sequence[Any]) -> dict[str, Any]:
        return proposal(shot, reads)

    def count(self, shot: Any, layer: Any) -> int:
        # about a third of the faces part in a typical strike
        s = layer.settings
        area = sum(f.area for f in self._shedding(shot, layer))
        seconds = (shot.end - shot.start) / shot.rate
        given = sum(mean(x.rate, shot.start, shot.end) for x in s.sources)
        return int((most(s.chips) + most(s.dust)) * area / 3 + given * min(seconds, s.life))

    def spread(self, shot: Any, layer: Any, path: str, curve: Curve, results: Any) -> Spread | None:
        if path in ("chips", "dust"):
            bodies = [(results.static(x), results.frame(x)) for x in shot.takes(layer, BODIES)]
            speeds = [parting_speeds(static, frame) for static, frame in bodies if static and frame]
            return Spread(np.concatenate(speeds), "speed of parting faces") if speeds else None
        frame = results.frame(layer)
        if frame is None:
            return None
        chip = frame["kind"] == CHIP
        if curve.over == "age":
            return Spread(frame["age"][~chip], "age of puffs")
        return Spread(np.linalg.norm(frame["velocity"][chip], axis=1), "speed of chips")

    def rehearsal(self) -> tuple[dict[str, Any], dict[str, Any], dict[str, Any]]:
        bodies = (
            {"id": "broken", "kind": "break", "settings": {"pieces": ["Wall"], "count": 30}},
            {
                "id": "bodies",
                "kind": "fall",
                "reads": ["broken"],
                "settings": {"steps": 4, "bonds": {"tension": 2e4, "shear": 3e4}},
            },
        )
        sources = [{"piece": "Crate"}, {"piece": "Crate", "where": "volume", "dust_share": 0.5}]
        return (*bodies, {"id": self.name, "kind": self.name, "reads": ["bodies"], "settings": {"sources": sources}})

    def findings(self, shot: Any, layer: Any) -> list[Finding]:
        if shot.takes(layer, BODIES) or layer.settings.sources or layer.start:
            return []
        return [
            Finding(
                f"Nothing gives '{layer.name}' anything to shed.",
                "It reads no bodies that part and has no set piece as its source: give it one.",
                layer=layer.id,
            )
        ]

    def drawn(self, arrays: dict[str, np.ndarray]) -> dict[str, np.ndarray]:
        chip = arrays["kind"] == CHIP
        return {n: arrays[n][chip] for n in ("position", "velocity", "size")} | {"puff": arrays["position"][~chip]}

    def matter(self, shot: Any, layer: Any) -> Material | None:
        pieces = self.facts(shot, layer, POINTS).pieces
        return made_of(shot.pieces[pieces[0]]) if pieces else None
