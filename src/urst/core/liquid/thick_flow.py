"""Viscosity and pressure of one step: one after the other where little rubs, else until they agree."""

import numpy as np

from urst.core.fields.pressure import Solution
from urst.core.liquid.pressure_step import PressureStep

#: they are found one after the other where viscosity reaches so far in a step, as a share of a cell's square
THIN = 0.02
#: they agree once what pressure still does after viscosity is this share of the greatest speed, or of what gravity
#: adds in a step times the second, and are taken as they are after so many rounds
AGREED, STILL, MOST = 0.02, 1e-3, 8


def solve(
    step: PressureStep,
    velocity: list[np.ndarray],
    viscosity: float,
    dt: float,
    before: np.ndarray,
    growth: np.ndarray,
    grown: np.ndarray | None,
    fall: float,
    tolerance: float,
) -> tuple[list[np.ndarray], np.ndarray, Solution, int]:
    """Let viscosity act on a flow and make it free of divergence but for a source.

    A flow that is first rubbed and then made free of divergence has not rubbed as it goes in the end: what sinks in
    syrup sinks too fast. So a pressure is foreseen before viscosity acts, at first that of the step before (Goda
    1979), and what is missing of it afterwards tells of a better one: a Uzawa iteration with the preconditioner of
    Cahouet & Chabard 1988, each guess the best combination of those before (Anderson 1965).

    Parameters
    ----------
    step : PressureStep
    velocity : three arrays of faces, float32
        With all forces but these two; not kept [m/s].
    viscosity : float [Pa s]
    dt : float [s]
    before : (nx, ny, nz) float32
        About the pressure, as `PressureStep.project` returns it [m/s].
    growth, grown : arrays
        See `PressureStep.project`.
    fall : float
        What gravity has added in this step [m/s].
    tolerance : float
        Of the pressure solve.

    Returns
    -------
    (velocity, pressure, Solution, rounds)
        Rounds are the most of any viscosity solve.
    """
    reach = viscosity / step.density * dt / step.walls.cell**2
    if reach < THIN:
        rounds = step.apply_viscosity(velocity, viscosity, dt) if viscosity > 0.0 else 0
        return velocity, *step.project(velocity, growth, tolerance, grown), rounds
    own, guess, rounds, guesses = step.node_velocity, before, 0, _Guesses()
    for turn in range(MOST):
        flow = [u.copy() for u in velocity]
        step.begin(own)
        guess = step.foresee(flow, guess)
        rounds = max(rounds, step.apply_viscosity(flow, viscosity, dt))
        # what is rubbed loses as much divergence to viscosity as it has
        own_pressure = np.float32(reach) * step.divergence(flow, growth)
        missing, solution = step.project(flow, growth, tolerance, grown)
        if _size(missing) <= max(AGREED * np.sqrt(sum(_size(u) ** 2 for u in flow)), STILL * fall):
            break
        if turn + 1 < MOST:
            guess = guesses.next(guess, missing + own_pressure)
    return flow, guess + missing, solution, rounds


def _size(x: np.ndarray) -> float:
    """Root of the mean square of what is not 0."""
    return float(np.sqrt(np.vdot(x, x) / max(np.count_nonzero(x), 1)))


class _Guesses:
    """Guesses of what solves a linear equation, each tried with what it was off by."""

    def __init__(self) -> None:
        self.tried: list[tuple[np.ndarray, np.ndarray]] = []

    def next(self, guess: np.ndarray, off: np.ndarray) -> np.ndarray:
        """Return what is better than a guess that is off by about so much, as far as those before tell."""
        steps = np.array([(guess - g).ravel() for g, _ in self.tried], np.float32)
        turns = np.array([(off - o).ravel() for _, o in self.tried], np.float32)
        self.tried.append((guess, off))
        if not len(steps):
            return guess + off
        share = np.linalg.lstsq(turns @ turns.T.astype(float), turns @ off.ravel().astype(float), rcond=1e-10)[0]
        change = off.ravel() - share.astype(np.float32) @ (steps + turns)
        return guess + change.reshape(guess.shape)
