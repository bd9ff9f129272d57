"""The checks of a shot before it is baked, each with a way to mend what it finds."""

import numpy as np

from urst.core.checks.findings import Finding
from urst.core.checks.meshes import check_solid
from urst.core.checks.overlap import overlap
from urst.core.geometry.convex import hull_of
from urst.errors import BadMesh
from urst.shot import scene
from urst.shot.document import Shot, parse
from urst.shot.forecast import forecast

#: overlaps shallower than this are left to the solver [m]
SHALLOW = 2e-3
#: dust at the domain's side, as a share of the densest, above which it is seen to be cut
EDGE = 0.04


def preflight(shot: Shot) -> list[Finding]:
    """Return what looks wrong with a shot, the grave first."""
    found = _meshes(shot)
    if any(f.grave for f in found):
        return found
    placed = {p.name: scene.placed(p, shot) for p in shot.pieces}
    found += _scale(shot, placed) + _overlaps(shot, placed) + _domains(shot, placed)
    found += _thin_walls(shot, placed) + _fast(shot, placed)
    return sorted(found, key=lambda f: not f.grave)


def watch(shot: Shot, gauges: dict[str, dict[int, dict[str, float]]]) -> list[Finding]:
    """Return what the gauges of baked frames show, by layer id, frame and gauge."""
    found = []
    for layer in shot.layers:
        rows = gauges.get(layer.id, {})
        if layer.kind == "billow":
            cut = next((f for f, g in sorted(rows.items()) if g.get("edge_share", 0) > EDGE), None)
            if cut is not None:
                s = layer.settings
                margin = round(0.2 * max(b - a for a, b in zip(s.low, s.high)), 1)
                found.append(Finding(
                    f"Dust reaches the domain's side at frame {cut}.", "Beyond it the dust is cut off.", layer=layer.id,
                    frame=cut, fix=f"Let it grow by {margin:g} m to each side",
                    changes=_grown(shot, layer, (margin, margin, 0), (margin, margin, margin)),
                ))  # fmt: skip
        if layer.kind == "fall":
            deep = max(rows.items(), key=lambda r: r[1].get("deepest_overlap", 0), default=None)
            if deep and deep[1].get("deepest_overlap", 0) > 0.03:
                steps = min(64, layer.settings.steps * 2)
                found.append(Finding(
                    f"Bodies stand {deep[1]['deepest_overlap'] * 1000:.0f} mm in each other at frame {deep[0]}.",
                    "A close-up would show debris passing through debris.", layer=layer.id, frame=deep[0],
                    fix=f"Check for contact {steps} times a frame",
                    changes=((_path(shot, layer, "steps"), steps),),
                ))  # fmt: skip
    return found


def mended(shot: Shot, finding: Finding) -> Shot:
    """Return the shot with a finding's mend applied."""
    data = shot.model_dump(mode="json")
    for path, value in finding.changes:
        at = data
        for part in path[:-1]:
            at = at[part]
        at[path[-1]] = value
    return parse(data)


def _path(shot, layer, *names):
    return ("layers", [x.id for x in shot.layers].index(layer.id), "settings", *names)


def _grown(shot, layer, below, above):
    s = layer.settings
    low = [round(a - m, 3) for a, m in zip(s.low, below)]
    high = [round(b + m, 3) for b, m in zip(s.high, above)]
    return ((_path(shot, layer, "low"), low), (_path(shot, layer, "high"), high))


def _meshes(shot):
    found = []
    for piece in shot.pieces:
        if piece.shape.kind == "mesh":
            try:
                check_solid(piece.shape.mesh(), f"'{piece.name}'")
            except BadMesh as error:
                found.append(Finding(str(error), "Only a closed solid has mass and can break.", grave=True))
    return found


def _scale(shot, placed):
    if not placed:
        return [Finding("The set is empty.", "There is nothing to break or to fall: add a set piece.", grave=True)]
    low, high = scene.bounds(shot)
    size, far = float((high - low).max()), float(np.abs(np.concatenate([low, high])).max())
    found = []
    if not 0.05 <= size <= 50_000:
        found.append(Finding(
            f"The set is {size:.3g} m across.", "Sizes from 5 cm to 50 km are plausible; check the units of what was imported."
        ))  # fmt: skip
    if far > 100 * size or far > 50_000:
        shift = -(low + high) / 2
        changes = tuple(
            (("pieces", i, "position"), [round(float(a + d), 6) for a, d in zip(p.position, shift)])
            for i, p in enumerate(shot.pieces)
            if p.motion != "driven"
        )
        found.append(Finding(
            f"The set stands {far:,.0f} m from the origin.", "Precision is lost that far out.",
            fix="Bring it to the origin", changes=changes,
        ))  # fmt: skip
    return found


