"""Digests of what each kind gives: a changed kernel without a raised version would serve stale frames.

`python -m tests.digests` writes them anew; do so after a kind's version was raised.
"""

import hashlib
import json
import sys
from pathlib import Path

import numpy as np
from llvmlite import binding

from tests.baked import baked
from urst.kinds.registry import KINDS
from urst.kinds.rehearsal import COUPLED, rehearsals
from urst.shot.document import parse
from urst.shot.keys import layer_keys

KEPT = Path(__file__).parent / "fixtures" / "digests.json"
#: what other processors' rounding may change of a number that sums an array up, as a share of the array's greatest
ROUNDING = 0.02


def processor() -> str:
    """Return what code is compiled for: other instructions round otherwise."""
    return (
        f"{binding.get_host_cpu_name()} "
        f"{hashlib.sha256(binding.get_host_cpu_features().flatten().encode()).hexdigest()[:12]}"
    )


def _summary(arrays):
    """Mean and greatest of each array, by name."""
    found = {}
    for name, a in sorted(arrays.items()):
        if a.size and a.dtype.kind in "fiub":
            values = np.nan_to_num(a.astype(float), posinf=0.0, neginf=0.0)
            found[name] = [float(values.mean()), float(np.abs(values).max())]
    return found


def taken(name: str) -> dict[str, dict]:
    """Bake a rehearsal and return digest and summary of each of its layers that it is about, by kind."""
    shot = parse(rehearsals()[name].document)
    layers = shot.layers if name == COUPLED else shot.layers[-1:]
    found, store, keys = {}, baked(shot), layer_keys(shot)
    for layer in layers:
        whole, last = hashlib.sha256(), {}
        moving = shot.kind_of(layer).moving
        for arrays in (
            [store.read_frame(keys[layer.id], f)[0] for f in shot.frames()]
            if moving
            else [store.read_static(keys[layer.id])[0]]
        ):
            for key in sorted(arrays):
                whole.update(f"{key} {arrays[key].dtype} {arrays[key].shape}".encode())
                whole.update(np.ascontiguousarray(arrays[key]).tobytes())
            last = arrays
        found[layer.kind] = {"digest": whole.hexdigest()[:32], "summary": _summary(last)}
    return found


def all_taken() -> dict[str, dict[str, dict]]:
    """Bake every rehearsal; by rehearsal and kind."""
    return {name: taken(name) for name in rehearsals()}


def complaints(kept: dict, found: dict, versions: dict[str, int], here: str) -> list[str]:
    """Return what is wrong with results beside the digests that are kept, a sentence each.

    Parameters
    ----------
    kept : dict
        As `renew` wrote it.
    found : dict
        As `all_taken` returns it.
    versions : dict
        Of the kinds.
    here : str
        This processor; on another one than the kept digests' the summaries are held against each other instead.
    """
    wrong = []
    for rehearsal, kinds in found.items():
        # what a layer reads changes it too
        layers = {x["kind"] for x in rehearsals()[rehearsal].document["layers"]}
        raised = any(kept["versions"].get(k) != versions[k] for k in layers)
        for kind, now in kinds.items():
            then = kept["digests"].get(rehearsal, {}).get(kind)
            if then is None or raised:
                wrong.append(
                    f"{kind} ({rehearsal}): its version or one that it reads was raised: run python -m tests.digests"
                )
            elif here == kept["processor"]:
                if now["digest"] != then["digest"]:
                    wrong.append(
                        f"{kind} ({rehearsal}) gives other bytes: raise its version, then run python -m tests.digests"
                    )
            elif far := _far(then["summary"], now["summary"]):
                wrong.append(f"{kind} ({rehearsal}) differs beyond another processor's rounding in {', '.join(far)}")
    return wrong


def _far(then, now):
    """The arrays whose summaries lie farther apart than rounding explains."""
    if then.keys() != now.keys():
        return sorted(then.keys() ^ now.keys())
    return [n for n in then if any(abs(a - b) > ROUNDING * max(then[n][1], 1e-9) for a, b in zip(then[n], now[n]))]


def renew() -> None:
    """Write all digests anew."""
    kept = {
        "processor": processor(),
        "versions": {k.name: k.version for k in KINDS.values()},
        "digests": all_taken(),
    }
    KEPT.parent.mkdir(exist_ok=True)
    KEPT.write_text(json.dumps(kept, indent=1, sort_keys=True) + "\n")


if __name__ == "__main__":
    renew()
    sys.exit(0)
