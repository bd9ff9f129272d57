"""The checks of a shot before it is baked, each with a way to mend what it finds."""

import logging
import time
from collections.abc import Sequence
from functools import lru_cache
from typing import Any

import numpy as np

from urst.core.checks.findings import Finding
from urst.core.checks.meshes import check_solid, check_surface
from urst.core.checks.overlap import overlap
from urst.core.geometry import rotation
from urst.core.geometry.convex import Polyhedron, hull_of
from urst.core.remembered import remembered
from urst.errors import BadFile, BadMesh, UrstError
from urst.scene import placing
from urst.scene.shapes import Imported, corners, is_hollow, is_sheet, meshes, no_room, parts
from urst.shot.by_shot import weight
from urst.shot.document import Shot, parse
from urst.shot.forecast import forecast
from urst.shot.graph import groups

log = logging.getLogger("urst.preflight")

#: overlaps shallower than this are left to the solver [m]
SHALLOW = 2e-3
#: overlaps listed one by one
MOST_LISTED = 50
#: overlaps are looked for so long at most, and layers are judged so long [s]
LONGEST, LAYERS_LONGEST = 3.0, 3.0


def preflight(shot: Shot) -> list[Finding]:
    """Return what looks wrong with a shot, the grave first; what cannot even be looked at is one of these."""
    try:
        return judged(shot)
    except UrstError as error:
        return [Finding(str(error), "Until that is mended nothing more can be said of the shot.", grave=True)]
    except Exception:
        log.exception("preflight broke", extra={"action": "preflight"})
        return [
            Finding(
                "This shot could not be judged.",
                "That is a fault of Urst's own, and its log says where; a bake may fail.",
            )
        ]


def judged(shot: Shot) -> list[Finding]:
    """Return the same; what cannot be looked at is raised."""
    found = _meshes(shot)
    if found:
        # geometry that is no good says nothing more
        return found
    findings = _layers(shot)
    if any(f.grave for f in findings):
        return _once([f for f in findings if f.grave])
    found += _scale(shot) + list(_overlaps(_Set(shot))) + _not_kept(shot)
    return sorted(_once(found + findings), key=lambda f: not f.grave)


def _layers(shot: Shot) -> list[Finding]:
    """What the kinds say of their layers, one after the other until the time is up."""
    found: list[Finding] = []
    deadline = time.monotonic() + LAYERS_LONGEST
    for n, layer in enumerate(shot.layers):
        if time.monotonic() > deadline:
            return [
                *found,
                Finding(
                    f"Only {n:,} of {len(shot.layers):,} layers were judged.",
                    "The shot is too large to be looked at whole: what is wrong with "
                    "the others shows when they are baked.",
                ),
            ]
        found += shot.kind_of(layer).findings(shot, layer)
    return found


def _once(found: list[Finding]) -> list[Finding]:
    return list({f.title: f for f in reversed(found)}.values())[::-1]


def watch(shot: Shot, gauges: dict[str, dict[int, dict[str, float]]]) -> list[Finding]:
    """Return what the gauges of baked frames show, by layer id, frame and gauge."""
    return [f for x in shot.layers for f in shot.kind_of(x).watch(shot, x, gauges.get(x.id, {}))]


def mended(shot: Shot, finding: Finding) -> Shot:
    """Return the shot with a finding's mend applied."""
    data = shot.model_dump(mode="json")
    for path, value in finding.changes:
        at = data
        for part in path[:-1]:
            at = at[part]
        at[path[-1]] = value
    return parse(data)


def _meshes(shot: Shot) -> list[Finding]:
    """Meshes that move must be sound solids; what stands fixed may be open, but not empty."""
    found = []
    for i, piece in enumerate(shot.pieces):
        if narrow := no_room(piece.shape):
            found.append(
                Finding(
                    f"'{piece.name}' cannot be hollow.",
                    narrow,
                    grave=True,
                    fix="Let it be solid",
                    changes=((("pieces", i, "shape", "matter"), "solid"),),
                )
            )
        if piece.shape.kind != "mesh":
            if piece.motion == "loose" and is_sheet(piece.shape):
                found.append(
                    Finding(
                        f"'{piece.name}' is an open sheet and is to be loose.",
                        "Only a closed solid has mass: let it be fixed or driven, or give it thickness.",
                        grave=True,
                    )
                )
            continue
        fault = _fault(piece.shape, piece.motion != "loose", f"'{piece.name}'")
        if fault:
            found.append(Finding(fault, "Only a closed solid has mass and can move or break.", grave=True))
    return found


