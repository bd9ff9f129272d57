"""Bodies: what moves rigidly, and the bonds between."""

from urst.kinds.offers.offer import Facts, Offer


class BodyFacts(Facts):
    """Which pieces move, and which of them may come apart."""

    pieces: tuple[int, ...]
    """pieces the bodies are of; the arrays' `piece` counts in this list"""
    parting: tuple[int, ...] = ()
    """those of them that consist of fragments"""
    fragments: int = 0
    """how many these are"""
    area: float = 0.0
    """faces that may part [m2]"""


BODIES = Offer(
    "bodies",
    BodyFacts,
    outputs={
        "position": "(n, 3) [m]",
        "orientation": "(n, 4) unit quaternions, scalar first",
        "parted": "(b,) bool: bonds that have parted",
    },
    static={"...": "what `Fragments.to_arrays` and `Patches.to_arrays` give", "bond": "(b,) int64: patch of each bond"},
)
