"""Who waits for a long read may watch how far it is, and stop it."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterator
from contextvars import ContextVar
from typing import TypeAlias, TypeVar

from spectrane.model.window import Window, window_area

T = TypeVar("T")
Watcher: TypeAlias = Callable[[float], None]
"""Called with the share of a pass that is read, 0...1; what it raises ends the pass."""

_watcher: ContextVar[Watcher | None] = ContextVar("watcher", default=None)


@contextlib.contextmanager
def watched(watcher: Watcher | None) -> Iterator[None]:
    """Let a function be told, within, how far passes over blocks are; None: nobody.

    >>> shares, blocks = [], [(((0, 2), (0, 4)), "a"), (((2, 4), (0, 4)), "b")]
    >>> with watched(shares.append):
    ...     [held for _, held in told_walk(iter(blocks), ((0, 4), (0, 4)))]
    ['a', 'b']
    >>> shares
    [0.5, 1.0]
    """
    before = _watcher.set(watcher)
    try:
        yield
    finally:
        _watcher.reset(before)


def watching() -> Watcher | None:
    """Return who watches here, so that a thread that works for it may be watched too."""
    return _watcher.get()


def told_walk(walk: Iterator[tuple[Window, T]], window: Window) -> Iterator[tuple[Window, T]]:
    """Walk blocks of a window, and tell whoever watches; other threads may walk it too."""
    watcher = _watcher.get()
    return walk if watcher is None else _telling(walk, max(1, window_area(window)), watcher)


def _telling(
    walk: Iterator[tuple[Window, T]], total: int, watcher: Watcher
) -> Iterator[tuple[Window, T]]:
    done = 0
    for window, held in walk:
        done += window_area(window)
        watcher(min(1.0, done / total))
        yield window, held
