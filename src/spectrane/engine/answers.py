"""What was found about sources and asked again soon: one bounded store for all of this process."""

from __future__ import annotations

import itertools
import threading
import weakref
from collections import OrderedDict
from collections.abc import Callable, Hashable
from typing import Any, TypeVar

T = TypeVar("T")
LIMIT = 16 << 20
_SMALL = 512
"""Bytes that an answer without a size of its own counts for."""


class Answers:
    """Answers to questions about sources, the least recently asked dropped first.

    A question is anything hashable that says all that the answer depends on besides the source; an
    answer must not hold the source, or it would never go. Safe to use from several threads; two
    that ask the same at once may both find it.

    >>> class Asked: pass
    >>> answers, asked = Answers(limit=1000), Asked()
    >>> [answers.find(asked, "six times seven", lambda: 42) for _ in range(2)], len(answers)
    ([42, 42], 1)
    """

    def __init__(self, limit: int = LIMIT) -> None:
        self.limit = limit
        self.held = 0
        self._found: OrderedDict[tuple[int, Hashable], tuple[Any, int]] = OrderedDict()
        self._numbers: weakref.WeakKeyDictionary[Any, int] = weakref.WeakKeyDictionary()
        self._next = itertools.count()
        self._lock = threading.Lock()

    def __len__(self) -> int:
        return len(self._found)

    def find(self, source: object, question: Hashable, made: Callable[[], T]) -> T:
        """Return the answer that is kept, or make it and keep it."""
        with self._lock:
            key = (self._number(source), question)
            if key in self._found:
                self._found.move_to_end(key)
                found: T = self._found[key][0]
                return found
        answer = made()
        size = max(_SMALL, int(getattr(answer, "nbytes", 0)))
        with self._lock:
            before = self._found.pop(key, (None, 0))[1]
            self._found[key] = (answer, size)
            self.held += size - before
            while self.held > self.limit:
                _, (_, dropped) = self._found.popitem(last=False)
                self.held -= dropped
        return answer

    def known(self, source: object, question: Hashable) -> Any | None:
        """Return the answer that is kept; None where there is none."""
        with self._lock:
            held = self._found.get((self._number(source), question))
            return None if held is None else held[0]

    def _number(self, source: object) -> int:
        """Return a number that no other source ever has, as an address may."""
        if source not in self._numbers:
            self._numbers[source] = next(self._next)
        return self._numbers[source]

    def clear(self) -> None:
        """Forget everything."""
        with self._lock:
            self._found.clear()
            self.held = 0


answers = Answers()
"""The store of this process."""
