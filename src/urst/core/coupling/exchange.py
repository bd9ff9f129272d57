"""What passes between two solvers, and the ledger of it."""

from typing import Any, Protocol

import numpy as np

from urst.core.checkpoint import Checkpointed, State
from urst.core.coupling.ports import Gas


class Exchange(Protocol):
    """Something that passes between two solvers."""

    goes_with: Any
    """the solver before whose steps it acts"""
    leads: Any
    """the solver whose steps are the rounds of the group, None if any may be"""

    def begin(self, dt: float) -> None:
        """Do what is due before a round.

        Parameters
        ----------
        dt : float [s]
        """

    def act(self, dt: float) -> None:
        """Do what is due before a step of the solver it goes with.

        Parameters
        ----------
        dt : float [s]
        """

    def gauges(self) -> dict[str, float]:
        """Return what is to be judged of it."""

    def snapshot(self) -> State:
        """Return its state."""

    def restore(self, state: State) -> None:
        """Take up a state that `snapshot` returned.

        Parameters
        ----------
        state : dict of arrays
        """


#: exchanges smaller than this fraction of the gas's momentum are lost in its rounding
_FLOOR = 1e-3


class GasLedger(Checkpointed):
    """The momentum that a gas gave and others took."""

    STATE = ("given", "taken", "exchanged")
    leads = None

    def __init__(self, gas: Gas) -> None:
        self.gas = gas
        self.given, self.taken, self.exchanged = np.zeros(3), np.zeros(3), 0.0

    def begin(self, dt: float) -> None:
        """Nothing is due.

        Parameters
        ----------
        dt : float [s]
        """

    def note(self, given: np.ndarray, taken: np.ndarray, exchanged: float) -> None:
        """Add to the ledger.

        Parameters
        ----------
        given, taken : (3,) float [N s]
        exchanged : float
            Sum of the sizes of all impulses [N s].
        """
        self.given, self.taken = self.given + given, self.taken + taken
        self.exchanged += exchanged

    def gauges(self) -> dict[str, float]:
        """Return what went missing on the way, as a fraction of all that passed."""
        return self._lost(self.given)

    def _lost(self, given: np.ndarray) -> dict[str, float]:
        scale = self.exchanged + _FLOOR * self.gas.bulk()
        return {"momentum_lost": float(np.abs(given - self.taken).sum()) / scale if scale else 0.0}