@lru_cache(maxsize=256)
def _fault(shape: Imported, stands: bool, name: str) -> str:
    """What is wrong with an imported mesh, empty if nothing is; a large one is looked at once, not at every change."""
    try:
        for mesh in meshes(shape):
            (check_surface if stands else check_solid)(mesh, name)
    except (BadMesh, BadFile) as error:
        return str(error)
    return ""


@lru_cache(maxsize=256)
def _points(shape: Any) -> Sequence[np.ndarray]:
    """The corners of each convex part of a shape."""
    return [m.vertices for m, _ in parts(shape)] if is_hollow(shape) else corners(shape)


@lru_cache(maxsize=4096)
def _hull(shape: Any, number: int) -> Polyhedron:
    return hull_of(_points(shape)[number])


def _not_kept(shot: Shot) -> list[Finding]:
    """Readers of what a layer's frames do not keep."""
    found = []
    for layer in shot.layers:
        kind = shot.kind_of(layer)
        for offer in kind.reads:
            for source in shot.takes(layer, offer):
                needed = shot.kind_of(source).needs.get(offer.name)
                if needed and needed not in source.keeps and not shot.grouped(layer, source):
                    found.append(
                        _keep(
                            shot, source, [needed], f"'{layer.name}' follows '{source.name}', which keeps no {needed}."
                        )
                    )
        if layer.start and not layer.start.is_key():
            source = shot.layer(layer.start.of)
            missing = [n for n in kind.start_needs(source) if n not in source.keeps]
            if missing:
                names = " and ".join(missing)
                found.append(
                    _keep(shot, source, missing, f"'{layer.name}' begins from '{source.name}', which keeps no {names}.")
                )
    return found


def _keep(shot: Shot, source: Any, names: list[str], title: str) -> Finding:
    place = ("layers", [x.id for x in shot.layers].index(source.id), "keeps")
    return Finding(
        title,
        "Without it there is nothing to follow once it is baked.",
        grave=True,
        layer=source.id,
        fix=f"Let '{source.name}' keep {' and '.join(names)}",
        changes=((place, sorted({*source.keeps, *names})),),
    )


def _scale(shot: Shot) -> list[Finding]:
    box = placing.bounds(shot)
    if box is None:
        if shot.pieces:
            return []
        return [Finding("The set is empty.", "There is nothing to break or to fall: add a set piece.", grave=True)]
    low, high = box
    size, far = float((high - low).max()), float(np.abs(np.concatenate([low, high])).max())
    found = []
    if not 0.05 <= size <= 50_000:
        found.append(
            Finding(
                f"The set is {size:.3g} m across.",
                "Sizes from 5 cm to 50 km are plausible; check the units of what was imported.",
            )
        )
    if far > 100 * size or far > 50_000:
        shift = -(low + high) / 2
        changes = tuple(
            (("pieces", i, "position"), [round(float(a + d), 6) for a, d in zip(p.position, shift)])
            for i, p in enumerate(shot.pieces)
            if p.motion != "driven"
        )
        found.append(
            Finding(
                f"The set stands {far:,.0f} m from the origin.",
                "Precision is lost that far out.",
                fix="Bring it to the origin",
                changes=changes,
            )
        )
    return found


class _Set:
    """The set of a shot, alike to another where its pieces stand alike: what is asked of the set alone is asked
    once."""

    def __init__(self, shot: Shot) -> None:
        self.shot = shot
        self._inputs = shot.pieces, shot.taking_part, shot.start, shot.rate, shot.time_scale
        self._hash = hash(self._inputs)

    def __hash__(self) -> int:
        return self._hash

    def __eq__(self, other: object) -> bool:
        return isinstance(other, _Set) and self._inputs == other._inputs


