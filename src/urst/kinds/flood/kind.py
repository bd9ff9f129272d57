"""Flood: liquid among the set and what falls into it."""

import numpy as np

from urst.core.checks.findings import Finding
from urst.core.liquid.settings import PARTICLES, LiquidSettings
from urst.kinds.flood.proposal import proposal
from urst.kinds.gauge import Gauge, Quantity
from urst.kinds.kind import Kind, at, piece_problem
from urst.kinds.questions import CENTIMETRES, METRES, SECONDS, SPEED, Field, Question
from urst.kinds.surroundings import around, thin
from urst.scene import content
from urst.scene.materials import WATER
from urst.scene.placing import placed_corners, stopping
from urst.scene.shapes import is_endless, volumes

#: draft cells are so much longer
_DRAFT = 1.5
#: what reaches over such a share of a domain's side bounds a pool
_BOUNDS = 0.5
#: steps a frame that a splash takes
_STEPS = 4


class Flood(Kind):
    """A liquid with a free surface among walls and moving bodies."""

    name, title, version = "flood", "Flood", 2
    golden = "3485661ecdd8b2c2281b2c71643bd106edd7a6c5"
    settings = LiquidSettings
    hue = ("#42a1aa", "#1d727b")
    own = ("fills", "low", "high", "level", "pool_at")
    work = "urst.kinds.flood.work"
    offers = ("liquid",)
    reads = ("bodies",)
    joins = ("bodies",)
    representation = "points"
    hands_over = ("points", "csv")
    unit = "particles"
    seconds, memory = 1.5e-6, 120.0
    quantities = (Quantity("points", "place, speed and size", 16.0),)
    chief = "kinetic_energy"
    activity = "top_speed"
    gauges = (
        Gauge("volume", "liquid", "m3"),
        Gauge(
            "volume_drift", "volume drift", "%", 100, -1, 1,
            about="How much more the surface holds than the particles that are there should fill",
        ),
        Gauge("lost", "lost at sides", "%", 100, None, 1),
        Gauge("top_speed", "fastest", "m/s"),
        Gauge("kinetic_energy", "kinetic energy", "kJ", 1e-3),
        Gauge("energy", "with height", "kJ", 1e-3),
        Gauge("particles", "particles"),
        Gauge("divergence_left", "divergence left", "%", 100, None, 0.2),
        Gauge("pressure_iterations", "pressure rounds", "", 1, None, 60),
        Gauge("substeps", "substeps"),
        Gauge("afloat", "bodies afloat"),
        Gauge(
            "momentum_lost", "momentum lost", "%", 100, None, 0.01,
            about="What the liquid gave to bodies and walls and these did not take, as a share of all that was exchanged",
        ),
    )  # fmt: skip
    questions = (
        Question("What is wet?", "at the start", (
            Field("level", "Level of a pool", **METRES),
            Field("pool_at", "Pool about", **METRES),
            Field("settle", "Comes to rest for", **SECONDS),
        )),
        Question("What else is full?", "set pieces", (
            Field("fills.*.piece", "Piece", names="piece"),
            Field("fills.*.velocity", "Velocity", **SPEED),
        ), entries="fills", noun="fill", asks=("piece",)),
        Question("What holds it?", "domain", (
            Field("low", "Low corner", **METRES),
            Field("high", "High corner", **METRES),
            Field("sides", "Its sides"),
        )),
        Question("How fine?", "cells", (
            Field("cell_size", "Cell", **CENTIMETRES),
            Field("most_substeps", "Most substeps"),
            Field("tolerance", "Divergence left"),
            Field("seed", "Seed"),
        )),
    )  # fmt: skip

    def problem(self, shot, layer):
        return piece_problem(shot, [f.piece for f in layer.settings.fills], "is filled from")

    def mentions(self, settings, before, now):
        fills = [f | {"piece": now if f["piece"] == before else f["piece"]} for f in settings.get("fills", [])]
        return settings | {"fills": fills}

    def content(self, shot, layer):
        settings = layer.settings.model_dump(mode="json")
        settings["fills"] = [
            f.model_dump(mode="json", exclude={"piece"}) | {"of": content.stance(shot.piece(f.piece), shot)}
            for f in layer.settings.fills
        ]
        return {"settings": settings, "clock": content.clock(shot)} | around(shot, layer, "liquid")

    def proposal(self, shot, reads):
        return proposal(shot)

    def draft(self, settings):
        most = min(b - a for a, b in zip(settings["low"], settings["high"])) / 4.001
        return settings | {"cell_size": max(settings["cell_size"], min(most, settings["cell_size"] * _DRAFT))}

    def count(self, shot, layer):
        s = layer.settings
        low, high = _about(shot, s)
        pool = float(np.prod(np.maximum(high - low, 0.0))) if s.level is not None else 0.0
        pieces = [shot.piece(f.piece) for f in s.fills]
        full = pool + sum(sum(volumes(p.shape)) for p in pieces if not is_endless(p.shape))
        return int(full / s.cell_size**3 * PARTICLES)

    def rounds(self, layer):
        return _STEPS

    def rehearsal(self):
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
        coarse = {"id": "coarse", "kind": self.name, "settings": settings | {"cell_size": 0.3, "sides": "open"}}
        return coarse, {"id": self.name, "kind": self.name, "settings": settings | {"fills": fills}}

    def findings(self, shot, layer):
        return (
            self._dry(shot, layer)
            + self._stopped(shot, layer)
            + self._outside(shot, layer)
            + thin(shot, layer, "liquid", 1.2, "Liquid leaks through it.")
        )

    def _dry(self, shot, layer):
        s, name = layer.settings, layer.name
        if s.level is None and not s.fills and not layer.start:
            return [Finding(
                f"'{name}' has no liquid.", "It has no pool and fills no set piece: give it a level.", layer=layer.id,
                fix="Fill a quarter of its domain",
                changes=((at(shot, layer, "level"), round(s.low[2] + 0.25 * (s.high[2] - s.low[2]), 3)),),
            )]  # fmt: skip
        if s.level is not None and s.level <= s.low[2]:
            return [Finding(
                f"The level of '{name}', {s.level:g} m, lies below the floor of its domain, {s.low[2]:g} m.",
                "There is nothing to fill: raise the level or lower the domain.", layer=layer.id,
                fix="Lower the domain to 1 m below it", changes=((at(shot, layer, "low"), [*s.low[:2], round(s.level - 1.0, 3)]),),
            )]  # fmt: skip
        if s.level is not None and s.level > s.high[2] - s.cell_size:
            return [Finding(
                f"The level of '{name}', {s.level:g} m, reaches the top of its domain, {s.high[2]:g} m.",
                "What splashes up is lost there.", layer=layer.id, fix="Raise the domain to 2 m above it",
                changes=((at(shot, layer, "high"), [*s.high[:2], round(s.level + 2.0, 3)]),),
            )]  # fmt: skip
        if s.pool_at is not None and not all(a <= x < b for a, x, b in zip(s.low, s.pool_at, (*s.high[:2], s.level))):
            return [Finding(
                f"The place of the pool of '{name}' lies above its level or outside its domain.",
                "There is no pool there: choose a place in the open below the level.", layer=layer.id,
                fix="Fill all of the domain", changes=((at(shot, layer, "pool_at"), None),),
            )]  # fmt: skip
        return []

    def _stopped(self, shot, layer):
        """What is filled must not be a wall as well."""
        walls = {shot.pieces[i].name for i in stopping(shot, "liquid")}
        both = [f.piece for f in layer.settings.fills if f.piece in walls]
        if not both:
            return []
        rows = [x.model_dump(mode="json") for x in shot.taking_part]
        mine = next((n for n, x in enumerate(rows) if x["of"] == both[0]), None)
        whole = {"bodies": False, "chips": False, "gas": False, "liquid": False, "grains": False, "seen": False}
        if mine is None:
            rows.append({"of": both[0]} | whole)
        else:
            rows[mine] |= whole
        return [Finding(
            f"'{both[0]}' is filled with '{layer.name}' and stops liquid at the same time.",
            "Within a wall there is no room for it.", layer=layer.id,
            fix="Let it stop nothing and be unseen", changes=((("taking_part",), rows),),
        )]  # fmt: skip

    def _outside(self, shot, layer):
        s = layer.settings
        for fill in s.fills:
            piece = shot.piece(fill.piece)
            if is_endless(piece.shape):
                continue
            corners = np.concatenate(placed_corners(piece, shot))
            low, high = corners.min(axis=0), corners.max(axis=0)
            if (low < np.array(s.low) - 1e-6).any() or (high > np.array(s.high) + 1e-6).any():
                new_low = [round(float(min(a, b - s.cell_size)), 3) for a, b in zip(s.low, low)]
                new_high = [round(float(max(a, b + s.cell_size)), 3) for a, b in zip(s.high, high)]
                return [Finding(
                    f"'{fill.piece}' stands partly outside the domain of '{layer.name}'.",
                    "What lies out there is not filled.", layer=layer.id, fix="Widen the domain by what is missing",
                    changes=((at(shot, layer, "low"), new_low), (at(shot, layer, "high"), new_high)),
                )]  # fmt: skip
        return []

    def matter(self, shot, layer):
        return WATER


def _about(shot, s):
    """Corners of the box that holds a pool, as far as can be told from the boxes about what bounds most of a side: (3,) each."""
    low, high = np.array(s.low), np.array([*s.high[:2], min(s.level if s.level is not None else s.low[2], s.high[2])])
    if s.pool_at is None:
        return low, high
    across = high - low
    for piece in (shot.pieces[i] for i in stopping(shot, "liquid")):
        if is_endless(piece.shape):
            continue
        corners = np.concatenate(placed_corners(piece, shot))
        first, last = corners.min(axis=0), corners.max(axis=0)
        for axis in range(3):
            others = [a for a in range(3) if a != axis]
            level = [a for a in others if a < 2]
            reaches = all(last[a] - first[a] > _BOUNDS * across[a] for a in level)
            meets = all(first[a] < max(s.pool_at[a], high[a]) and last[a] > min(s.pool_at[a], low[a]) for a in others)
            if reaches and meets and last[axis] <= s.pool_at[axis]:
                low[axis] = max(low[axis], last[axis])
            elif reaches and meets and first[axis] >= s.pool_at[axis]:
                high[axis] = min(high[axis], first[axis])
    return low, high
