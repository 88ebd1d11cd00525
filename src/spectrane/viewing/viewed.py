"""What a live view is asked, whatever it shows: rasters, or volumes."""

from __future__ import annotations

import contextlib
import threading
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Protocol, TypeAlias

import numpy as np
from numpy.typing import NDArray

from spectrane.engine import cache
from spectrane.engine.watching import watched
from spectrane.kernels.choice import weighed_alone
from spectrane.model.errors import SpectraneError

Asked: TypeAlias = Mapping[str, str]
Answer: TypeAlias = Callable[[Asked], dict[str, Any]]
Drawn: TypeAlias = tuple[NDArray[np.uint8], dict[str, Any]]
"""A panel's pixels (rows, columns, 4), and what is to be told of it."""


class Stopped(SpectraneError):
    """Work that somebody ended."""


BLOCKS = 32 << 20
"""Bytes of decoded blocks that are kept while a live view draws."""


@dataclass
class Work:
    """How far long work is, and whether it is to stop; read without waiting for it."""

    share: float | None = None
    stopping: threading.Event = field(default_factory=threading.Event)
    _running: int = 0
    _lock: Any = field(default_factory=threading.Lock)

    @contextlib.contextmanager
    def going_on(self) -> Iterator[None]:
        """Watch what is read within. Raises Stopped where that was asked for."""
        with self._lock:
            self._running += 1
            if self._running == 1:
                self.stopping.clear()
        try:
            with watched(self._told), cache.blocks.for_views(BLOCKS), weighed_alone():
                yield
        finally:
            with self._lock:
                self._running -= 1
                self.share = None

    def _told(self, share: float) -> None:
        self.share = share
        if self.stopping.is_set():
            raise Stopped("stopped: nothing new was drawn; zoom in, or make overviews "
                          "(spectrane amend FILE --overviews)")  # fmt: skip


class Viewed(Protocol):
    """What is seen, how it changes, and what may be asked of it."""

    kind: str
    """``raster`` or ``volume``."""

    @property
    def answers(self) -> Mapping[str, Answer]:
        """What may be asked by name."""

    @property
    def savers(self) -> Mapping[str, Callable[[str, int], list[str]]]:
        """What may be saved by name: each takes a folder and bits, and returns paths."""

    def frozen(self) -> Viewed:
        """Return it as it is now, whatever changes later: answers are made of that."""

    def change(self, action: Mapping[str, Any]) -> None:
        """Carry out a change, ``undo``, ``redo`` and ``size`` among them."""

    def draw(self, before: bool) -> Sequence[Drawn]:
        """Draw every panel; ``before`` shows all as it came."""

    def state(self) -> dict[str, Any]:
        """Tell how everything is shown."""

    def choices(self) -> dict[str, Any]:
        """Tell what there is to choose from."""

    def kept_text(self) -> str:
        """Say what keeping the look with its file writes."""

    def keep(self) -> str:
        """Keep the look with its file, and return the sidecar's path."""
