"""Flood: liquid among the set and what falls into it."""

from collections.abc import Callable, Iterable, Sequence
from dataclasses import replace
from functools import partial
from typing import Any

import numpy as np

from urst.core.checks.findings import Finding
from urst.core.geometry.convex import hull_of
from urst.core.geometry.mesh import open_edges
from urst.core.liquid.settings import LiquidSettings
from urst.core.preview import look
from urst.kinds import launching
from urst.kinds.flood import forecast, pouring, reading, splash
from urst.kinds.flood.proposal import proposal
from urst.kinds.gauge import Gauge, Quantity, Reading, Sliced
from urst.kinds.kind import Kind, at, piece_problem
from urst.kinds.offers.bodies import BODIES
from urst.kinds.offers.grid import Grid
from urst.kinds.offers.liquid import LIQUID, LiquidFacts, SeaFacts
from urst.kinds.offers.offer import Offer
from urst.kinds.questions import (
    CENTIMETRES,
    DEGREES,
    DENSITY,
    FRAME,
    METRES,
    PER_SECOND,
    SECONDS,
    SPEED,
    Field,
    Question,
)
from urst.kinds.surroundings import around, thin
from urst.scene import content
from urst.scene.materials import WATER, Material
from urst.scene.pieces import SetPiece
from urst.scene.placing import hollows, placed, placed_corners, stopping
from urst.scene.shapes import Closed, count, displaced, is_cut, is_endless, is_hollow, is_sheet, meshes

#: draft cells are so much longer
_DRAFT = 1.5
#: steps a frame that a splash takes
_STEPS = 4
#: what floats must be so many cells large
_SEEN = 1.0
#: walls that are thinner than this are told of [cells]
_THIN = 0.25
#: settings that list set pieces
_LISTS = ("fills", "inflows", "regions")
_FACES = (("out_of", ("faces",)),)


