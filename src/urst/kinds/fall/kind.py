"""Fall: rigid bodies."""

from typing import Any

import numpy as np

from urst.core.checks.findings import Finding
from urst.core.curves.curve import Curve
from urst.core.curves.varies import reach
from urst.kinds.fall import directing, standing
from urst.kinds.fall.settings import FallSettings
from urst.kinds.gauge import Gauge, Quantity, Spread
from urst.kinds.kind import Kind, at
from urst.kinds.offers.bodies import BODIES, BodyFacts
from urst.kinds.offers.fragments import FRAGMENTS, FragmentFacts
from urst.kinds.offers.gas import GAS
from urst.kinds.offers.offer import Offer
from urst.kinds.questions import DEGREES, DENSITY, MEGA, PER_SECOND, PERCENT, SECONDS, SPEED, Field, Note, Question
from urst.scene import content
from urst.scene.placing import fastest, placed_corners
from urst.scene.shapes import count, is_sheet

_HOLDS, _FINE = "What holds it?", "How finely is it solved?"
#: a draft checks so much less often, but as often as this
_DRAFT, _FEWEST_STEPS = 3 / 4, 16
#: substeps a second below which it is said that contacts are solved coarsely, and with which the checks of arches and
#: stacks were made
_FEWEST_SUBSTEPS, _ENOUGH_SUBSTEPS = 2000, 3000
#: contacts are foreseen: what goes no farther between checks than so many times the thinnest part meets it all the same
_PASSES = 2.0
#: a driven piece that is late by less has not stalled [s]
_LATE = 0.05
#: checks a frame that may be asked for
_MOST_STEPS = FallSettings.model_fields["steps"].metadata[-1].le


