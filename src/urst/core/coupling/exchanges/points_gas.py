"""Points and the gas they fly in."""

from urst.core.coupling.drag import PointDrag
from urst.core.coupling.exchange import GasLedger
from urst.core.coupling.ports import Gas, Points


class Between(GasLedger):
    """Chips are dragged and drag; puffs go along.

    Parameters
    ----------
    points : Points
    gas : Gas
    readers : list
        Not needed here.
    forth, back : float
        How strongly points act on the gas, and it on them; 1 is physical.
    """

    def __init__(self, points: Points, gas: Gas, readers: list, forth: float, back: float) -> None:
        super().__init__(gas)
        self.forth, self.back, self.drag, self.goes_with = forth, back, PointDrag(points), points

    def act(self, dt: float) -> None:
        """Let drag act.

        Parameters
        ----------
        dt : float [s]
        """
        self.note(*self.drag.act(self.gas.field(), dt, on_points=self.back, on_field=self.forth))
