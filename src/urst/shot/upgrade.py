"""Documents of older versions, brought up to date."""

import math
from typing import Any

from urst.errors import BadValue, UrstError
from urst.scene import library, mesh_codec

FORMAT = "urst-shot/5"
OLDER = ("urst-shot/1", "urst-shot/2", "urst-shot/3", "urst-shot/4")


def upgraded(data: dict) -> dict:
    """Return a document as the present version has it; one that is no document is left to the validator."""
    if not isinstance(data, dict) or data.get("format", FORMAT) == FORMAT:
        return data
    version = data["format"]
    try:
        if data["format"] == "urst-shot/1":
            data = _from_1(data)
        if data["format"] == "urst-shot/2":
            data = _from_2(data)
        if data["format"] == "urst-shot/3":
            data = _from_3(data)
        return _from_4(data) if data["format"] == "urst-shot/4" else data
    except (AttributeError, KeyError, TypeError, ValueError) as error:
        if isinstance(error, UrstError):
            raise
        raise BadValue(
            f"The document says it is '{version}' but is not built like one: take an earlier copy."
        ) from error


def _from_1(data: dict[str, Any]) -> dict[str, Any]:
    """Couplings stood in the links of what reads; the time until dust has cleared had another name."""
    couplings: list[dict] = []
    layers = []
    for layer in data.get("layers", []):
        layer = dict(layer)
        links = layer.get("reads", [])
        layer["reads"] = [link["layer"] for link in links]
        for link in links:
            if link.get("both_ways"):
                strength = link.get("exaggeration", 1.0)
                pair = {"first": link["layer"], "second": layer["id"], "forth": strength, "back": strength}
                if not any({pair["first"], pair["second"]} == {c["first"], c["second"]} for c in couplings):
                    couplings.append(pair)
        settings = dict(layer.get("settings", {}))
        if "dissolve" in settings:
            settings["clearing"] = settings.pop("dissolve")
        layers.append(layer | {"settings": settings})
    return data | {"format": "urst-shot/2", "layers": layers, "couplings": couplings}


def _from_2(data: dict[str, Any]) -> dict[str, Any]:
    """The time scale was the only curve, and its points had frames; there was one camera; meshes lay within."""
    scale = (data.get("time_scale") or {}).get("points")
    points = [{"at": p.get("frame"), "value": p.get("value")} for p in scale or []]
    data = dict(data)
    data["pieces"] = [_without_mesh(p) for p in data.get("pieces", [])]
    camera = data.pop("camera", {})
    data |= {"cameras": [camera], "through": camera.get("name", "main")}
    return data | {"format": "urst-shot/3", "time_scale": {"points": points} if points else 1.0}


def _from_3(data: dict[str, Any]) -> dict[str, Any]:
    """Inflows of liquid had a velocity and no launch."""
    return data | {"format": "urst-shot/4", "layers": [_launched(x) for x in data.get("layers", [])]}


#: where the settings of the dust and its temperature went, each with its place in the list
_OF_SCALARS = {
    "weight": ("scalars.0.buoyancy",),
    "heat": ("scalars.1.rise",),
    "clearing": ("scalars.0.clearing", "scalars.1.clearing"),
}


def _from_4(data: dict[str, Any]) -> dict[str, Any]:
    """A gas carried dust and its temperature, without a list."""
    gases = {x["id"] for x in data.get("layers", []) if {*_OF_SCALARS} & {*(x.get("settings") or {})}}
    return data | {
        "format": FORMAT,
        "layers": [_kept(_with_scalars(x) if x["id"] in gases else x) for x in data.get("layers", [])],
        "uses": [u | {"path": path} for u in data.get("uses", []) for path in _paths(u, gases)],
    }


def _with_scalars(layer: dict[str, Any]) -> dict[str, Any]:
    settings = dict(layer.get("settings") or {})
    scalars: list[dict] = [{"name": "density"}, {"name": "temperature", "measure": "temperature"}]
    for old, places in _OF_SCALARS.items():
        for place in places if old in settings else ():
            _, number, name = place.split(".")
            scalars[int(number)][name] = settings[old]
        settings.pop(old, None)
    return layer | {"settings": settings | {"scalars": scalars}}


def _kept(layer: dict[str, Any]) -> dict[str, Any]:
    if "heat" not in layer.get("keeps", []):
        return layer
    return layer | {"keeps": ["temperature" if n == "heat" else n for n in layer["keeps"]]}


def _paths(use: dict[str, str], gases: set[str]) -> tuple[str, ...]:
    """Where a setting that takes a named value is now."""
    first, *rest = use["path"].split(".")
    if use["owner"] not in gases or first not in _OF_SCALARS:
        return (use["path"],)
    return tuple(".".join([place, *rest]) for place in _OF_SCALARS[first])


def _launched(layer: dict[str, Any]) -> dict[str, Any]:
    settings = layer.get("settings") or {}
    if not settings.get("inflows"):
        return layer
    inflows = [dict(x) for x in settings["inflows"]]
    for inflow in inflows:
        velocity = inflow.pop("velocity", (0.0, 0.0, -1.0))
        inflow["launch"] = {"speed": math.hypot(*velocity), "direction": velocity}
    return layer | {"settings": settings | {"inflows": inflows}}


def _without_mesh(piece: dict[str, Any]) -> dict[str, Any]:
    shape = piece.get("shape", {})
    if shape.get("kind") != "mesh" or "vertices" not in shape:
        return piece
    source = shape.get("source", "")
    mesh = mesh_codec.unpack(shape["vertices"], shape["triangles"], source)
    return piece | {"shape": {"kind": "mesh", "source": source, "mesh": library.put(mesh)}}
