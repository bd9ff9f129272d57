"""What has been reckoned once is remembered, as much of it as a bound on its weight allows."""

import functools
import threading
from collections import OrderedDict
from collections.abc import Callable, Hashable
from typing import Any


class Remembered:
    """Answers by what they were asked with, those forgotten first that were longest not asked for.

    Parameters
    ----------
    most : float
        Sum of the weights of all that is remembered.
    weigh : callable
        The weight of an answer, given what it was asked with and the answer.
    """

    def __init__(self, most: float, weigh: Callable[[Any, Any], float]) -> None:
        self.most, self.weigh = most, weigh
        self._answers: OrderedDict[Hashable, tuple[Any, float]] = OrderedDict()
        self._weight, self._lock = 0.0, threading.Lock()

    def get(self, asked: Hashable, make: Callable[[], Any]) -> Any:
        """Return the answer, made if it is not remembered; two who ask at once may both make it.

        Parameters
        ----------
        asked : hashable
        make : callable
        """
        with self._lock:
            if asked in self._answers:
                self._answers.move_to_end(asked)
                return self._answers[asked][0]
        answer = make()
        weight = self.weigh(asked, answer)
        with self._lock:
            if asked not in self._answers:
                self._answers[asked] = answer, weight
                self._weight += weight
            while self._weight > self.most and len(self._answers) > 1:
                _, (_, lighter) = self._answers.popitem(last=False)
                self._weight -= lighter
        return answer

    def clear(self) -> None:
        """Forget all."""
        with self._lock:
            self._answers.clear()
            self._weight = 0.0


def remembered(
    most: float, weigh: Callable[[Any, Any], float]
) -> Callable[[Callable[[Any], Any]], Callable[[Any], Any]]:
    """Return a decorator for a function of one hashable value, which is then reckoned once for each.

    Parameters
    ----------
    most, weigh : as of `Remembered`
    """

    def decorated(function: Callable[..., Any]) -> Callable[..., Any]:
        known = Remembered(most, weigh)

        @functools.wraps(function)
        def answer(asked: Any) -> Any:
            return known.get(asked, lambda: function(asked))

        answer.clear = known.clear  # type: ignore[attr-defined]
        return answer

    return decorated
