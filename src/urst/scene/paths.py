"""The path of a driven piece through its keys."""

import numpy as np
from scipy.spatial.transform import Slerp

from urst.core.geometry import rotation
from urst.scene.pieces import SetPiece


class Path:
    """Where a driven piece is at a frame.

    Positions run along a cubic through the keys (Catmull-Rom tangents for uneven spacing; none where it stops), turns
    along the shortest arcs; before the first and after the last key the piece stands still. What heads along its path
    turns on from how it stands by as much as its way has turned since it set out.

    Parameters
    ----------
    piece : SetPiece
        With at least one key.
    """

    def __init__(self, piece: SetPiece) -> None:
        self.frames = np.array([k.frame for k in piece.keys], float)
        self.points = np.array([k.position for k in piece.keys], float)
        self.turns = rotation.from_degrees([k.rotation for k in piece.keys])
        self._trajectory = None
        if len(self.frames) == 1:
            return
        self._span = np.diff(self.frames)
        going = [k.going for k in piece.keys]
        tangent = np.gradient(self.points, self.frames, axis=0)
        tangent[[g == "stop" for g in going]] = 0.0
        # of each span: slopes at both ends, of places and of how far it has turned
        first, last = tangent[:-1].copy(), tangent[1:].copy()
        slope = np.array([[g != "stop" for g in going[:-1]], [g != "stop" for g in going[1:]]], float)
        straight = np.array([g == "straight" for g in going[:-1]])
        even = np.diff(self.points, axis=0) / self._span[:, None]
        first[straight], last[straight], slope[:, straight] = even[straight], even[straight], 1.0
        self._first, self._last, self._slope = first, last, slope
        if piece.heads:
            self._trajectory = next((e for e in (*first, *even) if np.linalg.norm(e) > 1e-9), None)

    def __call__(self, frame: float) -> tuple[np.ndarray, np.ndarray]:
        """Return place (3,) [m] and quaternion (4,) at a frame."""
        if len(self.frames) == 1:
            return self.points[0], self.turns[0]
        f = float(np.clip(frame, self.frames[0], self.frames[-1]))
        k = min(int(np.searchsorted(self.frames, f, side="right")) - 1, len(self.frames) - 2)
        t, h = (f - self.frames[k]) / self._span[k], self._span[k]
        turn = rotation.between(self.turns[k], self.turns[k + 1], float(self._ease(k, t)))
        if self._trajectory is not None:
            turn = rotation.product(_from_to(self._trajectory, self._now(k, t, h)), turn)
        return self._place(k, t, h), turn

    def along(self, frames: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Return places (n, 3) [m] and quaternions (n, 4) at frames (n,): the same, of many in one go."""
        if len(self.frames) == 1:
            return np.tile(self.points[0], (len(frames), 1)), np.tile(self.turns[0], (len(frames), 1))
        f = np.clip(frames, self.frames[0], self.frames[-1])
        k = np.minimum(np.searchsorted(self.frames, f, side="right") - 1, len(self.frames) - 2)
        t = (f - self.frames[k]) / self._span[k]
        fraction = np.clip(self._ease(k, t), 0.0, 1.0)
        turns = Slerp(np.arange(len(self.frames)), rotation.turns(self.turns))(k + fraction)
        turn, t, h = rotation.quaternions(turns), t[:, None], self._span[k, None]
        if self._trajectory is not None:
            turn = rotation.product(_from_to(self._trajectory, self._now(k, t, h)), turn)
        return self._place(k, t, h), turn

    def speed(self, first: float, last: float, rate: float) -> float:
        """Return the greatest speed [m/s] between two frames, told a frame at a time.

        Parameters
        ----------
        first, last : float
            Frames.
        rate : float
            Frames a second.
        """
        frames = np.arange(max(first, self.frames[0]), min(last, self.frames[-1]) + 1)
        steps = np.diff(self.along(frames)[0], axis=0)
        return float(np.linalg.norm(steps, axis=1).max(initial=0.0)) * rate

    def _ease(self, k: int | np.ndarray, t: float | np.ndarray) -> float | np.ndarray:
        """How much of a span's turn is done."""
        return (t - 2 * t**2 + t**3) * self._slope[0, k] + (3 * t**2 - 2 * t**3) + (t**3 - t**2) * self._slope[1, k]

    def _place(self, k: int | np.ndarray, t: float | np.ndarray, h: float | np.ndarray) -> np.ndarray:
        return (
            (1 - 3 * t**2 + 2 * t**3) * self.points[k]
            + (t - 2 * t**2 + t**3) * h * self._first[k]
            + (3 * t**2 - 2 * t**3) * self.points[k + 1]
            + (t**3 - t**2) * h * self._last[k]
        )

    def _now(self, k: int | np.ndarray, t: float | np.ndarray, h: float | np.ndarray) -> np.ndarray:
        """The way it goes."""
        return (
            6 * (t**2 - t) * (self.points[k] - self.points[k + 1]) / h
            + (1 - 4 * t + 3 * t**2) * self._first[k]
            + (3 * t**2 - 2 * t) * self._last[k]
        )


def _from_to(first: np.ndarray, second: np.ndarray) -> np.ndarray:
    """The shortest turns from a direction (3,) to others (..., 3), as quaternions (..., 4); none where either is
    none."""
    size = np.linalg.norm(first) * np.linalg.norm(second, axis=-1, keepdims=True)
    turn = np.concatenate([size + (second @ first)[..., None], np.cross(first, second)], axis=-1)
    length = np.linalg.norm(turn, axis=-1, keepdims=True)
    # straight back: about the upright, as a vehicle turns
    turn = np.where(length < 1e-6 * size, [0.0, 0.0, 0.0, 1.0], turn / np.maximum(length, 1e-300))
    return np.where(size < 1e-12, rotation.IDENTITY, turn)
