"""Documents of older versions, brought up to date."""

import math

from urst.errors import BadValue, UrstError
from urst.scene import library, mesh_codec

FORMAT = "urst-shot/4"
OLDER = ("urst-shot/1", "urst-shot/2", "urst-shot/3")


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
        return _from_3(data) if data["format"] == "urst-shot/3" else data
    except (AttributeError, KeyError, TypeError, ValueError) as error:
        if isinstance(error, UrstError):
            raise
        raise BadValue(
            f"The document says it is '{version}' but is not built like one: take an earlier copy."
        ) from error


def _from_1(data):
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


def _from_2(data):
    """The time scale was the only curve, and its points had frames; there was one camera; meshes lay within."""
    scale = (data.get("time_scale") or {}).get("points")
    points = [{"at": p.get("frame"), "value": p.get("value")} for p in scale or []]
    data = dict(data)
    data["pieces"] = [_without_mesh(p) for p in data.get("pieces", [])]
    camera = data.pop("camera", {})
    data |= {"cameras": [camera], "through": camera.get("name", "main")}
    return data | {"format": "urst-shot/3", "time_scale": {"points": points} if points else 1.0}


def _from_3(data):
    """Inflows of liquid had a velocity and no launch."""
    return data | {"format": FORMAT, "layers": [_launched(x) for x in data.get("layers", [])]}


def _launched(layer):
    settings = layer.get("settings") or {}
    if not settings.get("inflows"):
        return layer
    inflows = [dict(x) for x in settings["inflows"]]
    for inflow in inflows:
        velocity = inflow.pop("velocity", (0.0, 0.0, -1.0))
        inflow["launch"] = {"speed": math.hypot(*velocity), "direction": velocity}
    return layer | {"settings": settings | {"inflows": inflows}}


def _without_mesh(piece):
    shape = piece.get("shape", {})
    if shape.get("kind") != "mesh" or "vertices" not in shape:
        return piece
    source = shape.get("source", "")
    mesh = mesh_codec.unpack(shape["vertices"], shape["triangles"], source)
    return piece | {"shape": {"kind": "mesh", "source": source, "mesh": library.put(mesh)}}
