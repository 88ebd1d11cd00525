"""How far work is: one bar for terminals and notebooks, or whatever a caller wants told."""

from __future__ import annotations

from typing import Any, TypeAlias

from spectrane.engine.threads import Progress, no_progress

ProgressLike: TypeAlias = "Progress | bool | None"
"""True for a bar, a function that is called with (done, total), or nothing."""
SHAPE = "{desc} {bar:30} {percentage:3.0f} % {elapsed}"


def told_progress(progress: ProgressLike, label: str = "") -> Progress:
    """Return a progress callback: a bar that goes when the work is done, or the caller's own.

    >>> told = []
    >>> told_progress(lambda done, total: told.append((done, total)))(3, 4)
    >>> told
    [(3, 4)]
    """
    if progress is True:
        return _Bar(label)
    return no_progress if progress is None or progress is False else progress


class _Bar:
    """A bar of tqdm's that is made when the work begins."""

    def __init__(self, label: str) -> None:
        self._label, self._bar = label, None

    def __call__(self, done: int, total: int) -> None:
        """Take how much is done."""
        if self._bar is None:
            from tqdm.auto import tqdm

            self._bar = tqdm(total=total, desc=self._label, leave=False)
        bar: Any = self._bar
        bar.total, bar.n = total, done
        bar.refresh()
        if done >= total:
            bar.close()
            self._bar = None
