"""Jobs of hours are asked about before they begin: a header may claim more than can be read."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator

from spectrane.model.errors import ResourceError

MOST_NUMBERS = 4 * 10**12
"""So many numbers are read for an answer without asking: some hours' work."""
_A_SECOND = 200_000_000
"""Numbers read in a second, about."""
_allowed = False  # of this process, since its threads work for the one who was asked


class LongJob(ResourceError):
    """An answer that would take hours or more, which nobody has agreed to."""


def check_work(numbers: int, name: str = "") -> None:
    """Raise LongJob, which names the file, where so many numbers would be read, unless allowed.

    >>> check_work(10**9)
    >>> check_work(10**15, "a.h5")  # doctest: +ELLIPSIS
    Traceback (most recent call last):
    ...
    spectrane.model.patience.LongJob: a.h5: 1.0e+15 numbers would be read, which takes about 58 ...
    """
    if numbers <= MOST_NUMBERS or _allowed:
        return
    hours = numbers / _A_SECOND / 3600
    took = f"{hours:.0f} hours" if hours < 48 else f"{hours / 24:,.0f} days"
    where = f"{name}: " if name else ""
    raise LongJob(
        f"{where}{numbers:.1e} numbers would be read, which takes about {took}; ask for a part "
        "(--center and --size, or --area)"
    )


@contextlib.contextmanager
def long_jobs_allowed() -> Iterator[None]:
    """Let jobs take as long as they do: somebody was asked, and agreed."""
    global _allowed
    before, _allowed = _allowed, True
    try:
        yield
    finally:
        _allowed = before
