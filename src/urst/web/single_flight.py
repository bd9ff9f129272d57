"""Answers that many ask for at the same time are made once, and again only when something they tell of has changed."""

import threading
import time
from collections import OrderedDict
from collections.abc import Callable, Hashable
from typing import Any

#: answers that are kept
_KEPT = 512


class SingleFlight:
    """Answers by what was asked, each with the stamp it was made at."""

    def __init__(self) -> None:
        self._kept: OrderedDict[Hashable, tuple[Any, Any]] = OrderedDict()
        self._locks: dict[Hashable, threading.Lock] = {}
        self._lock = threading.Lock()

    def shared(self, asked: Hashable, make: Callable[[], Any]) -> Any:
        """Return an answer that was begun after it was asked for; those who ask while one is being made share the
        next."""
        came = time.monotonic()
        with self._turn(asked):
            kept = self._kept.get(asked)
            if kept is not None and kept[0] >= came:
                return kept[1]
            began = time.monotonic()
            answer = make()
            self._keep(asked, began, answer)
            return answer

    def get(self, asked: Hashable, stamp: Hashable, make: Callable[[], Any]) -> Any:
        """Return the answer to what is asked at a stamp; None as a stamp: it may change unseen, so it is made anew.

        Who asks while it is being made waits for that.
        """
        with self._turn(asked):
            kept = self._kept.get(asked)
            if kept is not None and stamp is not None and kept[0] == stamp:
                return kept[1]
            answer = make()
            self._keep(asked, stamp, answer)
            return answer

    def _turn(self, asked: Hashable) -> Any:
        with self._lock:
            return self._locks.setdefault(asked, threading.Lock())

    def _keep(self, asked: Hashable, stamp: Hashable, answer: Any) -> None:
        with self._lock:
            self._kept[asked] = stamp, answer
            self._kept.move_to_end(asked)
            while len(self._kept) > _KEPT:
                old, _ = self._kept.popitem(last=False)
                self._locks.pop(old, None)