@remembered(100_000, lambda world, _: weight(world.shot))
def _overlaps(world: _Set) -> tuple[Finding, ...]:
    found, shot = [], world.shot
    deadline = time.monotonic() + LONGEST
    owner, number, low, high, stances = [], [], [], [], {}
    for i, piece in enumerate(shot.pieces):
        if is_sheet(piece.shape) or not shot.part_of(piece).bodies:
            continue
        turn, position = placing.stance(piece, shot)
        stances[i] = rotation.matrix(turn), position
        for k, points in enumerate(_points(piece.shape)):
            there = points @ stances[i][0].T + position
            owner.append(i)
            number.append(k)
            low.append(there.min(axis=0))
            high.append(there.max(axis=0))
    loose = np.array([shot.pieces[i].motion == "loose" for i in owner], bool)
    if not loose.any():
        return ()
    # from left to right: what begins before another ends
    order = np.argsort(np.array(low)[:, 0], kind="stable")
    lows, highs, owners, loose = (np.array(x)[order] for x in (low, high, owner, loose))
    numbers = np.array(number)[order]
    ends = np.searchsorted(lows[:, 0], highs[:, 0] - SHALLOW)

    def placed_hull(n: int) -> Polyhedron:
        matrix, position = stances[int(owners[n])]
        h = _hull(shot.pieces[int(owners[n])].shape, int(numbers[n]))
        return Polyhedron(h.vertices @ matrix.T + position, h.loops, h.normals @ matrix.T)

    worst: dict[tuple[int, int], tuple[float, np.ndarray]] = {}
    for a in range(len(owners)):
        if time.monotonic() > deadline:
            found.append(
                Finding(
                    f"Only {a:,} of {len(owners):,} bodies were looked at for overlaps.",
                    "The set is too large to be looked at whole: what overlaps among the "
                    "others is pushed apart in the first frames.",
                )
            )
            break
        there = slice(a + 1, ends[a])
        near = (lows[there, 1:] < highs[a, 1:] - SHALLOW).all(axis=1) & (highs[there] > lows[a] + SHALLOW).all(axis=1)
        near &= (owners[there] != owners[a]) & (loose[there] | loose[a])
        for b in a + 1 + np.flatnonzero(near):
            first, second = sorted((a, int(b)), key=lambda n: int(owners[n]))
            depth, separation = overlap(placed_hull(first), placed_hull(second))
            pair = int(owners[first]), int(owners[second])
            if depth > SHALLOW and depth > worst.get(pair, (0,))[0]:
                worst[pair] = (depth, separation)
    deepest = sorted(worst.items(), key=lambda x: -x[1][0])
    if len(deepest) > MOST_LISTED:
        found.append(
            Finding(
                f"{len(deepest):,} pairs of pieces overlap at the start.",
                f"The deepest {MOST_LISTED} are listed: mend these, then look again.",
            )
        )
    for (i, j), (depth, separation) in deepest[:MOST_LISTED]:
        one, other = shot.pieces[i], shot.pieces[j]
        # move the second if it is loose, else the first the other way
        mover, index, shift = (other, j, separation) if other.motion == "loose" else (one, i, -separation)
        place = [round(float(x + (depth + 1e-3) * d), 4) for x, d in zip(mover.position, shift)]
        found.append(
            Finding(
                f"'{one.name}' and '{other.name}' overlap by {depth * 1000:.0f} mm at the start.",
                "They would push each other apart in the first frames.",
                fix=f"Move '{mover.name}' clear",
                changes=((("pieces", index, "position"), place),),
            )
        )
    return tuple(found)


def memory(shot: Shot, most: float) -> list[Finding]:
    """Return whether what is baked together fits into so much memory [bytes]."""
    found = []
    for group in groups(shot):
        need = sum(forecast(shot, layer).memory for layer in group)
        if need > most:
            names = " and ".join(f"'{shot.layer(layer).name}'" for layer in group)
            found.append(
                Finding(
                    f"{names} {'need' if len(group) > 1 else 'needs'} about {need / 1e9:.1f} GB of memory and there "
                    f"are {most / 1e9:.1f} GB.",
                    "The bake would be ended before its first frame: use larger cells, fewer fragments or a smaller "
                    "domain.",
                    layer=group[0],
                    grave=True,
                )
            )
    return found


def disk(shot: Shot, free_bytes: float) -> list[Finding]:
    """Return whether the bake will fit on the disk."""
    need = sum(forecast(shot, layer.id).disk for layer in shot.layers)
    if need > 0.9 * free_bytes:
        return [
            Finding(
                f"The bake needs about {need / 1e9:.1f} GB and {free_bytes / 1e9:.1f} GB are free.",
                "It would stop when the disk is full; free some space, or use larger cells.",
                grave=True,
            )
        ]
    return []
