"""Points: spheres that go their way."""

import numpy as np

from urst.drawn.representation import LEVELS, Drawn, places
from urst.kinds.kind import Arrays

#: points from which on a frame has coarser levels, each with so much fewer
_MANY_POINTS, _FEWER = 100_000, 4
#: smallest and largest size of a point that is told from others [m]
_SIZES = (1e-4, 10.0)


class Points:
    """Between frames there are those of the first, as they go."""

    def encode(self, arrays: Arrays) -> list[Drawn]:
        n = len(arrays["size"])
        # any first part of a random order is a fair sample of all
        order = np.random.default_rng(n).permutation(n) if n > _MANY_POINTS else np.arange(n)
        low, high = np.log(_SIZES)
        size = np.clip((np.log(np.maximum(arrays["size"], 1e-12)) - low) / (high - low), 0, 1)
        size, found = np.rint(255 * size).astype(np.uint8)[order], []
        position = np.asarray(arrays["position"])[order]
        speed = (
            np.linalg.norm(arrays["velocity"].astype(np.float32), axis=1)[order]
            if "velocity" in arrays
            else np.zeros(n)
        )
        sort = {"sort": arrays["sort"][order]} if "sort" in arrays else {}
        fastest = float(speed.max(initial=1e-3))
        pace = np.rint(255 / fastest * speed).astype(np.uint8)
        for level in range(LEVELS + 1):
            if level and n // _FEWER ** (level - 1) <= _MANY_POINTS:
                break
            some = slice(0, n // _FEWER**level)
            meta = {"sizes": list(_SIZES), "of": n, "fastest": fastest}
            found.append(
                (
                    {"position": places(position[some]), "size": size[some], "pace": pace[some]}
                    | {n: x[some] for n, x in sort.items()},
                    meta,
                )
            )
        return found

    def between(self, first: Arrays, second: Arrays, span: float, fraction: float) -> Arrays:
        return first | {"position": first["position"] + fraction * span * first["velocity"]}
