"""What a solver's state is, saved and taken up again: written once, for all.

A class names the attributes that make up its state; the rest follows from these. After `restore(snapshot())` it goes
on to the same bytes as one that never stopped.
"""

from typing import Any, ClassVar

import numpy as np

from urst.errors import CacheDamaged

State = dict[str, np.ndarray]
#: follows the name of an attribute that is None
_NONE = "=None"


class Checkpointed:
    """Something with a state.

    `STATE` names attributes, in the order in which they are taken up: arrays, numbers, tuples of numbers, NamedTuples
    and lists of arrays, other `Checkpointed` and lists of these. An attribute may also be None. A name with dots,
    such as `bodies.velocity`, is an array that others hold as well and that is written in place.
    """

    STATE: ClassVar[tuple[str, ...]] = ()
    RECORDS: ClassVar[dict[str, type]] = {}
    """of attributes that may be None: the NamedTuple that they are otherwise, unless that is an array"""

    def snapshot(self) -> State:
        """Return the whole state as named arrays, copied."""
        found: State = {}
        for name in self.STATE:
            found |= _saved(name, _get(self, name))
        return found

    def restore(self, state: State) -> None:
        """Take up the state that `snapshot` returned.

        Parameters
        ----------
        state : dict of arrays

        Raises
        ------
        CacheDamaged
            If something of it is missing or of another shape or type.
        """
        self._restoring()
        for name in self.STATE:
            _take_up(self, name, state)
        self._restored()

    def _restoring(self) -> None:
        """Make ready for a state."""

    def _restored(self) -> None:
        """Put right what follows from the state."""


def part_of(state: State, name: str) -> State:
    """Return the part of a state that belongs to one attribute, under its own names.

    Parameters
    ----------
    state : dict of arrays
    name : str
    """
    return {k[len(name) + 1 :]: v for k, v in state.items() if k.startswith(f"{name}/")}


def _get(owner: Any, name: str) -> Any:
    for step in name.split("."):
        owner = getattr(owner, step)
    return owner


def _is_record(value: Any) -> bool:
    return isinstance(value, tuple) and hasattr(value, "_fields")


def _saved(name: str, value: Any) -> State:
    if value is None:
        return {name + _NONE: np.zeros(0, np.uint8)}
    if isinstance(value, Checkpointed):
        return {f"{name}/{k}": v for k, v in value.snapshot().items()}
    if _is_record(value):
        return {f"{name}/{k}": np.array(v) for k, v in value._asdict().items()}
    if isinstance(value, list):
        found: State = {}
        for n, x in enumerate(value):
            found |= _saved(f"{name}/{n}", x)
        return found
    # files hold no arrays without dimensions
    return {name: np.array(value, ndmin=1)}


def _take_up(owner: Checkpointed, name: str, state: State) -> None:
    now = _get(owner, name)
    if "." in name:
        now[...] = _like(now, name, state)
        return
    setattr(owner, name, _taken_up(now, name, state, type(owner)))


def _taken_up(now: Any, name: str, state: dict[str, np.ndarray], owner: type[Checkpointed]) -> Any:
    """The value of an attribute, given what it is now."""
    if name + _NONE in state:
        return None
    if isinstance(now, Checkpointed):
        now.restore(part_of(state, name))
        return now
    if _is_record(now):
        return type(now)(**{k: _typed(v, f"{name}/{k}", state) for k, v in now._asdict().items()})
    if isinstance(now, list):
        return [_taken_up(x, f"{name}/{n}", state, owner) for n, x in enumerate(now)]
    if now is None:
        record = owner.RECORDS.get(name)
        return record(**part_of(state, name)) if record else _array(name, state)
    found = _typed(now, name, state)
    if isinstance(now, np.ndarray) and now.shape == found.shape:
        # others may hold it as well
        now[...] = found
        return now
    return found


def _array(name: str, state: State) -> np.ndarray:
    if name not in state:
        raise CacheDamaged(f"A checkpoint lacks '{name}': it was written by another version or is damaged; bake again.")
    return np.array(state[name])


def _typed(now: Any, name: str, state: State) -> Any:
    """An array of the same type and as many dimensions, or a number of the same type."""
    found = _array(name, state)
    if isinstance(now, tuple) and not hasattr(now, "_fields"):
        return tuple(found.tolist())
    like = np.array(now, ndmin=1)
    if found.dtype != like.dtype or found.ndim != like.ndim:
        raise CacheDamaged(
            f"A checkpoint holds '{name}' as {found.dtype} in {found.ndim} dimensions, and {like.dtype} in "
            f"{like.ndim} are "
            "needed: it was written by another version or is damaged; bake again."
        )
    return found if isinstance(now, np.ndarray) else found.item()


def _like(now: np.ndarray, name: str, state: State) -> np.ndarray:
    found = _typed(now, name, state)
    if found.shape != now.shape:
        raise CacheDamaged(
            f"A checkpoint holds '{name}' as {found.shape}, and {now.shape} is needed: it is of another bake; bake "
            "again."
        )
    return found
