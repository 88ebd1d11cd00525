"""Trials: work that is done as ever, but whose files land in a scratch folder and vanish.

``written_whole`` and the writers of data ask here; so a dry run tells what would be written from
what really was, and nothing is touched where it would go.
"""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterator
from contextvars import ContextVar
from dataclasses import dataclass, field
from typing import Any


@dataclass
class Trial:
    """A dry run: where files lie instead, and what is planned of those written in part."""

    scratch: str
    places: dict[str, str] = field(default_factory=dict)
    planned: dict[str, dict[str, Any]] = field(default_factory=dict)
    """By target: ``shape``, ``bytes`` and ``seconds`` of the whole, from a sample."""
    folders: set[str] = field(default_factory=set)
    """Folders that would be made."""

    def place(self, path: str) -> str:
        """Return where a target is written instead; the same each time."""
        full = os.path.abspath(path)
        if full.startswith(self.scratch + os.sep):
            return full
        if full not in self.places:
            folder = os.path.join(self.scratch, str(len(self.places)))
            os.mkdir(folder)
            self.places[full] = os.path.join(folder, os.path.basename(full))
        return self.places[full]


_trial: ContextVar[Trial | None] = ContextVar("trial", default=None)


@contextlib.contextmanager
def trying() -> Iterator[Trial]:
    """Do work without keeping what it writes.

    >>> with trying() as trial:
    ...     trial.place("a.png") == trial.place("a.png"), now_trying() is trial
    (True, True)
    """
    import tempfile  # only a dry run pays for it

    with tempfile.TemporaryDirectory(prefix="spectrane-") as folder:
        trial = Trial(os.path.realpath(folder))
        before = _trial.set(trial)
        try:
            yield trial
        finally:
            _trial.reset(before)


def now_trying() -> Trial | None:
    """Return the trial that is going on; None where files are meant."""
    return _trial.get()


def bytes_of(path: str) -> int:
    """Return the bytes of a file, or of all files of a folder."""
    if os.path.isdir(path):
        inside = (os.path.join(at, name) for at, _, names in os.walk(path) for name in names)
        return sum(map(os.path.getsize, inside))
    return os.path.getsize(path)


def where_written(path: str) -> str:
    """Return where a target that was written lies: itself, or its place in a trial."""
    trial = now_trying()
    return path if trial is None else trial.places.get(os.path.abspath(path), path)
