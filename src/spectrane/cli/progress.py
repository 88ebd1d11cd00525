"""A progress bar on the terminal, once a person has waited."""

from __future__ import annotations

import contextlib
import sys
import threading
from collections.abc import Callable, Iterator
from typing import Any

from spectrane.cli.streams import as_told
from spectrane.engine.bars import SHAPE
from spectrane.model.printing import printable_line

_PATIENCE = 1.0
"""Seconds before a person is told that something is going on."""


_shown: _Bar | None = None
"""The bar of the command that runs; work inside it tells its progress there."""


@contextlib.contextmanager
def progress_bar(label: str, quiet: bool) -> Iterator[Callable[[int, int], None]]:
    """Yield a progress callback; a bar appears on a terminal when work takes over a second.

    Inside another one it is the same bar, which says what it is about now.
    """
    global _shown
    if not sys.stderr.isatty() or quiet:
        yield lambda done, total: None
        return
    outer = _shown
    bar = outer or _Bar(label)
    bar.about(label)
    _shown = bar
    try:
        yield bar.update
    finally:
        _shown = outer
        if outer is None:
            bar.stop()


def out_of_the_way() -> None:
    """Take the bar away, since something is about to be written; it comes back after a while."""
    if _shown is not None:
        _shown.hide()


class _Bar:
    """A progress bar that is not even imported before it is needed."""

    def __init__(self, label: str) -> None:
        self.label = printable_line(as_told(label))
        self._lock = threading.Lock()
        self._shown: Any = None
        self._last: tuple[int, int] | None = None
        self._over = False
        self._wait()

    def _wait(self) -> None:
        self._timer = threading.Timer(_PATIENCE, self._show)
        self._timer.daemon = True
        self._timer.start()

    def about(self, label: str) -> None:
        """Say what is done now; nothing of it yet."""
        self.label, self._last = printable_line(as_told(label)), None
        if self._shown is not None:
            self._shown.set_description_str(self.label, refresh=False)
            self.update(0, 1)

    def hide(self) -> None:
        """Clear the bar away, and begin to wait anew."""
        self._clear()
        self._wait()

    def _show(self) -> None:
        from tqdm.std import tqdm

        with self._lock:
            if self._over or self._shown is not None:
                return
            self._shown = tqdm(total=1, desc=self.label, leave=False, bar_format=SHAPE,
                               file=sys.stderr)  # fmt: skip
        if self._last:
            self.update(*self._last)

    def update(self, done: int, total: int) -> None:
        """Take how much is done."""
        self._last = (done, total)
        bar = self._shown
        if bar is not None:
            bar.total, bar.n = max(1, total), done
            bar.refresh()

    def stop(self) -> None:
        """Clear the bar away for good."""
        self._over = True
        self._clear()

    def _clear(self) -> None:
        self._timer.cancel()
        with self._lock:
            if self._shown is not None:
                self._shown.close()
                self._shown = None
