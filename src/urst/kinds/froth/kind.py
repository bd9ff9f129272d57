"""Froth: foam, bubbles, spray and mist."""

from typing import Any, ClassVar

import numpy as np

from urst.core.checks.findings import Finding
from urst.core.froth.settings import FrothSettings
from urst.kinds.gauge import Gauge, Quantity
from urst.kinds.kind import at
from urst.kinds.on_liquid import OnLiquid
from urst.kinds.questions import CENTIMETRES, PER_SECOND, PERCENT, SECONDS, SPEED, Field, Question
from urst.scene.materials import FROTH, Material

#: a draft has so many times fewer points
_DRAFT = 3
_PER_VOLUME: dict[str, Any] = {"unit": "1/(m3 s)"}


class Froth(OnLiquid):
    """What a liquid that takes in air gives birth to."""

    name, title, version = "froth", "Froth", 4
    settings = FrothSettings
    hue = ("#c9d6d6", "#7b9292")
    work = "urst.kinds.froth.work"
    does = "come from"
    rehearsed: ClassVar[dict[str, Any]] = {
        "births": {"speed": {"none": 0.0, "full": 0.1}, "clash": {"none": 0.0, "full": 0.1}}
    }
    representation = "points"
    sorts = (("foam", "#f6f2e6"), ("bubbles", "#63aabd"), ("spray", "#cfe2f0"), ("mist", "#9aa9c4"))
    hands_over = ("froth", "csv")
    unit = "points"
    seconds, memory = 1.2e-6, 60.0
    quantities = (Quantity("points", "position, velocity, size, age and kind", 18.0),)
    chief = "froth"
    fastest = "top_speed"
    activity = "froth"
    gauges = (
        Gauge("froth", "points"),
        Gauge("foam", "foam"),
        Gauge("bubbles", "bubbles"),
        Gauge("spray", "spray"),
        Gauge("mist", "mist"),
        Gauge("birth_rate", "birth rate", "1/(m3 s)"),
        Gauge("refused", "births over the limit", "%", 100, None, 1),
        Gauge("top_speed", "fastest", "m/s"),
    )
    questions = (
        Question(
            "Where is it born?",
            "air taken in",
            (
                Field("births.speed.none", "Speed, none below", **SPEED),
                Field("births.speed.full", "Speed, full above", **SPEED),
                Field("births.clash.none", "Convergence, none below", **PER_SECOND),
                Field("births.clash.full", "Convergence, full above", **PER_SECOND),
                Field("births.crest.none", "Crests, none below", "1/m"),
                Field("births.crest.full", "Crests, full above", "1/m"),
            ),
        ),
        Question(
            "How much?",
            "at most",
            (
                Field("births.trapped", "From trapped air", **_PER_VOLUME),
                Field("births.crests", "From crests", **_PER_VOLUME),
                Field("most", "Maximum points"),
                Field("seed", "Seed"),
            ),
        ),
        Question(
            "What of foam?",
            "on the surface",
            (
                Field("foam.on", "Foam"),
                Field("foam.life", "Lifetime", **SECONDS),
                Field("foam.size", "Size", **CENTIMETRES),
            ),
        ),
        Question(
            "What of bubbles?",
            "under it",
            (
                Field("bubbles.on", "Bubbles"),
                Field("bubbles.rise", "Rise speed", **SPEED),
                Field("bubbles.drag", "Drag", **PER_SECOND),
                Field("bubbles.life", "Lifetime", **SECONDS),
                Field("bubbles.size", "Size", **CENTIMETRES),
            ),
        ),
        Question(
            "What of spray?",
            "above it",
            (
                Field("spray.on", "Spray"),
                Field("spray.drag", "Air drag", **PER_SECOND),
                Field("spray.life", "Lifetime", **SECONDS),
                Field("spray.size", "Size", **CENTIMETRES),
                Field("wind", "Wind x, y, z", **SPEED),
            ),
        ),
        Question(
            "What comes off spray?",
            "mist",
            (
                Field("mist.on", "Mist"),
                Field("mist.rate", "Mist per drop", **PER_SECOND),
                Field("mist.most", "Maximum birth rate", **PER_SECOND),
                Field("mist.carried", "Inherited velocity", **PERCENT),
                Field("mist.scatter", "Velocity scatter", **PERCENT),
                Field("mist.speed.none", "Speed, none below", **SPEED),
                Field("mist.speed.full", "Speed, full above", **SPEED),
                Field("mist.drag", "Air drag", **PER_SECOND),
                Field("mist.life", "Lifetime", **SECONDS),
                Field("mist.size", "Size", **CENTIMETRES),
            ),
        ),
    )

    def draft(self, settings: dict[str, Any]) -> dict[str, Any]:
        births = settings["births"]
        fewer = {n: births[n] / _DRAFT for n in ("trapped", "crests")}
        mist = settings["mist"] | {"most": settings["mist"]["most"] / _DRAFT}
        return settings | {"births": births | fewer, "mist": mist, "most": max(1, settings["most"] // _DRAFT)}

    def count(self, shot: Any, layer: Any) -> int:
        # rarely more than a part of what there may be
        return layer.settings.most // 4

    def findings(self, shot: Any, layer: Any) -> list[Finding]:
        s, name = layer.settings, layer.name
        if not any(g.on for g in (s.foam, s.bubbles, s.spray, s.mist)):
            return [
                Finding(
                    f"'{name}' has neither foam nor bubbles nor spray nor mist.",
                    "Nothing of it is kept.",
                    layer=layer.id,
                    fix="Let there be foam",
                    changes=((at(shot, layer, "foam", "on"), True),),
                )
            ]
        return super().findings(shot, layer)

    def watch(self, shot: Any, layer: Any, rows: dict[int, dict[str, float]]) -> list[Finding]:
        full = next((f for f, g in sorted(rows.items()) if g.get("refused", 0.0) > 0.01), None)
        if full is None:
            return []
        most = layer.settings.most
        return [
            Finding(
                f"'{layer.name}' has no room for more points at frame {full}.",
                f"It may have {most:,}; the rest was not born.",
                layer=layer.id,
                frame=full,
                fix="Let there be twice as many",
                changes=((at(shot, layer, "most"), 2 * most),),
            )
        ]

    def drawn(self, arrays: dict[str, np.ndarray]) -> dict[str, np.ndarray]:
        return arrays | {"sort": arrays["kind"]}

    def matter(self, shot: Any, layer: Any) -> Material:
        return FROTH
