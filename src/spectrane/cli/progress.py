"""A progress bar on the terminal, once a person has waited."""

from __future__ import annotations

import contextlib
import sys
import threading
from collections.abc import Callable, Iterator
from typing import Any

from spectrane.model.printing import printable_line

_PATIENCE = 1.0
"""Seconds before a person is told that something is going on."""


@contextlib.contextmanager
def progress_bar(label: str, quiet: bool) -> Iterator[Callable[[int, int], None]]:
    """Yield a progress callback; a bar appears on a terminal when work takes over a second."""
    bar = _Bar(label) if sys.stderr.isatty() and not quiet else None
    try:
        yield bar.update if bar else lambda done, total: None
    finally:
        if bar:
            bar.stop()


class _Bar:
    """A rich progress bar that is not even imported before it is needed."""

    def __init__(self, label: str) -> None:
        self.label = printable_line(label)
        self._lock = threading.Lock()
        self._shown: Any = None
        self._task: Any = None
        self._last: tuple[int, int] | None = None
        self._timer = threading.Timer(_PATIENCE, self._show)
        self._timer.daemon = True
        self._timer.start()

    def _show(self) -> None:
        from rich.console import Console
        from rich.progress import BarColumn, Progress, TextColumn, TimeElapsedColumn

        with self._lock:
            self._shown = Progress(
                TextColumn("{task.description}", markup=False), BarColumn(),
                TextColumn("{task.percentage:.0f} %"),
                TimeElapsedColumn(), console=Console(stderr=True), transient=True,
            )  # fmt: skip
            self._shown.start()
            self._task = self._shown.add_task(self.label, total=None)
        if self._last:
            self.update(*self._last)

    def update(self, done: int, total: int) -> None:
        """Take how much is done."""
        self._last = (done, total)
        if self._shown is not None and self._task is not None:
            self._shown.update(self._task, completed=done, total=total)

    def stop(self) -> None:
        """Clear the bar away."""
        self._timer.cancel()
        with self._lock:
            if self._shown is not None:
                self._shown.stop()