class Fall(Kind):
    """Rigid convex bodies: the fragments of the breaks that are read, and the pieces nobody broke."""

    name, title, version = "fall", "Fall", 13
    settings = FallSettings
    hue = ("#d6a044", "#9a6a10")
    own = ("events", "joints", "regions")
    work = "urst.kinds.fall.work"
    offers = (BODIES,)
    ports = ("bodies",)
    reads = (FRAGMENTS, GAS)
    joins = (FRAGMENTS,)
    representation = "bodies"
    hands_over = ("usd", "gltf", "csv")
    unit = "bodies"
    seconds, memory = 2.5e-6, 14_000.0
    quantities = (
        Quantity("pose", "position, rotation, velocity and load", 75.0),
        Quantity("bonds", "bond state and load", 8.0),
        Quantity("contacts", "contact points and forces", 90.0, always=False),
    )
    chief = "moving_mass"
    fastest = "top_speed"
    activity = "kinetic_energy"
    breaking = "bonds_left"
    gauges = (
        Gauge("moving", "moving"),
        Gauge("moving_mass", "moving mass", "t", 1e-3),
        Gauge("kinetic_energy", "kinetic energy", "kJ", 1e-3),
        Gauge(
            "energy",
            "total energy",
            "kJ",
            1e-3,
            about="Kinetic energy and that of height above where all stood: it grows only by what is driven or set off",
        ),
        Gauge("top_speed", "fastest", "m/s"),
        Gauge("deepest_overlap", "deepest overlap", "mm", 1e3, None, 15),
        Gauge("bonds_left", "bonds left", "%", 100),
        Gauge(
            "bond_load",
            "most loaded bond",
            "%",
            100,
            about="Greatest tension or shear in a bond that holds, as a fraction of its strength",
        ),
        Gauge(
            "bond_load_99",
            "99 % of bonds below",
            "%",
            100,
            about="Tension or shear that all but one in a hundred bonds stay below, as a fraction of their strength",
        ),
        Gauge(
            "bond_pressure",
            "most compressed bond",
            "%",
            100,
            about="Greatest compression in a bond that holds, as a fraction of its compressive strength",
        ),
        Gauge(
            "crushed",
            "crushed",
            about="Loose bodies that something driven squeezes beyond their compressive strength: they give way where "
            "they are pressed, and stand in what presses them",
        ),
        Gauge("late", "driven, behind its path", "s", about="By how much the driven piece that stalls most is late"),
        Gauge(
            "cut", "held to the limits", about="Bodies that would be faster, or spin faster, than the limits let them"
        ),
        Gauge("largest_piece", "largest piece", "t", 1e-3),
        Gauge(
            "asleep",
            "at rest",
            about="Loose bodies that lie still and are left out of the solving until something stirs them",
        ),
        Gauge(
            "checks",
            "collision steps a frame",
            about="How often contacts were sought in this frame: half as often as asked where all goes slowly, "
            "twice where bodies come at each other fast",
        ),
        Gauge(
            "lost",
            "fell out of the set",
            "",
            1,
            None,
            0,
            "Bodies that have fallen below everything that stood at the start",
        ),
    )
    questions = (
        Question(
            _HOLDS,
            "bonds",
            (
                Field("bonds.tension", "Tensile strength", **MEGA),
                Field("bonds.shear", "Shear strength", **MEGA),
                Field("bonds.friction_angle", "Friction angle", **DEGREES),
                Field("bonds.scatter", "Strength variation", **PERCENT),
                Field("bonds.correlation", "Weak spots apart by", "m"),
                Field("bonds.toughness", "Fracture energy", "J/m2"),
                Field("bonds.elongation", "Elongation at break", **PERCENT),
                Field("bonds.chunks", "Chunks"),
                Field("bonds.chunk_holds", "Chunk strength", "x"),
                Field("bonds.modulus", "Young's modulus", **MEGA),
                Field("bonds.seed", "Seed"),
            ),
        ),
        Question(
            "How does it fly?",
            "limits",
            (
                Field("top_speed", "Speed limit", **SPEED),
                Field("top_spin", "Spin limit", "rad/s", 1.0, "rad/s"),
                Field("ease", "Soft limit over", **SECONDS),
                Field("push_speed", "Fastest push-out", **SPEED),
            ),
        ),
        Question(
            "What blows?",
            "air",
            (
                Field("air", "Air density", **DENSITY),
                Field("wind", "Wind x, y, z", **SPEED),
                Field("drag", "Drag coefficient"),
            ),
        ),
        directing.JOINTS,
        directing.EVENTS,
        directing.REGIONS,
        Question(
            "How does it settle?",
            "damping",
            (
                Field("linear_damping", "Linear damping", **PER_SECOND),
                Field("angular_damping", "Angular damping", **PER_SECOND),
                Field("settle", "Settling time", **SECONDS),
            ),
        ),
        Question(
            _FINE,
            "steps",
            (
                Field("steps", "Collision steps", "a frame"),
                Field("substeps", "Substeps", "a step"),
            ),
        ),
    )

    def cast(self, shot: Any, layer: Any) -> list[int]:
        broken = {i for f in self._broken(shot, layer) for i in f.pieces}
        return [
            i for i, p in enumerate(shot.pieces) if i in broken or (shot.part_of(p).bodies and not is_sheet(p.shape))
        ]

    def _broken(self, shot: Any, layer: Any) -> list[FragmentFacts]:
        return [shot.facts(x, FRAGMENTS) for x in shot.takes(layer, FRAGMENTS)]

    def facts(self, shot: Any, layer: Any, offer: Offer) -> BodyFacts:
        broken = self._broken(shot, layer)
        return BodyFacts(
            pieces=tuple(self.cast(shot, layer)),
            parting=tuple(i for f in broken for i in f.pieces),
            fragments=sum(f.count for f in broken),
            area=sum(f.area for f in broken),
        )

    def outputs(self, offer: Offer, arrays: dict[str, np.ndarray]) -> dict[str, np.ndarray]:
        return arrays | {"parted": arrays["bond_alive"] == 0}

    def lands(self, shot: Any, layer: Any) -> list[int]:
        """Return the numbers of the open sheets that bodies lie on; nothing else of them is this layer's."""
        cast = set(self.cast(shot, layer))
        sheets = (i for i, p in enumerate(shot.pieces) if shot.part_of(p).bodies and is_sheet(p.shape))
        return [i for i in sheets if i not in cast]

    def problem(self, shot: Any, layer: Any) -> str:
        return directing.problem(shot, layer.settings)

    def rename_references(self, settings: dict[str, Any], before: str, now: str) -> dict[str, Any]:
        return directing.renamed(settings, before, now)

    def launches(self, shot: Any, layer: Any) -> list[tuple[str, Any, list[int]]]:
        cast = [i for i in self.cast(shot, layer) if shot.pieces[i].motion != "fixed"]
        return [
            (e.name, e.launch, [i for i in cast if directing.means(e.of, shot.pieces[i])])
            for e in layer.settings.events
            if e.what == "launch"
        ]

    def content(self, shot: Any, layer: Any) -> dict[str, Any]:
        lands = self.lands(shot, layer)
        numbers = self.cast(shot, layer) + lands
        pieces = [shot.pieces[i] for i in numbers]
        settings = layer.settings.model_dump(mode="json")
        settings["events"] = directing.events_content(layer.settings.events, pieces)
        settings["regions"] = [r.model_dump(mode="json", exclude={"name"}) for r in layer.settings.regions]
        settings["joints"] = directing.joints_content(layer.settings.joints, pieces)
        if not shot.takes(layer, GAS) and not layer.settings.air:
            del settings["drag"]
        return {
            "settings": settings,
            "clock": content.clock(shot),
            "pieces": [
                content.motion(p, shot)
                | {
                    "bulk": p.bulk(),
                    "force": p.force if p.motion == "driven" else 0.0,
                    "bonded": [p.bonded, p.holds, p.elongation],
                    "there": content.window(p, shot),
                }
                for p in pieces
            ],
            "lands": len(lands),
            "broken": [[n for n, i in enumerate(numbers) if i in f.pieces] for f in self._broken(shot, layer)],
        }

    def draft(self, settings: dict[str, Any]) -> dict[str, Any]:
        return settings | {"steps": min(settings["steps"], max(_FEWEST_STEPS, round(settings["steps"] * _DRAFT)))}

    def count(self, shot: Any, layer: Any) -> int:
        broken = self._broken(shot, layer)
        parts = {i for f in broken for i in f.pieces}
        whole = sum(count(shot.pieces[i].shape) for i in self.cast(shot, layer) if i not in parts)
        return whole + sum(f.count for f in broken)

    def rounds(self, layer: Any) -> int:
        return layer.settings.steps * layer.settings.substeps

    def notes(self, shot: Any, layer: Any, first: dict[str, float]) -> dict[str, Note]:
        s = layer.settings
        speed, name = fastest(shot)
        text = (
            f"{shot.rate * s.steps:,.0f} collision steps and {shot.rate * s.steps * s.substeps:,.0f} substeps a second"
        )
        if speed > 0.0:
            text += (
                f"; '{name}', the fastest at the start or along its keys, goes "
                f"{100 * speed / (shot.rate * s.steps):.1f} cm a collision step"
            )
        found = {_FINE: Note(text)}
        if first.get("bond_load"):
            load = 100 * first["bond_load"]
            verdict = "stands" if load < 90 else "hardly stands" if load < 100 else "does not stand"
            found[_HOLDS] = Note(
                f"At the first frame it {verdict} by itself: the most loaded bond carries {load:.0f} % of its strength"
            )
        return found

    def spread(self, shot: Any, layer: Any, path: str, curve: Curve, results: Any) -> Spread | None:
        static = results.static(layer)
        if static is None or not path.startswith("bonds."):
            return None
        return Spread(reach(curve, static["patch_centre"][static["bond"]]), f"{curve.over} of bonds at the start")

    def rehearsal(self) -> tuple[dict[str, Any]]:
        slack = {"kind": "rope", "first": "Crate", "at": (0, -0.8, 0.45), "to": (0, -0.8, 3), "length": 6}
        settings = {"steps": 4, "settle": 0.1, "bonds": {"tension": 2e4, "shear": 3e4}, "joints": [slack]}
        return ({"id": self.name, "kind": self.name, "settings": settings},)

    def findings(self, shot: Any, layer: Any) -> list[Finding]:
        return [
            *self._fast(shot, layer),
            *standing.findings(shot, layer, self.cast(shot, layer) + self.lands(shot, layer)),
        ]

    def _fast(self, shot: Any, layer: Any) -> list[Finding]:
        """What is too fast for its steps, or solved in too few."""
        loose = [shot.pieces[i] for i in self.cast(shot, layer) if shot.pieces[i].motion == "loose"]
        thin = [float(np.ptp(c, axis=0).min()) for p in loose for c in placed_corners(p, shot)]
        speed, name = fastest(shot)
        steps = layer.settings.steps
        if not thin or min(thin) <= 0.0 or speed / (shot.rate * steps) <= _PASSES * min(thin):
            return self._coarse(shot, layer)
        travel = speed / (shot.rate * steps)
        wanted = min(_MOST_STEPS, int(np.ceil(speed / shot.rate / (_PASSES * min(thin)))))
        return [
            Finding(
                f"'{name}' is fast for its step.",
                f"It moves {travel * 100:.0f} cm between collision steps; the thinnest part is {min(thin) * 100:.0f} "
                "cm.",
                layer=layer.id,
                **_more_checks(shot, layer, wanted),
            )
        ]

    def _coarse(self, shot: Any, layer: Any) -> list[Finding]:
        """Contacts solved so seldom that what should stand gives way."""
        substeps = layer.settings.substeps
        rate = shot.rate * layer.settings.steps * substeps
        if rate >= _FEWEST_SUBSTEPS:
            return []
        wanted = min(_MOST_STEPS, int(np.ceil(_ENOUGH_SUBSTEPS / (shot.rate * substeps))))
        return [
            Finding(
                "Contacts are solved coarsely.",
                f"At {rate:,.0f} substeps a second stacks sway and arches give way; {_ENOUGH_SUBSTEPS:,} hold them.",
                layer=layer.id,
                **_more_checks(shot, layer, wanted),
            )
        ]

    def watch(self, shot: Any, layer: Any, rows: dict[int, dict[str, float]]) -> list[Finding]:
        return [
            *self._overlaps(shot, layer, rows),
            *self._lost(layer, rows),
            *self._crushed(layer, rows),
            *self._late(layer, rows),
            *self._cut(shot, layer, rows),
        ]

    def _crushed(self, layer: Any, rows: dict[int, dict[str, float]]) -> list[Finding]:
        frame, most = _first_most(rows, "crushed")
        if most == 0.0:
            return []
        return [
            Finding(
                f"Something driven crushes {most:,.0f} {'body' if most == 1 else 'bodies'} at frame {frame}.",
                "Squeezed beyond their compressive strength they give way where they stand and are seen in what "
                "presses them. Break them into smaller pieces, or give the driven piece a greatest force.",
                layer=layer.id,
                frame=frame,
            )
        ]

    def _late(self, layer: Any, rows: dict[int, dict[str, float]]) -> list[Finding]:
        frame, most = _first_most(rows, "late")
        if most < _LATE:
            return []
        return [
            Finding(
                f"A driven piece stalls: at frame {frame} it is {most:.2f} s behind its path.",
                "Its greatest force does not move what stands against it. Give it more, or let what is in its way "
                "break more easily.",
                layer=layer.id,
                frame=frame,
            )
        ]

    def _cut(self, shot: Any, layer: Any, rows: dict[int, dict[str, float]]) -> list[Finding]:
        """Limits that nobody has chosen and that take energy from what flies."""
        frame, most = _first_most(rows, "cut")
        fields = FallSettings.model_fields
        limits = ("top_speed", "top_spin")
        if most == 0.0 or any(getattr(layer.settings, n) != fields[n].default for n in limits):
            return []
        return [
            Finding(
                f"{most:,.0f} {'body is' if most == 1 else 'bodies are'} held to the limits of speed and spin at "
                f"frame {frame}.",
                f"Nothing may go faster than {layer.settings.top_speed:g} m/s or spin faster than "
                f"{layer.settings.top_spin:g} rad/s: what does loses energy.",
                layer=layer.id,
                frame=frame,
                fix="Raise the limits tenfold",
                changes=tuple((at(shot, layer, n), 10 * getattr(layer.settings, n)) for n in limits),
            )
        ]

    def _lost(self, layer: Any, rows: dict[int, dict[str, float]]) -> list[Finding]:
        frame, most = max(((f, g.get("lost", 0.0)) for f, g in rows.items()), key=lambda r: r[1], default=(0, 0.0))
        if most == 0.0:
            return []
        return [
            Finding(
                f"{most:,.0f} bodies have fallen out of the set by frame {frame}.",
                "Nothing is below them that would stop them: they cost time, and fall for ever.",
                layer=layer.id,
                frame=frame,
            )
        ]

    def _overlaps(self, shot: Any, layer: Any, rows: dict[int, dict[str, float]]) -> list[Finding]:
        gauge = self.gauge("deepest_overlap")
        frame, worst = max(((f, g.get(gauge.name, 0.0)) for f, g in rows.items()), key=lambda r: r[1], default=(0, 0.0))
        if not gauge.over(worst):
            return []
        return [
            Finding(
                f"Bodies stand {worst * gauge.factor:.0f} {gauge.unit} in each other at frame {frame}.",
                "A close-up would show debris passing through debris.",
                layer=layer.id,
                frame=frame,
                **_more_checks(shot, layer, min(_MOST_STEPS, layer.settings.steps * 2)),
            )
        ]


def _first_most(rows: dict[int, dict[str, float]], gauge: str) -> tuple[int, float]:
    """The frame at which a gauge is greatest, and that value; 0 where there is none."""
    return max(((f, g.get(gauge, 0.0)) for f, g in rows.items()), key=lambda r: r[1], default=(0, 0.0))


def _more_checks(shot: Any, layer: Any, steps: int) -> dict[str, Any]:
    """The mend of what is checked too seldom; none where it cannot be more often."""
    if steps <= layer.settings.steps:
        return {}
    return {"fix": f"Use {steps} collision steps a frame", "changes": ((at(shot, layer, "steps"), steps),)}
