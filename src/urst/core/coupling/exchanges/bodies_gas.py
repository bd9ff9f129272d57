"""Rigid bodies and the gas about them."""

import numpy as np

from urst.core.coupling.drag import BodyDrag
from urst.core.coupling.exchange import GasLedger
from urst.core.coupling.ports import Bodies, Gas


class Between(GasLedger):
    """Bodies that fill cells are pushed by the pressure, solved together with it; smaller ones feel form drag for the
    part of them that fills no cell.

    Parameters
    ----------
    bodies : Bodies
    gas : Gas
    readers : list
        What others follow of the bodies; one of these may be on the gas's grid.
    forth : float
        Scales what drag does to the gas.
    back : float
        Scales all that the gas does to bodies.
    """

    def __init__(self, bodies: Bodies, gas: Gas, readers: list, forth: float, back: float) -> None:
        super().__init__(gas)
        self.bodies, self.forth, self.back, self.goes_with = bodies, forth, back, bodies
        self.drag = BodyDrag(bodies)
        met = [getattr(r, "boundary", r) for r in readers]
        self.first = next(
            (int(f) for f, b in zip(gas.solids.first, gas.solids.boundaries) if any(b is m for m in met)), None
        )
        self.counts = False
        """whether the gas's own account of what its pressure gave is kept here"""
        if self.first is not None and back > 0.0:
            self.counts = gas.movable is None
            known = gas.movable if isinstance(gas.movable, _AllBodies) else _AllBodies(gas)
            gas.movable = known
            known.parts.append((slice(self.first, self.first + len(bodies.radius)), self))

    def act(self, dt: float) -> None:
        """Let drag act.

        Parameters
        ----------
        dt : float [s]
        """
        field = self.gas.field()
        self.note(*self.drag.act(field, dt, self._unresolved(), on_bodies=self.back, on_field=self.forth))

    def gauges(self) -> dict[str, float]:
        """Return what went missing on the way, as a fraction of all that passed."""
        return self._lost(self.given + self.gas.lost if self.counts else self.given)

    def _unresolved(self) -> np.ndarray:
        """How much of each body the grid does not see, 0 to 1."""
        n = len(self.bodies.radius)
        if self.first is None:
            return np.ones(n)
        solid = self.gas.solids.solid
        cells = np.bincount(solid[solid >= 0], minlength=int(self.gas.solids.first[-1]))[self.first : self.first + n]
        return 1.0 - np.minimum(1.0, cells * self.gas.cell**3 / self.bodies.volume)


class _AllBodies:
    """All bodies on a gas's grid as what its pressure pushes."""

    def __init__(self, gas: Gas) -> None:
        self.total = int(gas.solids.first[-1])
        self.parts: list[tuple[slice, Between]] = []

    def inverse_mass(self) -> np.ndarray:
        found = np.zeros(self.total)
        for place, part in self.parts:
            found[place] = part.back * part.bodies.inverse_mass()
        return found

    def inverse_inertia(self) -> np.ndarray:
        found = np.zeros((self.total, 3, 3))
        for place, part in self.parts:
            found[place] = part.back * part.bodies.inverse_inertia()
        return found

    def take(self, impulse: np.ndarray, twist: np.ndarray) -> None:
        rest = np.ones(self.total, bool)
        for place, part in self.parts:
            before = part.bodies.impulse_taken
            part.bodies.apply_impulse(part.back * impulse[place], part.back * twist[place])
            taken = (part.bodies.impulse_taken - before) / part.back
            part.note(np.zeros(3), taken, float(np.abs(impulse[place]).sum()))
            rest[place] = False
        # what stands in the gas and is no member of the group holds against it
        self.parts[0][1].note(np.zeros(3), impulse[rest].sum(axis=0), float(np.abs(impulse[rest]).sum()))
