"""A value that is found when it is first asked for, by one thread, and goes along when pickled."""

from __future__ import annotations

import threading
from collections.abc import Callable
from typing import Generic, TypeVar

T = TypeVar("T")


class Once(Generic[T]):
    """Holds what ``find`` answered first; who asks meanwhile waits.

    >>> once = Once()
    >>> once.get(lambda: 42), once.get(lambda: 43)
    (42, 42)
    """

    def __init__(self) -> None:
        self._found: list[T] = []
        self._lock = threading.RLock()

    def get(self, find: Callable[[], T]) -> T:
        """Return the value, found now if it was not before."""
        with self._lock:
            if not self._found:
                self._found.append(find())
            return self._found[0]

    def __getstate__(self) -> list[T]:
        return self._found

    def __setstate__(self, found: list[T]) -> None:
        self._found, self._lock = found, threading.RLock()
