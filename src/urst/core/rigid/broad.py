"""Which bodies come near each other: pairs whose bounds overlap, by sort and sweep."""

import numpy as np

from urst.core.jit import serial


@serial
def pairs(low, high, moves, loose, out):
    """Write the pairs of bodies whose bounds overlap, sorted.

    Bounds are swept along the axis on which their middles are spread most (Baraff 1992, Dynamic Simulation of
    Non-Penetrating Rigid Bodies, section 7).

    Parameters
    ----------
    low, high : (n, 3) float64 [m]
        Bounds, empty (low > high) for what is not there.
    moves, loose : (n,) bool
        A pair needs one that moves now, and one that contacts may move.
    out : (room, 2) int64
        Written, first < second.

    Returns
    -------
    int
        How many there are, or -1 if `out` has too little room.
    """
    n, axis, widest = len(low), 0, -1.0
    for c in range(3):
        count, total, square = 0, 0.0, 0.0
        for s in range(n):
            if low[s, c] <= high[s, c] and moves[s]:
                middle = 0.5 * (low[s, c] + high[s, c])
                count, total, square = count + 1, total + middle, square + middle * middle
        spread = square - total * total / count if count else 0.0
        if spread > widest:
            axis, widest = c, spread
    order = np.argsort(low[:, axis])
    first, second = (axis + 1) % 3, (axis + 2) % 3
    begin, end = low[order, axis], high[order, axis]
    low_1, high_1 = low[order, first], high[order, first]
    low_2, high_2 = low[order, second], high[order, second]
    found = 0
    keys = np.empty(len(out), np.int64)
    for s in range(n):
        last, a = end[s], order[s]
        a1, b1, a2, b2 = low_1[s], high_1[s], low_2[s], high_2[s]
        for t in range(s + 1, n):
            if begin[t] > last:
                break
            if (low_1[t] <= b1) & (high_1[t] >= a1) & (low_2[t] <= b2) & (high_2[t] >= a2):
                b = order[t]
                if not (moves[a] or moves[b]) or not (loose[a] or loose[b]):
                    continue
                if found >= len(out):
                    return -1
                keys[found] = min(a, b) * n + max(a, b)
                found += 1
    keys = np.sort(keys[:found])
    for k in range(found):
        out[k, 0], out[k, 1] = keys[k] // n, keys[k] % n
    return found
