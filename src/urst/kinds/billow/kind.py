"""Billow: dust and smoke in the air."""

from collections.abc import Sequence
from typing import Any

import numpy as np

from urst.core.checks.findings import Finding
from urst.core.curves.curve import Curve
from urst.kinds.billow.proposal import proposal
from urst.kinds.billow.settings import BillowSettings
from urst.kinds.emitting import Emitting
from urst.kinds.gauge import Gauge, Quantity, Shade, Spread
from urst.kinds.kind import at, first_over, made_of
from urst.kinds.offers.bodies import BODIES
from urst.kinds.offers.gas import GAS, GasFacts
from urst.kinds.offers.grid import Grid
from urst.kinds.offers.liquid import LIQUID
from urst.kinds.offers.offer import Offer
from urst.kinds.offers.points import POINTS, PointFacts
from urst.kinds.questions import CENTIMETRES, FRAME, METRES, SECONDS, SPEED, Field, Question
from urst.kinds.surroundings import thin
from urst.scene.materials import Material
from urst.scene.placing import placed_corners
from urst.scene.shapes import is_endless

#: draft cells are so much longer
_DRAFT = 1.5
#: settings of a scalar that are shown only for one measure
_TEMPERATURE = (("measure", ("temperature",)),)
_CONCENTRATION = (("measure", ("concentration",)),)
#: the axes along which a domain grows when dust is cut off: not below the ground
_UP, _DOWN = (1, 1, 1), (1, 1, 0)


