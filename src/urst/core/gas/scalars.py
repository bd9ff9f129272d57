"""What the air carries: a list of scalars, each with rules of its own."""

from collections.abc import Sequence
from typing import Any

import numpy as np

from urst.core.air import AIR_DENSITY, AIR_TEMPERATURE
from urst.core.checkpoint import Checkpointed
from urst.core.curves.varies import constant
from urst.core.fields import advect
from urst.core.fields.advect import Places
from urst.core.gas import kernels
from urst.core.gas.settings import Scalar
from urst.core.solids.cells import Solids, clear_of_solids

#: bounds of the factor by which a concentration beside solids is put right in one step
_MENDED = (0.5, 1.5)


class Scalars(Checkpointed):
    """Concentrations and temperatures in cell centres.

    A concentration [kg/m3] is kept account of: what is given, what is there, what the solver made or lost. A
    temperature [K], over the air's, is that of what the air carries; clean air comes in at none.

    Parameters
    ----------
    rules : list of Scalar
    solids : Solids
        What the air goes round.
    cell : float [m]
    """

    STATE = ("values", "given", "left", "drifted")

    def __init__(self, rules: Sequence[Scalar], solids: Solids, cell: float) -> None:
        self.rules, self.solids, self.cell = tuple(rules), solids, cell
        self.values = np.zeros((len(self.rules), *solids.solid.shape), np.float32)
        """(k, nx, ny, nz), in the order of the rules"""
        self.given, self.left, self.drifted = (np.zeros(len(self.rules)) for _ in range(3))
        """of each concentration: what was given, what left through the sides, and what the solver itself made [kg]"""
        self._hot = np.array([r.is_temperature() for r in self.rules])
        # what has held nothing so far needs no work
        self._used = np.zeros(len(self.rules), bool)

    def __getitem__(self, name: str) -> np.ndarray:
        """Return the field of a name, (nx, ny, nz); it may be written to."""
        number = [r.name for r in self.rules].index(name)
        self._used[number] = True
        return self.values[number]

    def used(self) -> list[int]:
        """Return the numbers of those that hold something, or have done so."""
        return [int(n) for n in np.flatnonzero(self._used)]

    def _restored(self) -> None:
        self._used = np.array([x.any() for x in self.values])

    def concentration(self) -> np.ndarray:
        """Return the sum of all concentrations, (nx, ny, nz) [kg/m3]."""
        found = self.values[~self._hot]
        return found[0] if len(found) == 1 else found.sum(axis=0)

    def mass(self) -> float:
        """Return how much there is of all concentrations [kg]."""
        return self._sum(self.values[~self._hot]) * self.cell**3

    def give(self, number: int, added: np.ndarray, now: Sequence[Scalar]) -> None:
        """Add to a concentration; what is added brings its temperatures along.

        Parameters
        ----------
        number : int
            Which of the rules.
        added : (nx, ny, nz) float32 [kg/m3]
        now : list of Scalar
            The rules as they stand at this time.
        """
        hot = [n for n, r in enumerate(now) if r.is_temperature() and (constant(r.rise) or self._used[n])]
        if hot:
            fresh = added / np.maximum(self.concentration() + added, 1e-12)
            for n in hot:
                self.values[n] += fresh * (np.float32(constant(now[n].rise)) - self.values[n])
        self._used[[number, *hot]] = True
        self.given[number] += self._sum(added) * self.cell**3
        self.values[number] += added

    def advect(self, was_open: np.ndarray, places: tuple[Places, Places | None], flow: list, step: np.float32) -> None:
        """Carry all along the flow.

        Parameters
        ----------
        was_open : (nx, ny, nz) bool
            Cells that were open before the step.
        places : (Places, Places or None)
            Where each cell centre was, and will be; without the second there is no correction.
        flow : list of (..) float32
            Velocities on the faces across x, y, z.
        step : float32
            Cells that a unit of velocity crosses in the step.
        """
        (origin, goal), is_open = places, self.solids.is_open
        is_clear = clear_of_solids(was_open, is_open)
        for number in self.used():
            field = self.values[number]
            before, leaving = self._sum(field), _outflow(field, flow, step)
            ahead = np.empty_like(field)
            advect.gather_open(field, was_open, is_open, origin, ahead)
            if goal is not None:
                out = np.empty_like(field)
                advect.correct_open(field, ahead, is_clear, origin, goal, out)
                ahead = _balanced(ahead, out)
            field[:] = ahead
            _clean_inflow(field, flow)
            if not self._hot[number]:
                self._keep_mass(field, before - leaving, is_open & ~is_clear)
                self.left[number] += leaving * self.cell**3
                self.drifted[number] += (self._sum(field) - before + leaving) * self.cell**3

    def _keep_mass(self, field: np.ndarray, wanted: float, beside: np.ndarray) -> None:
        """Put right beside solids what was made or lost there, where tracing keeps no account: cells that a body
        opens or closes have no one place their content came from."""
        there = self._sum(field[beside])
        if there > 0.0:
            made = self._sum(field) - wanted
            field[beside] *= np.float32(np.clip(1.0 - made / there, *_MENDED))

    def diffuse_and_decay(self, dt: float, now: Sequence[Scalar]) -> None:
        """Spread and fade each by its rules as they stand now.

        Diffusion is implicit along one axis after another, stable at any step (Yanenko 1971, from memory), and keeps
        the sum.

        Parameters
        ----------
        dt : float [s]
        now : list of Scalar
        """
        for number in self.used():
            field, rule = self.values[number], now[number]
            diffusion = constant(rule.diffusion)
            if diffusion:
                rate = np.float32(diffusion * dt / self.cell**2)
                for axis, weight in enumerate(self.solids.weights):
                    along = [np.moveaxis(x, axis, -1) for x in (field, weight, self.solids.is_open)]
                    kernels.diffuse(*along, rate)
            field *= np.float32(np.exp(-dt * np.log(20.0) / constant(rule.clearing)))

    def buoyancy(self, now: Sequence[Scalar]) -> np.ndarray | None:
        """Return what fraction of gravity the air takes on, (nx, ny, nz) float32; None if it is none anywhere."""
        factor, used = np.array([constant(r.buoyancy) for r in now], np.float32), np.array(self.used(), np.int64)
        if not factor[used].any():
            return None
        out = np.empty(self.values.shape[1:], np.float32)
        air = np.float32(AIR_DENSITY), np.float32(AIR_TEMPERATURE)
        kernels.buoyancy(self.values, used, factor, self._hot, air, out)
        return out

    def is_finite(self) -> bool:
        """Whether all are numbers."""
        return all(np.isfinite(self.values[n].sum()) for n in self.used())

    def frame(self, keeps: Sequence[str]) -> dict[str, np.ndarray]:
        """Return what a frame keeps, float16 by name: all concentrations, and those temperatures that are chosen."""
        named = zip(self.rules, self.values)
        return {r.name: x.astype(np.float16) for r, x in named if not r.is_temperature() or r.name in keeps}

    def begin_from(self, frame: dict[str, np.ndarray]) -> None:
        """Begin with those that a frame holds by the same names; the others begin at nothing."""
        for number, rule in enumerate(self.rules):
            if rule.name in frame:
                self.values[number] = frame[rule.name]
        self._restored()
        self.given = np.where(self._hot, 0.0, [self._sum(x) * self.cell**3 for x in self.values])

    @staticmethod
    def _sum(field: np.ndarray) -> float:
        return float(field.sum(dtype=np.float64))


