"""Who asks of a single pixel is in a hurry, and takes limits that are known, or a sample's."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from contextvars import ContextVar

QUICK, GLANCE = 4_000_000, 100_000
"""Of more pixels, who is in a hurry takes limits from a sample of so many values."""
_hurried: ContextVar[bool] = ContextVar("hurried", default=False)


@contextlib.contextmanager
def in_a_hurry() -> Iterator[None]:
    """Let limits of large rasters be those that are known, else a sample's."""
    before = _hurried.set(True)
    try:
        yield
    finally:
        _hurried.reset(before)


def hurried() -> bool:
    """Tell whether somebody is in a hurry."""
    return _hurried.get()