class Billow(Emitting):
    """Gas on a grid that carries dust, smoke and temperatures among bodies."""

    name, title, version = "billow", "Billow", 11
    settings = BillowSettings
    gives, counted, stopped = "dust", "kg", "gas"
    hue = ("#8fa3bd", "#4f678a")
    own = ("sources", "debris_gives", "low", "high")
    work = "urst.kinds.billow.work"
    offers = (GAS,)
    ports = ("gas",)
    reads = (BODIES, POINTS, LIQUID)
    joins = (POINTS,)
    needs = {"gas": "velocity"}
    representation = "volume"
    hands_over = ("vdb", "csv")
    unit = "cells"
    seconds, memory = 1.3e-6, 190.0
    quantities = (Quantity("velocity", "velocity", 4.2, always=False),)
    chief = "dust_mass"
    activity = "dust_mass"
    gauges = (
        Gauge("dust_mass", "dust in the air", "kg"),
        Gauge("dust_given", "dust given off", "kg"),
        Gauge("dust_left", "dust that left", "kg", about="Dust that has gone out through the domain's sides so far"),
        Gauge(
            "dust_drift",
            "dust drift",
            "%",
            100,
            -15,
            15,
            about="Dust the solver itself has made or lost so far, as a fraction of what was given off",
        ),
        Gauge("densest", "densest", "kg/m3"),
        Gauge(
            "edge_share",
            "dust at the domain side",
            "%",
            100,
            None,
            4,
            about="Dust at the domain's sides, as a fraction of the densest",
        ),
        Gauge("top_speed", "fastest air", "m/s"),
        Gauge("divergence_left", "residual divergence", "%", 100, None, 0.1),
        Gauge("pressure_iterations", "pressure iterations", "", 1, None, 40),
        Gauge("substeps", "substeps"),
        Gauge(
            "momentum_lost",
            "momentum lost",
            "%",
            100,
            None,
            0.01,
            coupled=True,
            about="What the air gave to bodies and points and these did not take, as a fraction of all exchanged",
        ),
    )
    questions = (
        Question(
            "How fine?",
            "cells",
            (
                Field("cell_size", "Cell size", **CENTIMETRES),
                Field("sharp", "Sharper advection"),
            ),
        ),
        Question(
            "Where?",
            "domain",
            (
                Field("low", "Low corner", **METRES),
                Field("high", "High corner", **METRES),
                Field("wind", "Wind x, y, z", **SPEED),
            ),
        ),
        Question(
            "How does it move?",
            "forces",
            (
                Field("push", "Debris drag", "x real"),
                Field("debris_gives", "Debris gives off", among="concentrations"),
                Field("swirl", "Vorticity confinement"),
            ),
        ),
        Question(
            "What does the air carry?",
            "scalars",
            (
                Field("scalars.*.name", "Name"),
                Field("scalars.*.measure", "Is a"),
                Field("scalars.*.rise", "Temperature rise", "K", 1.0, "K", only=_TEMPERATURE),
                Field("scalars.*.clearing", "Clears after", **SECONDS),
                Field("scalars.*.buoyancy", "Buoyancy", "x real"),
                Field("scalars.*.diffusion", "Diffusion", "m2/s"),
                Field("scalars.*.colour", "Colour", only=_CONCENTRATION),
                Field("scalars.*.extinction", "Extinction", "m2/kg", only=_CONCENTRATION),
            ),
            entries="scalars",
            noun="scalar",
            asks=("measure",),
            named="{measure}_{number}",
        ),
        Question(
            "How finely is it solved?",
            "steps",
            (
                Field("tolerance", "Pressure tolerance"),
                Field("most_substeps", "Maximum substeps"),
            ),
        ),
        Question(
            "What else gives it off?",
            "set pieces",
            (
                Field("sources.*.piece", "Piece", names="piece"),
                Field("sources.*.where", "Emit from"),
                Field("sources.*.gives", "Gives off", among="concentrations"),
                Field("sources.*.rate", "Mass per second", "g/s", 0.001, ""),
                Field("sources.*.velocity", "Velocity", **SPEED),
                Field("sources.*.since", "From frame", **FRAME),
                Field("sources.*.until", "Until frame", **FRAME),
            ),
            entries="sources",
            noun="source",
            asks=("piece",),
        ),
    )

    def grid(self, layer: Any) -> Grid:
        s = layer.settings
        return Grid(low=s.low, cell=s.cell_size, shape=s.shape())

    def facts(self, shot: Any, layer: Any, offer: Offer) -> GasFacts:
        return GasFacts(grid=self.grid(layer))

    def follow_name(self, layer: dict[str, Any], place: str, before: str, now: str) -> None:
        if place != "scalars":
            return
        settings = layer["settings"]
        layer["keeps"] = [n for n in (now if n == before else n for n in layer["keeps"]) if n]
        for giver, name in ((settings, "debris_gives"), *((s, "gives") for s in settings["sources"])):
            if giver[name] == before:
                giver[name] = now

    def content(self, shot: Any, layer: Any) -> dict[str, Any]:
        # how it looks changes nothing that is baked
        found = super().content(shot, layer)
        looks = {"colour", "extinction"}
        settings, now = found["settings"], layer.settings
        settings["scalars"] = [s.model_dump(mode="json", exclude=looks) for s in now.scalars]
        settings["debris_gives"] = now.number(now.debris_gives)
        for source, s in zip(settings["sources"], now.sources):
            source["gives"] = now.number(s.gives)
        return found

    def kept(self, layer: Any) -> tuple[Quantity, ...]:
        scalars = layer.settings.scalars
        return (
            *(Quantity(s.name, s.name, 0.35) for s in scalars if not s.is_temperature()),
            *self.quantities,
            *(Quantity(s.name, s.name, 0.4, always=False) for s in scalars if s.is_temperature()),
        )

    def start_needs(self, layer: Any) -> tuple[str, ...]:
        return tuple(q.name for q in self.kept(layer) if not q.always)

    def drawn(self, arrays: dict[str, np.ndarray]) -> dict[str, np.ndarray]:
        return {n: x for n, x in arrays.items() if not n.startswith("velocity_")}

    def shades(self, shot: Any, layer: Any) -> list[Shade]:
        return [Shade(s.name, s.colour, s.extinction) for s in layer.settings.scalars if not s.is_temperature()]

    def links(self, shot: Any) -> list[Any]:
        # the bodies that shed the points stop the gas; without points, the last that move do
        points = [x for x in super().links(shot) if shot.facts(x, POINTS).puffs]
        bodies = [x for x in shot.layers if BODIES in shot.kind_of(x).offers]
        shedding = [b for b in bodies if any(b.id in x.reads for x in points)]
        return [*(shedding or bodies[-1:]), *points]

    def proposal(self, shot: Any, reads: Sequence[Any]) -> dict[str, Any]:
        return proposal(shot, reads)

    def draft(self, settings: dict[str, Any]) -> dict[str, Any]:
        # the domain must hold four cells each way
        most = min(b - a for a, b in zip(settings["low"], settings["high"])) / 4.001
        return settings | {"cell_size": max(settings["cell_size"], min(most, settings["cell_size"] * _DRAFT))}

    def count(self, shot: Any, layer: Any) -> int:
        return layer.settings.cells()

    def spread(self, shot: Any, layer: Any, path: str, curve: Curve, results: Any) -> Spread | None:
        frame = results.frame(layer)
        if frame is None or curve.over != "height":
            return None
        names = layer.settings.concentrations()
        density = sum(frame[n].astype(np.float32).sum(axis=(0, 1)) for n in names)
        heights = layer.settings.low[2] + (np.arange(len(density)) + 0.5) * layer.settings.cell_size
        return Spread(heights, "dust by height", density)

    def rehearsal(self) -> tuple[dict[str, Any], dict[str, Any]]:
        sources = [{"piece": "Crate"}, {"piece": "Ball", "where": "volume"}]
        scalars = [
            {"name": "density", "diffusion": 0.01},
            {"name": "temperature", "measure": "temperature", "rise": 1.0},
        ]
        box = {"cell_size": 0.12, "low": (-2, -2, -0.2), "high": (2, 2, 2.5)}
        settings = box | {"scalars": scalars, "sources": sources}
        # a small grid is solved by other kernels than a large one
        coarse = {"id": "coarse", "kind": self.name, "settings": settings | {"cell_size": 0.4}}
        return coarse, {"id": self.name, "kind": self.name, "settings": settings}

    def findings(self, shot: Any, layer: Any) -> list[Finding]:
        return (
            self._no_source(shot, layer)
            + self._ungiven(shot, layer)
            + self._outside(shot, layer)
            + thin(shot, layer, "gas", 1.5, "The gas sees it with holes, or not at all.", driven=False)
        )

    def _no_source(self, shot: Any, layer: Any) -> list[Finding]:
        if self._giving(shot, layer) or layer.settings.sources or layer.start:
            return []
        return [
            Finding(
                f"Nothing gives '{layer.name}' any dust.",
                "It reads no points that give off dust and has no set piece as its source, so the air stays clear: "
                "give it one.",
                layer=layer.id,
            )
        ]

    def _ungiven(self, shot: Any, layer: Any) -> list[Finding]:
        """Concentrations that nothing gives, beside others that are given."""
        s = layer.settings
        given = {s.number(x.gives) for x in s.sources}
        if self._giving(shot, layer):
            given.add(s.number(s.debris_gives))
        if not given or layer.start:
            return []
        return [
            Finding(
                f"Nothing gives '{layer.name}' any {x.name}.",
                "The air's list has it, but no source and no debris gives it off: choose it for one, or take it out.",
                layer=layer.id,
            )
            for n, x in enumerate(s.scalars)
            if not x.is_temperature() and n not in given
        ]

    def _giving(self, shot: Any, layer: Any) -> list[PointFacts]:
        """The points it reads that give off dust."""
        found = [shot.facts(x, POINTS) for x in shot.takes(layer, POINTS)]
        return [f for f in found if f.puffs]

    def _outside(self, shot: Any, layer: Any) -> list[Finding]:
        """What gives off dust must stand in the domain."""
        giving = {i for f in self._giving(shot, layer) for i in f.pieces}
        names = {s.piece for s in layer.settings.sources} | {shot.pieces[i].name for i in giving}
        pieces = [p for p in shot.pieces if p.name in names and not is_endless(p.shape)]
        inside = [(c.min(axis=0), c.max(axis=0)) for p in pieces for c in placed_corners(p, shot)]
        if not inside:
            return []
        low, high = np.min([b[0] for b in inside], axis=0), np.max([b[1] for b in inside], axis=0)
        s = layer.settings
        out = [f"{a}" for a, x, y, u, v in zip("xyz", s.low, s.high, low, high) if u < x - 1e-6 or v > y + 1e-6]
        if not out:
            return []
        new_low = [round(float(min(x, u - 1.0)), 3) for x, u in zip(s.low, low)]
        new_high = [round(float(max(y, v + 1.0)), 3) for y, v in zip(s.high, high)]
        return [
            Finding(
                f"What gives off dust stands outside '{layer.name}' along {' and '.join(out)}.",
                "Dust born out there is lost.",
                layer=layer.id,
                fix="Widen the domain by what is missing and 1 m",
                changes=((at(shot, layer, "low"), new_low), (at(shot, layer, "high"), new_high)),
            )
        ]

    def matter(self, shot: Any, layer: Any) -> Material | None:
        if layer.settings.sources:
            return made_of(shot.piece(layer.settings.sources[0].piece))
        return next((shot.kind_of(x).matter(shot, x) for x in shot.takes(layer, POINTS)), None)

    def watch(self, shot: Any, layer: Any, rows: dict[int, dict[str, float]]) -> list[Finding]:
        cut = first_over(self.gauge("edge_share"), rows)
        if cut is None:
            return []
        s = layer.settings
        margin = round(0.2 * max(b - a for a, b in zip(s.low, s.high)), 1)
        low = [round(a - margin * k, 3) for a, k in zip(s.low, _DOWN)]
        high = [round(b + margin * k, 3) for b, k in zip(s.high, _UP)]
        return [
            Finding(
                f"Dust reaches the domain's side at frame {cut}.",
                "Beyond it the dust is cut off.",
                layer=layer.id,
                frame=cut,
                fix=f"Let it grow by {margin:g} m to each side",
                changes=((at(shot, layer, "low"), low), (at(shot, layer, "high"), high)),
            )
        ]
