"""Bodies: poses of what moves rigidly."""

import numpy as np

from urst.core.geometry import rotation
from urst.drawn.representation import Drawn, places
from urst.kinds.kind import Arrays


class Bodies:
    """Places follow the cubic with the velocities of both frames (Hermite); turns are those of both spins, blended, so
    that what turns by more than half a turn a frame turns the right way round."""

    def encode(self, arrays: Arrays) -> list[Drawn]:
        out = {"position": places(arrays["position"])}
        out["orientation"] = np.rint(32767 * np.asarray(arrays["orientation"])).astype(np.int16)
        # a probe reads these off
        out["velocity"] = np.asarray(arrays["velocity"], np.float16)
        if "awake" in arrays:
            out |= {
                "awake": arrays["awake"].astype(np.uint8),
                "pressed": np.minimum(arrays["pressed"], 6e4).astype(np.float16),
            }
        if "touch_point" in arrays:
            out |= {"touch_point": arrays["touch_point"], "touch_force": arrays["touch_force"]}
        if "bond_alive" in arrays:
            out |= {
                "bond_alive": arrays["bond_alive"].astype(np.uint8),
                "bond_load": arrays["bond_load"].astype(np.float16),
            }
        return [(out, {})]

    def between(self, first: Arrays, second: Arrays, span: float, fraction: float) -> Arrays:
        t = fraction
        a, b = first["position"].astype(float), second["position"].astype(float)
        v, w = span * first["velocity"].astype(float), span * second["velocity"].astype(float)
        position = (
            (2 * t**3 - 3 * t**2 + 1) * a + (t**3 - 2 * t**2 + t) * v + (3 * t**2 - 2 * t**3) * b + (t**3 - t**2) * w
        )
        # what was struck in between goes straight: a cubic would swing out past both ends
        struck = np.linalg.norm(b - a - 0.5 * (v + w), axis=1) > 0.5 * np.linalg.norm(b - a, axis=1) + 1e-4
        position[struck] = ((1 - t) * a + t * b)[struck]
        ahead = _turned(first["orientation"], t * span * first["spin"].astype(float))
        back = _turned(second["orientation"], (t - 1) * span * second["spin"].astype(float))
        back *= np.where((ahead * back).sum(axis=1, keepdims=True) < 0.0, -1.0, 1.0)
        mixed = (1 - t) * ahead + t * back
        return first | {"position": position, "orientation": mixed / np.linalg.norm(mixed, axis=1, keepdims=True)}


def _turned(orientation: np.ndarray, turn: np.ndarray) -> np.ndarray:
    angle = np.linalg.norm(turn, axis=1, keepdims=True)
    half = 0.5 * angle
    axis = np.divide(turn, angle, out=np.zeros_like(turn), where=angle > 0.0)
    return rotation.product(np.concatenate([np.cos(half), np.sin(half) * axis], axis=1), orientation.astype(float))
