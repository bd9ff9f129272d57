"""Bakes, resumes, draws, plots and hands over a toy; run in a process that has registered it."""

import os
from pathlib import Path


def check(folder: str) -> None:
    """Raise unless everything that asks the registry knows the toy."""
    os.environ["URST_STORE"] = f"{folder}/store"
    os.environ.setdefault("URST_DATABASE", "postgresql://x@127.0.0.1:1/x")
    from tests.shots import falling_box
    from urst.bake import runner
    from urst.handover.export import export
    from urst.shot.document import dumps, loads, parse
    from urst.shot.forecast import forecast
    from urst.shot.keys import layer_keys
    from urst.shot.preflight import preflight
    from urst.shot.quality import draft
    from urst.store.holding import look
    from urst.store.store import Store
    from urst.web import app, data, health, recipe

    document = falling_box(9).model_dump(mode="json")
    document["layers"].append({"id": "ring", "name": "Ring", "kind": "toy", "reads": ["fall"]})
    shot = parse(document)
    assert loads(dumps(shot)) == shot
    assert preflight(shot) == [] and forecast(shot, "ring").count == 12
    assert draft(shot).layer("ring").settings.count == 6
    store = Store(os.environ["URST_STORE"])
    runner.bake(shot, store)
    key = layer_keys(shot)["ring"]
    assert store.frames(key) == list(range(1, 10))
    found = health.layer_health(shot, shot.layer("ring"), key, [], {key: look(store, key)})
    assert (found["state"], found["chief"], len(found["gauges"]["spread"])) == ("fresh", "spread", 9)
    assert [
        q.text for q, _ in recipe.rows(shot.layer("ring").settings, shot.kind_of(shot.layer("ring")).questions, shot)
    ]
    assert len(data.frames(key, 4, 4).body) > 12 * 12
    assert b".kind-toy" in app.hues().body
    files = export(shot, store.root, Path(folder) / "out", ["points", "csv", "movie"])
    assert {p.name for p in files} == {"ring.usd", "ring.gauges.csv", "fall.gauges.csv", "preview.mp4"}, files
    print("the toy bakes, is drawn and handed over")
