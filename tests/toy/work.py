"""Baking a toy."""

import numpy as np

from urst.kinds.prepared import PreparedLayer


class Circle:
    """The solver of a toy: an angle."""

    def __init__(self, settings, partings):
        self.settings, self.partings, self.time, self.angle = settings, partings, 0.0, 0.0

    def stable_dt(self):
        return 0.02

    def step(self, dt):
        self.angle += dt * self.settings.turn
        self.time += dt

    def _points(self):
        s = self.settings
        turns = self.angle + 2 * np.pi * np.arange(s.count) / s.count
        middle = np.zeros(3)
        for parting in self.partings:
            middle = parting.boundary.at(self.time).position.mean(axis=0)
        return middle + s.radius * np.stack([np.cos(turns), np.sin(turns), np.zeros(s.count)], axis=1)

    def frame(self):
        p = self._points().astype(np.float32)
        return {"position": p, "velocity": np.zeros_like(p), "size": np.full(len(p), 0.1, np.float32)}

    def gauges(self):
        return {"spread": float(np.ptp(self._points(), axis=0).max())}

    def snapshot(self):
        return {"state": np.array([self.time, self.angle])}

    def restore(self, state):
        self.time, self.angle = map(float, state["state"])


def prepare(inputs) -> PreparedLayer:
    """Set up a toy."""
    return PreparedLayer({}, {}, Circle(inputs.layer.settings, inputs.bodies("chips")), inputs.feeds)