class Flood(Kind):
    """A liquid with a free surface among walls and moving bodies."""

    name, title, version = "flood", "Flood", 10
    settings = LiquidSettings
    hue = ("#42a1aa", "#1d727b")
    own = ("start_within", "fills", "inflows", "regions", "low", "high", "level", "pool_at")
    work = "urst.kinds.flood.work"
    offers = (LIQUID,)
    ports = ("liquid",)
    reads = (BODIES,)
    joins = (BODIES,)
    representation = "points"
    hands_over = ("points", "csv")
    unit = "particles"
    seconds, memory = 1.5e-6, 370.0
    quantities = (Quantity("points", "position, velocity and size", 16.0),)
    chief = "kinetic_energy"
    fastest = "top_speed"
    activity = "top_speed"
    gauges = (
        Gauge("volume", "liquid", "m3"),
        Gauge(
            "volume_drift",
            "volume drift",
            "%",
            100,
            -1,
            1,
            about="How much more the surface holds than the particles that are there should fill",
        ),
        Gauge(
            "deep_mismatch",
            "deep water unaccounted",
            "%",
            100,
            -3,
            3,
            about="How much more is booked as deep water, which has no particles, than there is room for",
        ),
        Gauge("pockets", "pockets of air"),
        Gauge("poured", "poured so far", "m3"),
        Gauge(
            "blocked",
            "inflow held back",
            "%",
            100,
            None,
            10,
            about="Fraction of what inflows were to pour that did not come in",
        ),
        Gauge("drained", "drained", "m3"),
        Gauge("lost", "lost at sides", "%", 100, None, 1),
        Gauge("top_speed", "fastest", "m/s"),
        Gauge("kinetic_energy", "kinetic energy", "kJ", 1e-3),
        Gauge("energy", "total energy", "kJ", 1e-3),
        Gauge("particles", "particles"),
        Gauge("divergence_left", "residual divergence", "%", 100, None, 0.2),
        Gauge("pressure_iterations", "pressure iterations", "", 1, None, 60),
        Gauge("viscous_iterations", "viscosity iterations", "", 1, None, 200),
        Gauge("substeps", "substeps"),
        Gauge("afloat", "bodies afloat"),
        Gauge(
            "momentum_lost",
            "momentum lost",
            "%",
            100,
            None,
            0.01,
            coupled=True,
            about=("What the liquid gave to bodies and walls and these did not take, as a fraction of all exchanged"),
        ),
    )
    sliced = (
        Sliced("pressure", "pressure", "kPa"),
        Sliced("speed", "speed", "m/s"),
        Sliced("cells", "as the solver has it", labels=("air", "with particles", "by the grid alone", "wall")),
    )
    questions = (
        Question(
            "What is wet?",
            "at the start",
            (
                Field("level", "Pool level", **METRES),
                Field("pool_at", "Pool around point", **METRES),
                Field("settle", "Settling time", **SECONDS),
                Field("start_below", "Start: keep below", **METRES),
                Field("start_within", "Start: keep inside", names="piece"),
            ),
        ),
        Question(
            "What liquid is it?",
            "matter",
            (
                Field("density", "Density", **DENSITY),
                Field("viscosity", "Viscosity", "Pa s", 1.0, "Pa s"),
                Field("colour", "Colour"),
                Field("sight", "Visibility", **METRES),
                Field("tension", "Surface tension", "N/m", 1.0, "N/m"),
                Field("air", "Trapped air"),
            ),
        ),
        Question(
            "What waves go over it?",
            "wind and swell",
            (
                Field("waves.wind", "Wind speed", **SPEED),
                Field("waves.fetch", "Fetch", **METRES),
                Field("waves.heading", "Wave direction", **DEGREES),
                Field("waves.spread", "Directional spread"),
                Field("waves.swell_height", "Swell height", **METRES),
                Field("waves.swell_period", "Swell period", **SECONDS),
                Field("waves.swell_heading", "Swell direction", **DEGREES),
                Field("waves.depth", "Water depth", **METRES),
                Field("waves.band", "Blend width at sides", **METRES),
            ),
        ),
        Question(
            "What else is full?",
            "set pieces",
            (
                Field("fills.*.piece", "Piece", names="piece"),
                Field("fills.*.level", "Fill level", **METRES),
                Field("fills.*.velocity", "Velocity", **SPEED),
            ),
            entries="fills",
            noun="fill",
            asks=("piece",),
        ),
        Question(
            "What pours?",
            "inflows",
            (
                Field("inflows.*.piece", "Piece", names="piece"),
                Field("inflows.*.out_of", "Pour from"),
                Field("inflows.*.facing", "Faces facing", only=_FACES),
                Field("inflows.*.facing_within", "Within angle", only=_FACES, **DEGREES),
                Field("inflows.*.region", "Only inside", only=_FACES, names="piece"),
                *launching.fields("inflows.*.launch"),
                Field("inflows.*.rate", "Flow rate", "m3/s"),
                Field("inflows.*.since", "From frame", **FRAME),
                Field("inflows.*.until", "Until frame", **FRAME),
            ),
            entries="inflows",
            noun="inflow",
            asks=("piece",),
        ),
        Question(
            "Where does it go?",
            "regions",
            (
                Field("regions.*.piece", "Piece", names="piece"),
                Field("regions.*.does", "Effect"),
                Field("regions.*.damping", "Damping", **PER_SECOND, only=(("does", ("slow",)),)),
                Field("regions.*.since", "From frame", **FRAME),
                Field("regions.*.until", "Until frame", **FRAME),
            ),
            entries="regions",
            noun="region",
            asks=("piece",),
        ),
        Question(
            "What holds it?",
            "domain",
            (
                Field("low", "Low corner", **METRES),
                Field("high", "High corner", **METRES),
                Field("sides", "Domain sides"),
            ),
        ),
        Question(
            "How fine?",
            "cells",
            (
                Field("cell_size", "Cell size", **CENTIMETRES),
                Field("most_substeps", "Maximum substeps"),
                Field("particle_depth", "Particle depth", "cells"),
                Field("tolerance", "Pressure tolerance"),
                Field("seed", "Seed"),
            ),
        ),
    )

    def problem(self, shot: Any, layer: Any) -> str:
        s = layer.settings
        found = [([f.piece for f in s.fills], "is filled from"), ([f.piece for f in s.inflows], "is poured from")]
        found.append(([f.piece for f in s.regions], "is taken away or slowed in"))
        found.append(([f.region for f in s.inflows if f.region], "pours from faces within"))
        found.append(([s.start_within] if s.start_within else [], "begins within"))
        return next((p for p in (piece_problem(shot, names, verb) for names, verb in found) if p), "")

    def rename_references(self, settings: dict[str, Any], before: str, now: str) -> dict[str, Any]:
        other = lambda name: now if name == before else name  # noqa: E731

        def named(rows: Iterable[dict[str, Any]]) -> list[dict[str, Any]]:
            region = lambda f: {"region": other(f["region"])} if f.get("region") else {}  # noqa: E731
            return [f | {"piece": other(f["piece"])} | region(f) for f in rows]

        within = {"start_within": other(settings["start_within"])} if settings.get("start_within") else {}
        return settings | {n: named(settings.get(n, [])) for n in _LISTS} | within

    def content(self, shot: Any, layer: Any) -> dict[str, Any]:
        # how it looks changes nothing that is baked
        settings = layer.settings.model_dump(mode="json", exclude={"colour", "sight"})
        if layer.settings.start_within is not None:
            settings["start_within"] = content.stance(shot.piece(layer.settings.start_within), shot)
        settings["fills"] = [
            f.model_dump(mode="json", exclude={"piece"}) | {"of": content.stance(shot.piece(f.piece), shot)}
            for f in layer.settings.fills
        ]
        for name in ("inflows", "regions"):
            settings[name] = [
                x.model_dump(mode="json", exclude={"piece"}) | {"of": content.motion(shot.piece(x.piece), shot)}
                for x in getattr(layer.settings, name)
            ]
        for row, x in zip(settings["inflows"], layer.settings.inflows):
            if x.region is not None:
                row["region"] = content.stance(shot.piece(x.region), shot)
        return {"settings": settings, "clock": content.clock(shot)} | around(shot, layer, "liquid")

    def proposal(self, shot: Any, reads: Sequence[Any]) -> dict[str, Any]:
        return proposal(shot)

    def grid(self, layer: Any) -> Grid:
        s = layer.settings
        return Grid(low=s.low, cell=s.cell_size, shape=s.shape())

    def facts(self, shot: Any, layer: Any, offer: Offer) -> LiquidFacts:
        s = layer.settings
        level = float(s.level or 0.0)
        sea = SeaFacts(waves=s.waves, level=level, depth=level - s.low[2], seed=s.seed) if s.sides == "waves" else None
        return LiquidFacts(grid=self.grid(layer), viscosity=s.kinematic(), density=s.density, sea=sea)

    def draft(self, settings: dict[str, Any]) -> dict[str, Any]:
        most = min(b - a for a, b in zip(settings["low"], settings["high"])) / 4.001
        return settings | {"cell_size": max(settings["cell_size"], min(most, settings["cell_size"] * _DRAFT))}

    def count(self, shot: Any, layer: Any) -> int:
        return forecast.particles(shot, layer.settings)

    def rounds(self, layer: Any) -> int:
        return _STEPS

    def rehearsal(self) -> tuple[dict[str, Any], dict[str, Any]]:
        settings = {
            "cell_size": 0.12,
            "low": (-1.5, -1.5, -0.1),
            "high": (1.5, 1.5, 2.0),
            "level": 0.4,
            "pool_at": (1.2, 1.2, 0.2),
            "settle": 0.05,
        }
        fills = [{"piece": "Crate", "velocity": (0, 0, -1)}]
        # a small grid is solved by other kernels than a large one
        thick = {"cell_size": 0.3, "sides": "open", "viscosity": 1.0, "tension": 0.07, "air": "keeps its volume"}
        coarse = {"id": "coarse", "kind": self.name, "settings": settings | thick}
        return coarse, {"id": self.name, "kind": self.name, "settings": settings | {"fills": fills}}

    def findings(self, shot: Any, layer: Any) -> list[Finding]:
        return (
            self._dry(shot, layer)
            + self._unbegun(shot, layer)
            + self._stopped(shot, layer)
            + self._within(shot, layer)
            + self._low(shot, layer)
            + self._vessels(shot, layer)
            + self._flooded(shot, layer)
            + self._outside(shot, layer)
            + self._small(shot, layer)
            + self._unseen(shot, layer)
            + splash.findings(shot, layer)
            + pouring.findings(shot, layer)
            + thin(
                shot,
                layer,
                "liquid",
                1.0,
                "It holds, but liquid beside it is noisy at rest, and its surface up to half a cell off.",
                fraction=_THIN,
            )
        )

    def _unbegun(self, shot: Any, layer: Any) -> list[Finding]:
        """What is said of a start needs one."""
        s = layer.settings
        if layer.start or (s.start_below is None and s.start_within is None):
            return []
        return [
            Finding(
                f"'{layer.name}' is told what of a start it takes and begins from no frame.",
                "So that does nothing: let it begin from a frame, or leave it out.",
                layer=layer.id,
                fix="Leave it out",
                changes=tuple((at(shot, layer, n), None) for n in ("start_below", "start_within")),
            )
        ]

    def _dry(self, shot: Any, layer: Any) -> list[Finding]:
        s, name = layer.settings, layer.name
        if s.level is None and not s.fills and not s.inflows and not layer.start:
            return [
                Finding(
                    f"'{name}' has no liquid.",
                    "It has no pool, fills no set piece and none pours: give it a level.",
                    layer=layer.id,
                    fix="Fill a quarter of its domain",
                    changes=((at(shot, layer, "level"), round(s.low[2] + 0.25 * (s.high[2] - s.low[2]), 3)),),
                )
            ]
        if s.level is not None and s.level <= s.low[2]:
            return [
                Finding(
                    f"The level of '{name}', {s.level:g} m, lies below the floor of its domain, {s.low[2]:g} m.",
                    "There is nothing to fill: raise the level or lower the domain.",
                    layer=layer.id,
                    fix="Lower the domain to 1 m below it",
                    changes=((at(shot, layer, "low"), [*s.low[:2], round(s.level - 1.0, 3)]),),
                )
            ]
        if s.level is not None and s.level > s.high[2] - s.cell_size:
            return [
                Finding(
                    f"The level of '{name}', {s.level:g} m, reaches the top of its domain, {s.high[2]:g} m.",
                    "What splashes up is lost there.",
                    layer=layer.id,
                    fix="Raise the domain to 2 m above it",
                    changes=((at(shot, layer, "high"), [*s.high[:2], round(s.level + 2.0, 3)]),),
                )
            ]
        if s.pool_at is not None and not all(a <= x < b for a, x, b in zip(s.low, s.pool_at, (*s.high[:2], s.level))):
            return [
                Finding(
                    f"The place of the pool of '{name}' lies above its level or outside its domain.",
                    "There is no pool there: choose a place in the open below the level.",
                    layer=layer.id,
                    fix="Fill all of the domain",
                    changes=((at(shot, layer, "pool_at"), None),),
                )
            ]
        return []

    def _stopped(self, shot: Any, layer: Any) -> list[Finding]:
        """What is filled must not be a wall as well."""
        s, walls = layer.settings, {shot.pieces[i].name for i in stopping(shot, "liquid")}
        rooms = {f.piece for f in s.fills if is_hollow(shot.piece(f.piece).shape)}
        both = [f.piece for name in _LISTS for f in getattr(s, name) if f.piece in walls]
        both = [x for x in both if not any(f.piece == x and f.out_of == "faces" for f in s.inflows)]
        both = [x for x in both if x not in rooms]
        if not both:
            return []
        piece = shot.piece(both[0])
        if isinstance(piece.shape, Closed) and piece.motion != "fixed" and any(f.piece == both[0] for f in s.fills):
            return [self._plug(shot, layer, piece, f"'{piece.name}' is filled by '{layer.name}' and is solid.")]
        rows = [x.model_dump(mode="json") for x in shot.taking_part]
        mine = next((n for n, x in enumerate(rows) if x["of"] == both[0]), None)
        whole = {"bodies": False, "chips": False, "gas": False, "liquid": False, "grains": False, "seen": False}
        if mine is None:
            rows.append({"of": both[0]} | whole)
        else:
            rows[mine] |= whole
        return [
            Finding(
                f"'{both[0]}' is filled or poured from by '{layer.name}' and stops liquid at the same time.",
                "Within a wall there is no room for it.",
                layer=layer.id,
                fix="Let it stop nothing and be unseen",
                changes=((("taking_part",), rows),),
            )
        ]

    def _plug(self, shot: Any, layer: Any, piece: SetPiece, title: str) -> Finding:
        """The mend of a vessel that is solid."""
        low, high = (
            np.min([m.bounds()[0] for m in meshes(piece.shape)], axis=0),
            np.max([m.bounds()[1] for m in meshes(piece.shape)], axis=0),
        )
        wall = float(f"{min(1.5 * layer.settings.cell_size, 0.1 * float((high - low).min())):.2g}")
        place = ("pieces", shot.pieces.index(piece), "shape")
        return Finding(
            title,
            "Within what is solid there is no room for liquid.",
            layer=layer.id,
            fix=f"Let it be hollow, with a wall of {100 * wall:.3g} cm",
            changes=(((*place, "matter"), "hollow"), ((*place, "wall"), wall)),
        )

    def _within(self, shot: Any, layer: Any) -> list[Finding]:
        """What is filled must not lie within something solid."""
        for fill in layer.settings.fills:
            mine = shot.piece(fill.piece)
            if is_endless(mine.shape):
                continue
            corners = np.concatenate(placed_corners(mine, shot))
            for piece in (shot.pieces[i] for i in stopping(shot, "liquid")):
                shape = piece.shape
                solid = isinstance(shape, Closed) and not is_hollow(piece.shape) and not is_cut(piece.shape)
                if piece is mine or not solid or is_sheet(piece.shape):
                    continue
                if any(_holds(c, corners) for c in placed_corners(piece, shot)):
                    return [
                        self._plug(
                            shot,
                            layer,
                            piece,
                            f"'{mine.name}', which '{layer.name}' fills, lies within '{piece.name}', which is solid.",
                        )
                    ]
        return []

    def _low(self, shot: Any, layer: Any) -> list[Finding]:
        """A level must not lie below what is filled."""
        for n, fill in enumerate(layer.settings.fills):
            piece = shot.piece(fill.piece)
            if fill.level is None or is_endless(piece.shape):
                continue
            heights = np.concatenate(placed_corners(piece, shot))[:, 2]
            if fill.level <= heights.min():
                half = round(float(0.5 * (heights.min() + heights.max())), 3)
                return [
                    Finding(
                        f"'{layer.name}' fills '{piece.name}' up to {fill.level:g} m, and it begins at "
                        f"{heights.min():.3g} m.",
                        "There is nothing of it below that: give it a greater height, or none.",
                        layer=layer.id,
                        fix=f"Fill it up to {half:g} m",
                        changes=((at(shot, layer, "fills", n, "level"), half),),
                    )
                ]
        return []

    def _vessels(self, shot: Any, layer: Any) -> list[Finding]:
        """A vessel holds up to its rim, and where it is open below that it leaks."""
        s = layer.settings
        if s.pool_at is None or s.level is None:
            return []
        for piece in (shot.pieces[i] for i in stopping(shot, "liquid")):
            if (
                is_endless(piece.shape)
                or piece.shape.kind != "mesh"
                or not (is_sheet(piece.shape) or is_cut(piece.shape))
            ):
                continue
            found = placed(piece, shot)
            low, high = np.min([m.bounds()[0] for m in found], axis=0), np.max([m.bounds()[1] for m in found], axis=0)
            if not ((low[:2] < s.pool_at[:2]) & (high[:2] > s.pool_at[:2])).all() or low[2] > s.pool_at[2]:
                continue
            ends = np.concatenate([m.vertices[open_edges(m).ravel()] for m in found])
            rim = float(ends[:, 2].min()) if len(ends) else float(high[2])
            if s.level > rim - 1e-6:
                return [
                    Finding(
                        f"The level of '{layer.name}', {s.level:g} m, is above the rim of '{piece.name}' or a hole in "
                        f"it, {rim:.3g} m.",
                        "What is above that runs out, or was never held.",
                        layer=layer.id,
                        fix="Lower the level to a cell below it",
                        changes=((at(shot, layer, "level"), round(rim - s.cell_size, 4)),),
                    )
                ]
        return []

    def _flooded(self, shot: Any, layer: Any) -> list[Finding]:
        """A pool that is not about a point fills what is closed as well."""
        s = layer.settings
        if s.level is None or s.pool_at is not None:
            return []
        filled = {f.piece for f in s.fills}
        for number in stopping(shot, "liquid"):
            piece = shot.pieces[number]
            if piece.motion != "loose" or not is_hollow(piece.shape) or piece.name in filled:
                continue
            found = hollows(shot, [number])
            if not len(found):
                continue
            corners = found.world_hulls().vertices
            low, high = corners.min(axis=0), corners.max(axis=0)
            if low[2] > s.level - s.cell_size or (high < s.low).any() or (low > s.high).any():
                continue
            return [
                Finding(
                    f"The inside of '{piece.name}' begins full: it lies below the level of '{layer.name}', "
                    f"{s.level:g} m.",
                    "The pool fills all that is open below its level, closed hulls too: they sink. Pool around a point "
                    "in the water outside, or fill the hull on purpose.",
                    layer=layer.id,
                    fix="Pool around a point in a corner of the domain",
                    changes=((at(shot, layer, "pool_at"), _corner(shot, s)),),
                )
            ]
        return []

    def _outside(self, shot: Any, layer: Any) -> list[Finding]:
        s = layer.settings
        # of a wall that pours only its faces count
        for fill in (*s.fills, *(x for x in s.inflows if x.out_of == "inside")):
            piece = shot.piece(fill.piece)
            if is_endless(piece.shape):
                continue
            corners = np.concatenate(placed_corners(piece, shot))
            low, high = corners.min(axis=0), corners.max(axis=0)
            if (low < np.array(s.low) - 1e-6).any() or (high > np.array(s.high) + 1e-6).any():
                new_low = [round(float(min(a, b - s.cell_size)), 3) for a, b in zip(s.low, low)]
                new_high = [round(float(max(a, b + s.cell_size)), 3) for a, b in zip(s.high, high)]
                return [
                    Finding(
                        f"'{fill.piece}' stands partly outside the domain of '{layer.name}'.",
                        "Nothing is filled out there.",
                        layer=layer.id,
                        fix="Widen the domain by what is missing",
                        changes=((at(shot, layer, "low"), new_low), (at(shot, layer, "high"), new_high)),
                    )
                ]
        return []

    def _small(self, shot: Any, layer: Any) -> list[Finding]:
        """What is to float must be seen by the cells."""
        pushed = [x for x, _, fro in shot.partners(layer) if fro > 0.0 and BODIES in shot.kind_of(x).offers]
        found = [
            ((displaced(p.shape) / count(p.shape)) ** (1 / 3), p.name)
            for p in (shot.pieces[i] for x in pushed for i in shot.facts(x, BODIES).pieces)
            if p.motion == "loose" and not is_endless(p.shape) and displaced(p.shape) > 0.0
        ]
        size, name = min(found, default=(1e9, ""))
        if size >= _SEEN * layer.settings.cell_size:
            return []
        finer = float(f"{0.9 * size / _SEEN:.2g}")
        return [
            Finding(
                f"'{name}' is about {100 * size:.3g} cm large, smaller than a cell of '{layer.name}', "
                f"{100 * layer.settings.cell_size:.3g} cm.",
                "The water does not see its shape: it jumps instead of floating.",
                layer=layer.id,
                fix=f"Use cells of {100 * finer:.3g} cm",
                changes=((at(shot, layer, "cell_size"), finer),),
            )
        ]

    def _unseen(self, shot: Any, layer: Any) -> list[Finding]:
        """What it is to push must be on its grid."""
        seen = {x.id for x in shot.takes(layer, BODIES)}
        pushed = [x for x, _, fro in shot.partners(layer) if fro > 0.0 and x.id not in seen]
        return [
            Finding(
                f"'{layer.name}' is to push the bodies of '{x.name}' and does not see them.",
                f"'{x.name}' acts on it with no strength and it does not read it, so nothing happens.",
                layer=layer.id,
                fix=f"Let it read '{x.name}'",
                changes=((("layers", shot.layers.index(layer), "reads"), [*layer.reads, x.id]),),
            )
            for x in pushed
        ]

    def matter(self, shot: Any, layer: Any) -> Material:
        return replace(WATER, colour=layer.settings.colour or WATER.colour)

    def tint(self, shot: Any, layer: Any) -> look.Tint:
        return look.tint(layer.settings.colour, layer.settings.sight)

    def inflows(self, shot: Any, layer: Any) -> list[tuple[Any, Callable, float]]:
        found = [x for x in layer.settings.inflows if not is_endless(shot.piece(x.piece).shape)]
        return [(x, partial(pouring.points, shot, x), pouring.poured(shot, x)) for x in found]

    def cells(self, arrays: dict[str, np.ndarray], meta: dict[str, Any], name: str) -> tuple[np.ndarray, np.ndarray]:
        return reading.cells(arrays, meta, name)

    def probe_surface(self, arrays: dict[str, np.ndarray]) -> np.ndarray:
        return arrays["phi"]

    def probe(self, arrays: dict[str, np.ndarray], meta: dict[str, Any], at: np.ndarray) -> list[Reading]:
        return reading.probe(arrays, meta, at)


def _corner(shot: Any, s: LiquidSettings) -> list[float]:
    """A place below the level in the corner of a domain that is farthest from what stands in it."""
    assert s.level is not None
    off = s.cell_size
    depth = max(s.level - off, 0.5 * (s.level + s.low[2]))
    places = np.array(
        [(x, y, depth) for x in (s.low[0] + off, s.high[0] - off) for y in (s.low[1] + off, s.high[1] - off)]
    )
    boxes = [
        np.concatenate(placed_corners(shot.pieces[i], shot))
        for i in stopping(shot, "liquid")
        if not is_endless(shot.pieces[i].shape)
    ]
    away = [
        min((float(np.abs(np.clip(p, c.min(axis=0), c.max(axis=0)) - p).max()) for c in boxes), default=0.0)
        for p in places
    ]
    return [round(float(x), 3) for x in places[int(np.argmax(away))]]


def _holds(spanning: np.ndarray, points: np.ndarray) -> bool:
    """Whether all of some points lie deep within the hull of others."""
    hull = hull_of(spanning)
    offset = np.einsum("fi,fi->f", hull.normals, hull.vertices[[loop[0] for loop in hull.loops]])
    return bool((points @ hull.normals.T < offset - 1e-6).all())
