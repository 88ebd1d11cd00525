"""The one bounded cache of decoded blocks of this process."""

from __future__ import annotations

import contextlib
import threading
from collections import OrderedDict
from collections.abc import Hashable, Iterator
from typing import Any

from numpy.typing import NDArray

from spectrane.kernels.address_space import share_of_space
from spectrane.model.settings import settings


class BlockCache:
    """Decoded blocks, least recently used dropped first; safe to use from several threads.

    >>> import numpy as np
    >>> cache = BlockCache(limit=100)
    >>> cache.put("a", np.zeros(60, np.uint8))
    >>> cache.put("b", np.zeros(60, np.uint8))
    >>> cache.get("a") is None, cache.get("b") is None
    (True, False)
    """

    def __init__(self, limit: int = 256 << 20) -> None:
        self.limit = limit
        self._narrowings: list[tuple[int, int]] = []
        self._for_views = 0
        self.held = 0
        self._blocks: OrderedDict[Hashable, NDArray[Any]] = OrderedDict()
        self._lock = threading.Lock()

    def get(self, key: Hashable) -> NDArray[Any] | None:
        """Return a block, or None; whoever gets it must not change it."""
        with self._lock:
            block = self._blocks.get(key)
            if block is not None:
                self._blocks.move_to_end(key)
            return block

    def put(self, key: Hashable, block: NDArray[Any]) -> None:
        """Keep a block, and drop the oldest ones over the limit."""
        if block.nbytes > self.limit:
            return
        with self._lock:
            old = self._blocks.pop(key, None)
            self.held += block.nbytes - (old.nbytes if old is not None else 0)
            self._blocks[key] = block
            self._drop()

    def takes(self, size: int) -> bool:
        """Tell whether the blocks of one read, of so many bytes together, are kept: those of a bulk
        read would push everything else out. What is looked at again and again may fill all.
        """
        return size <= (self.limit if self._for_views else self.limit // 4)

    @contextlib.contextmanager
    def for_views(self, limit: int) -> Iterator[None]:
        """Hold at most so many bytes for a while, for reads of much the same blocks each time."""
        with self._lock:
            self._for_views += 1
        try:
            with self.narrowed(limit):
                yield
        finally:
            with self._lock:
                self._for_views -= 1

    @contextlib.contextmanager
    def narrowed(self, limit: int) -> Iterator[None]:
        """Hold at most so many bytes for a while: for jobs that go through their inputs once."""
        # Several at once, as threads have them, end in any order: the last one restores.
        with self._lock:
            widest = max([self.limit, *(before for before, _ in self._narrowings)])
            own = (widest, limit)
            self._narrowings.append(own)
            self.limit = min(self.limit, limit)
            self._drop()
        try:
            yield
        finally:
            with self._lock:
                self._narrowings.remove(own)
                self.limit = min([widest, *(asked for _, asked in self._narrowings)])

    def _drop(self) -> None:
        while self.held > self.limit:
            _, dropped = self._blocks.popitem(last=False)
            self.held -= dropped.nbytes

    def clear(self) -> None:
        """Forget everything."""
        with self._lock:
            self._blocks.clear()
            self.held = 0


blocks = BlockCache(share_of_space(int(settings.memory_mb * (1 << 20)), 8))
"""The cache of this process; ``blocks.limit`` is in bytes and may be changed."""


def _set_limit(megabytes: float) -> None:
    blocks.limit = int(megabytes * (1 << 20))


settings.tell("memory_mb", _set_limit)
