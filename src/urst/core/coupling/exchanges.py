"""What two solvers of a group do to each other, in a table by pair. The only place that knows two solvers."""

from typing import Any, Protocol

import numpy as np

from urst.core.coupling.afloat import BodiesInLiquid
from urst.core.coupling.baked import inner
from urst.core.coupling.drag import BodyDrag, PointDrag
from urst.core.debris.solver import DebrisSolver
from urst.core.gas.solver import GasSolver
from urst.core.liquid.solver import LiquidSolver
from urst.core.rigid.solver import RigidSolver
from urst.errors import BadValue


class Exchange(Protocol):
    """Something that passes between two solvers."""

    goes_with: Any
    """the solver before whose steps it acts"""
    leads: Any
    """the solver whose steps are the rounds of the group, if that must be"""

    def begin(self, dt: float) -> None:
        """Do what is due before a round of `dt` seconds."""

    def act(self, dt: float) -> None:
        """Do what is due before that solver is stepped by `dt` seconds."""

    def gauges(self) -> dict[str, float]:
        """Return what is to be judged of it."""

    def snapshot(self) -> np.ndarray:
        """Return what is to be kept of it, float64."""

    def restore(self, state: np.ndarray) -> None:
        """Take up a ledger."""


#: exchanges smaller than this share of the air's momentum are lost in its rounding
_FLOOR = 1e-3


class _Ledger:
    """What one side gave and the other took."""

    leads = None

    def begin(self, dt: float) -> None:
        """Nothing is due."""

    def __init__(self, gas: GasSolver):
        self.gas = gas
        self.given, self.taken, self.exchanged = np.zeros(3), np.zeros(3), 0.0

    def note(self, given, taken, exchanged):
        self.given, self.taken = self.given + given, self.taken + taken
        self.exchanged += exchanged

    def gauges(self) -> dict[str, float]:
        """Return what got lost on the way, as a share of all that passed."""
        return self._lost(self.given)

    def _lost(self, given):
        scale = self.exchanged + _FLOOR * self.gas.bulk()
        return {"momentum_lost": float(np.abs(given - self.taken).sum()) / scale if scale else 0.0}

    def snapshot(self) -> np.ndarray:
        """Return the ledger."""
        return np.concatenate([self.given, self.taken, [self.exchanged]])

    def restore(self, state: np.ndarray) -> None:
        """Take up a ledger."""
        self.given, self.taken, self.exchanged = state[:3].copy(), state[3:6].copy(), float(state[6])


class BodiesInGas(_Ledger):
    """Rigid bodies and the gas about them.

    Bodies that fill cells are pushed by the pressure, solved together with it; smaller ones feel form drag, in so far as
    they fill none. `forth` scales what drag does to the gas, `back` all that the gas does to bodies.
    """

    def __init__(self, rigid: RigidSolver, gas: GasSolver, readers: list, forth: float, back: float):
        super().__init__(gas)
        self.rigid, self.forth, self.back, self.goes_with = rigid, forth, back, rigid
        self.drag = BodyDrag(rigid)
        met = [getattr(r, "boundary", r) for r in readers]
        self.first = next(
            (int(f) for f, b in zip(gas.solids.first, gas.solids.boundaries) if any(b is m for m in met)), None
        )
        self.counts = False
        """whether the gas's own account of what its pressure gave is kept here"""
        if self.first is not None and back > 0.0:
            self.counts = gas.movable is None
            known = gas.movable if isinstance(gas.movable, _GasBodies) else _GasBodies(gas)
            gas.movable = known
            known.parts.append((slice(self.first, self.first + len(rigid.radius)), self))

    def act(self, dt: float) -> None:
        field = self.gas.field()
        self.note(*self.drag.act(field, dt, self._unresolved(), on_bodies=self.back, on_field=self.forth))

    def gauges(self) -> dict[str, float]:
        return self._lost(self.given + self.gas.lost if self.counts else self.given)

    def _unresolved(self):
        """How much of each body the grid does not see, 0 to 1."""
        n = len(self.rigid.radius)
        if self.first is None:
            return np.ones(n)
        solid = self.gas.solids.solid
        cells = np.bincount(solid[solid >= 0], minlength=int(self.gas.solids.first[-1]))[self.first : self.first + n]
        return 1.0 - np.minimum(1.0, cells * self.gas.cell**3 / self.rigid.volume)


class _GasBodies:
    """All bodies on a gas's grid as what its pressure pushes."""

    def __init__(self, gas: GasSolver):
        self.total = int(gas.solids.first[-1])
        self.parts: list[tuple[slice, BodiesInGas]] = []

    def inverse_mass(self):
        found = np.zeros(self.total)
        for place, part in self.parts:
            found[place] = part.back * part.rigid.inverse_mass()
        return found

    def inverse_inertia(self):
        found = np.zeros((self.total, 3, 3))
        for place, part in self.parts:
            found[place] = part.back * part.rigid.inverse_inertia()
        return found

    def take(self, impulse, twist):
        rest = np.ones(self.total, bool)
        for place, part in self.parts:
            before = part.rigid.taken + part.rigid.held
            part.rigid.take(part.back * impulse[place], part.back * twist[place])
            taken = (part.rigid.taken + part.rigid.held - before) / part.back
            part.note(np.zeros(3), taken, float(np.abs(impulse[place]).sum()))
            rest[place] = False
        # what stands in the gas and is no member of the group holds against it
        self.parts[0][1].note(np.zeros(3), impulse[rest].sum(axis=0), float(np.abs(impulse[rest]).sum()))


class PointsInGas(_Ledger):
    """Debris and the gas it flies in: chips are dragged and drag, puffs go along."""

    def __init__(self, debris: DebrisSolver, gas: GasSolver, readers: list, forth: float, back: float):
        super().__init__(gas)
        self.forth, self.back, self.drag, self.goes_with = forth, back, PointDrag(debris), debris

    def act(self, dt: float) -> None:
        self.note(*self.drag.act(self.gas.field(), dt, on_points=self.back, on_field=self.forth))


#: by the types of two solvers, the first acting forth
EXCHANGES: dict[tuple[type, type], Any] = {
    (RigidSolver, GasSolver): BodiesInGas,
    (DebrisSolver, GasSolver): PointsInGas,
    (RigidSolver, LiquidSolver): BodiesInLiquid,
}


def exchange(first: Any, second: Any, readers: dict[int, list], forth: float, back: float) -> Exchange:
    """Return what passes between two solvers; they may come in either order.

    Parameters
    ----------
    first, second : solvers
    readers : dict
        What others take of each solver, by its id.
    forth, back : float
        How strongly the first acts on the second, and the second on the first.

    Raises
    ------
    BadValue
        If nothing passes between two such solvers.
    """
    first, second = inner(first), inner(second)
    for one, other, to, fro in ((first, second, forth, back), (second, first, back, forth)):
        make = EXCHANGES.get((type(one), type(other)))
        if make:
            return make(one, other, readers[id(one)], to, fro)
    names = " and ".join(type(s).__name__ for s in (first, second))
    raise BadValue(f"{names} cannot act on each other: remove the coupling, or let one read the other.")