def _overlaps(shot, placed):
    found = []
    solids = [(i, hull_of(m.vertices), *m.bounds()) for i, p in enumerate(shot.pieces) for m in placed[p.name]]
    lows, highs = np.array([s[2] for s in solids]), np.array([s[3] for s in solids])
    owner = np.array([s[0] for s in solids])
    loose = np.array([shot.pieces[s[0]].motion == "loose" for s in solids])
    worst: dict[tuple[int, int], tuple[float, np.ndarray]] = {}
    for a in range(len(solids)):
        near = (lows < highs[a] - SHALLOW).all(axis=1) & (highs > lows[a] + SHALLOW).all(axis=1)
        near &= (owner != owner[a]) & (np.arange(len(solids)) > a) & (loose | loose[a])
        for b in np.flatnonzero(near):
            depth, way = overlap(solids[a][1], solids[b][1])
            pair = (int(owner[a]), int(owner[b]))
            if depth > SHALLOW and depth > worst.get(pair, (0,))[0]:
                worst[pair] = (depth, way)
    for (i, j), (depth, way) in worst.items():
        first, second = shot.pieces[i], shot.pieces[j]
        # move the second if it is loose, else the first the other way
        mover, index, shift = (second, j, way) if second.motion == "loose" else (first, i, -way)
        place = [round(float(x + (depth + 1e-3) * d), 4) for x, d in zip(mover.position, shift)]
        found.append(Finding(
            f"'{first.name}' and '{second.name}' overlap by {depth * 1000:.0f} mm at the start.",
            "They would push each other apart in the first frames.", fix=f"Move '{mover.name}' clear",
            changes=((("pieces", index, "position"), place),),
        ))  # fmt: skip
    return found


def _domains(shot, placed):
    found = []
    broken = {p for layer in shot.layers if layer.kind == "break" for p in layer.settings.pieces}
    inside = [m.bounds() for name in broken for m in placed[name]]
    if not inside:
        return found
    low, high = np.min([b[0] for b in inside], axis=0), np.max([b[1] for b in inside], axis=0)
    for layer in shot.layers:
        if layer.kind != "billow":
            continue
        s = layer.settings
        out = [f"{a}" for a, x, y, u, v in zip("xyz", s.low, s.high, low, high) if u < x - 1e-6 or v > y + 1e-6]
        if out:
            new_low = [round(float(min(x, u - 1.0)), 3) for x, u in zip(s.low, low)]
            new_high = [round(float(max(y, v + 1.0)), 3) for y, v in zip(s.high, high)]
            found.append(Finding(
                f"What breaks stands outside '{layer.name}' along {' and '.join(out)}.",
                "Dust born out there is lost.", layer=layer.id, fix="Widen the domain by what is missing and 1 m",
                changes=((_path(shot, layer, "low"), new_low), (_path(shot, layer, "high"), new_high)),
            ))  # fmt: skip
    return found


def _thin_walls(shot, placed):
    found = []
    for layer in shot.layers:
        if layer.kind != "billow":
            continue
        s, thin = layer.settings, []
        for piece in shot.pieces:
            meshes = scene.parts(piece)
            thickness = min(float(np.ptp(m.vertices, axis=0).min()) for m in meshes)
            across = float(np.ptp(np.concatenate([m.vertices for m in meshes]), axis=0).max())
            if piece.motion != "driven" and thickness < s.cell_size < across:
                thin.append((thickness, piece.name))
        if thin:
            thickness, name = min(thin)
            cell = round(thickness / 1.5, 4)
            found.append(Finding(
                f"'{name}' is {thickness * 100:.3g} cm thick, thinner than a cell of {s.cell_size * 100:.3g} cm.",
                "The gas sees it with holes, or not at all.", layer=layer.id,
                fix=f"Use cells of {cell * 100:.3g} cm", changes=((_path(shot, layer, "cell_size"), cell),),
            ))  # fmt: skip
    return found


def _fast(shot, placed):
    loose = [m for p in shot.pieces if p.motion == "loose" for m in placed[p.name]]
    if not loose:
        return []
    thinnest = min(float(np.ptp(m.vertices, axis=0).min()) for m in loose)
    fastest, name = scene.fastest(shot)
    found = []
    for layer in shot.layers:
        if layer.kind == "fall":
            travel = fastest / (shot.rate * layer.settings.steps)
            if travel > 0.5 * thinnest:
                steps = min(64, int(np.ceil(fastest / shot.rate / (0.5 * thinnest))))
                found.append(Finding(
                    f"'{name}' is fast for its step.",
                    f"It moves {travel * 100:.0f} cm between collision checks; the thinnest part is {thinnest * 100:.0f} cm.",
                    layer=layer.id, fix=f"Check for contact {steps} times a frame",
                    changes=((_path(shot, layer, "steps"), steps),),
                ))  # fmt: skip
    return found


def disk(shot: Shot, free_bytes: float) -> list[Finding]:
    """Return whether the bake will fit on the disk."""
    need = sum(forecast(shot, layer.id).disk for layer in shot.layers)
    if need > 0.9 * free_bytes:
        return [Finding(
            f"The bake needs about {need / 1e9:.1f} GB and {free_bytes / 1e9:.1f} GB are free.",
            "It would stop when the disk is full; free some space, or use larger cells.", grave=True,
        )]  # fmt: skip
    return []
