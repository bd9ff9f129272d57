"""Putting the demo shots into the database."""

import os

from urst.db import shots
from urst.db.engine import session
from urst.demo import basin, cask, glasshouse, granary, kiln, sluice, smoke, sparks, swell
from urst.errors import UrstError


def load(*, bake: bool = False) -> None:
    """Add each demo shot that is not there yet; with `bake`, queue those whose bake is not on disk."""
    from urst.jobs.queue import submit
    from urst.shot.keys import layer_keys
    from urst.store.store import Store

    with session() as db:
        kept = {name: shot_id for shot_id, name in shots.names(db).items()}
        few = [
            granary.shot(),
            kiln.shot(),
            glasshouse.shot(),
            smoke.shot(),
            sparks.shot(),
            sluice.shot(),
            basin.shot(),
            swell.shot(),
            cask.shot(),
            granary.coupled(),
        ]
        for shot in [granary.full(), *few]:
            if shot.name in kept:
                shot_id = kept[shot.name]
                try:
                    shot = shots.get(db, shot_id).shot
                except UrstError:
                    # one that is broken is left to who broke it
                    continue
            else:
                shot_id = shots.add(db, shot)
            # what takes minutes waits until somebody asks for it
            if bake and shot.name in {x.name for x in few}:
                store = Store(os.environ["URST_STORE"])
                last = [key for key in layer_keys(shot).values() if set(shot.frames()) <= set(store.frames(key))]
                from urst.db import runs

                if len(last) < sum(shot.kind_of(layer).moving for layer in shot.layers) and not runs.open_of(
                    db, shot_id
                ):
                    submit(shot_id, shot, [layer.id for layer in shot.layers])
