"""Each offer, given by a toy, beside every kind that reads it; run in a process that has registered the toys."""

import os
from pathlib import Path

LAYERS = ("break", "fall", "shed", "billow", "flood", "skin", "froth", "pebbles")


def check(folder: str) -> None:
    """Raise unless every reader of every offer proposes, validates, is keyed, bakes, is drawn and handed over."""
    os.environ["URST_STORE"] = f"{folder}/store"
    os.environ.setdefault("URST_DATABASE", "postgresql://x@127.0.0.1:1/x")
    from tests.shots import falling_box
    from tests.toy.given import KINDS
    from urst.bake import runner
    from urst.core.coupling.exchanges import PAIRS
    from urst.errors import BadValue
    from urst.handover.baked import Baked
    from urst.handover.export import export
    from urst.kinds import registry
    from urst.shot.document import dumps, loads, parse
    from urst.shot.forecast import forecast
    from urst.shot.keys import layer_keys
    from urst.shot.layers import added
    from urst.shot.preflight import preflight
    from urst.store.store import Store
    from urst.web import data, recipe

    store, done = Store(os.environ["URST_STORE"]), []
    base = falling_box(3).model_dump(mode="json") | {"layers": []}
    for toy in KINDS:
        kind = registry.named(toy.name)
        for name in LAYERS:
            reader = registry.named(name)
            if not set(kind.offers) & set(reader.reads):
                continue
            given, first = added(parse(base), toy.name)
            shot, layer_id = added(given, name)
            document = shot.model_dump(mode="json")
            mine = document["layers"][-1]
            mine["reads"] = sorted({*mine["reads"], first})
            if name in ("billow", "flood"):
                # coarse, about all there is
                mine["settings"] |= {"cell_size": 0.25, "low": (-1, -1, -0.25), "high": (1, 1, 1.5)}
            shot = loads(dumps(parse(document)))
            preflight(shot)
            assert forecast(shot, layer_id).count >= 0
            keys = layer_keys(shot)
            document["layers"][0]["settings"]["amount"] = 2.0
            other = layer_keys(parse(document))
            assert other[first] != keys[first] and other[layer_id] != keys[layer_id], (toy.name, name)
            runner.bake(shot, store)
            for layer in shot.layers:
                assert recipe.rows(layer.settings, shot.kind_of(layer).questions, shot) is not None
                if shot.kind_of(layer).moving:
                    assert store.frames(keys[layer.id]) == [1, 2, 3]
                    assert len(data.frames(keys[layer.id], 2, 2).body) > 0
            for form in {f for x in shot.layers for f in shot.kind_of(x).hands_over}:
                export(shot, store.root, Path(folder) / "out" / f"{toy.name}-{name}-{form}", [form])
            assert Baked(shot, store).frame(shot.layers[0], 1) if kind.moving else True
            done.append((toy.name, name))
            try:
                parse(document | {"couplings": [{"first": first, "second": layer_id}]})
            except BadValue:
                pass
            else:
                raise AssertionError(f"a {toy.name} has no port and yet couples with a {name}: {PAIRS}")
    read = {o.name for t in KINDS for n in LAYERS for o in t.offers if (t.name, n) in done}
    assert read == {"fragments", "bodies", "points", "gas", "liquid", "grains"}, read
    print(f"{len(done)} pairs work")