def _outflow(field: np.ndarray, flow: list[np.ndarray], step: np.float32) -> float:
    """What leaves through the open sides in a step, as a sum over cells: all that lies nearer to a side than the flow
    in the cells beside it goes; `step` in cells a unit of velocity."""
    total = 0.0
    for axis in range(3):
        for end, sign in ((0, -1.0), (-1, 1.0)):
            side: tuple[Any, ...] = (slice(None),) * axis
            beside = 0.5 * (flow[axis][(*side, end)] + flow[axis][(*side, 1 if end == 0 else -2)])
            crossed = np.maximum(sign * step * beside, 0.0)
            for layer in range(min(int(np.ceil(crossed.max())), field.shape[axis])):
                inner = field[(*side, layer if end == 0 else -1 - layer)]
                total += float((inner * np.clip(crossed - layer, 0.0, 1.0)).sum(dtype=np.float64))
    return total


def _clean_inflow(field: np.ndarray, flow: list[np.ndarray]) -> None:
    """Clean air comes in through open sides."""
    for axis in range(3):
        for end, sign in ((0, 1), (-1, -1)):
            side = (slice(None),) * axis + (end,)
            field[side][flow[axis][side] * sign > 0] = 0.0


def _balanced(ahead: np.ndarray, corrected: np.ndarray) -> np.ndarray:
    """The corrected field with what the correction adds and what it takes made equal: it moves things, it makes
    none."""
    change = corrected - ahead
    added, taken = np.maximum(change, 0.0), np.minimum(change, 0.0)
    more, less = float(added.sum(dtype=np.float64)), -float(taken.sum(dtype=np.float64))
    if more > less:
        added *= np.float32(less / more)
    elif less > 0.0:
        taken *= np.float32(more / less)
    return ahead + added + taken
