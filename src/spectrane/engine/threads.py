"""Threads for kernels that release the GIL, and the progress callback."""

from __future__ import annotations

import os
import sys
import threading
from collections import deque
from collections.abc import Callable, Iterable, Iterator, Sequence
from itertools import chain, islice, pairwise
from types import FrameType
from typing import Any, Generic, TypeAlias, TypeVar, cast

from spectrane.kernels.address_space import share_of_space
from spectrane.kernels.quiet import quiet
from spectrane.model import telling
from spectrane.model.settings import settings

T = TypeVar("T")
Made = TypeVar("Made")
Progress: TypeAlias = Callable[[int, int], None]
"""Called with (done, total) in units of the job's own choosing."""

MOST_THREADS = 8
_thread = threading.local()
_PER_THREAD = 160 << 20
"""Bytes of addresses that a thread's stack and its share of the allocator take, and its work."""


def no_progress(done: int, total: int) -> None:
    """Do nothing: the default progress callback."""


def thread_count() -> int:
    """Return how many threads a job may use: the cores this process may run on, at most 8.

    Fewer where address space is limited, of which each thread takes its part at its start; one
    for what a thread of ``made_ahead`` does.
    """
    if getattr(_thread, "is_one_of_several", False):
        return 1
    if settings.threads is not None:
        return int(settings.threads)
    available = len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count()
    fitting = share_of_space(MOST_THREADS * _PER_THREAD, 2) // _PER_THREAD
    return max(1, min(available or 1, fitting))


def in_parallel(
    items: Sequence[T], worker: Callable[[], Callable[[T], object]], *, threads: int | None = None
) -> None:
    """Do something with every item on a few threads.

    ``worker`` is called once per thread and returns the function for that thread's items, so
    that each may own its buffers. Each thread takes the next item that waits. The first exception
    stops the others and is raised; an interrupt does too.

    >>> found = []
    >>> in_parallel([1, 2, 3], lambda: found.append)
    >>> sorted(found)
    [1, 2, 3]
    """
    count = min(threads or thread_count(), len(items))
    if count <= 1:
        handle = worker()
        for item in items:
            handle(item)
        return
    failures: list[BaseException] = []
    waiting = iter(items)  # of a sequence, which hands each item to one thread
    stop = threading.Event()

    def run() -> None:
        try:
            handle = quiet(worker())
            for item in waiting:
                if stop.is_set():
                    return
                handle(item)
        except BaseException as error:
            failures.append(error)
            stop.set()

    def help_out(caller: FrameType) -> None:
        telling.warn_for(caller)
        run()

    # A frame that held itself, and with it what it works on, would wait for a search for garbage.
    others = [threading.Thread(target=help_out, args=(sys._getframe(),), daemon=True)
              for _ in range(1, count)]  # fmt: skip
    for thread in others:
        thread.start()
    run()
    for thread in others:
        thread.join()
    if failures:
        raise failures[0]


def made_ahead(items: Iterable[T], make: Callable[[T], Made]) -> Iterator[Made]:
    """Yield what is made of each item, in order, while threads make the next few.

    No thread waits for the slowest of a round, as they do where each item is shared out among all
    of them. One thread makes an item by itself: what it calls starts no others. An exception is
    raised where its item's turn comes.

    >>> list(made_ahead(range(5), lambda number: number * number))
    [0, 1, 4, 9, 16]
    """
    count, left = thread_count(), iter(items)
    first = list(islice(left, 1 if count == 1 else 2))
    if len(first) < 2:
        yield from map(make, chain(first, left))
        return
    from queue import SimpleQueue  # here, not above: only long work needs it

    todo: SimpleQueue[_Made[T, Made] | None] = SimpleQueue()
    waiting: deque[_Made[T, Made]] = deque()

    def work() -> None:
        _thread.is_one_of_several = True
        while (one := todo.get()) is not None:
            one.fill(make)
            del one  # or it would be held until the next comes

    threads = [threading.Thread(target=quiet(work), daemon=True) for _ in range(count)]
    for thread in threads:
        thread.start()
    try:
        left = chain(first, left)
        while True:
            for item in islice(left, count + 1 - len(waiting)):
                waiting.append(_Made(item))
                todo.put(waiting[-1])
            if not waiting:
                return
            yield waiting.popleft().result()
    finally:
        for one in waiting:
            one.wanted = False
        for _ in threads:
            todo.put(None)
        for thread in threads:
            thread.join()


class _Made(Generic[T, Made]):
    """What one thread makes of an item while another waits for it."""

    def __init__(self, item: T) -> None:
        self.item: T | None = item
        self.wanted = True
        self._done = threading.Lock()
        self._done.acquire()
        self._error: BaseException | None = None

    def fill(self, make: Callable[[T], Made]) -> None:
        """Make it, unless nobody waits for it any more."""
        item, self.item = cast("T", self.item), None
        try:
            if self.wanted:
                self._made = make(item)
        except BaseException as error:
            self._error = error
        self._done.release()

    def result(self) -> Made:
        """Wait for what is made; what was raised instead is raised here."""
        self._done.acquire()
        error, self._error = self._error, None
        if error is not None:
            try:
                raise error
            finally:
                del error  # its traceback holds this frame
        return self._made


def as_they_come(items: Iterator[T], worker: Callable[[], Callable[[T], object]]) -> None:
    """Do something with every item of an iterator on a few threads, each taking the next one.

    For items that are made one after another, such as blocks that are decoded: while one thread
    makes the next, others work. ``worker`` is as for ``in_parallel``.

    >>> found = []
    >>> as_they_come(iter([1, 2, 3]), lambda: found.append)
    >>> sorted(found)
    [1, 2, 3]
    """
    lock, over = threading.Lock(), object()

    def drain(_: int) -> None:
        handle = worker()
        while True:
            with lock:
                item: Any = next(items, over)
            if item is over:
                return
            handle(item)

    count = thread_count()
    in_parallel(range(count), lambda: drain, threads=count)


def row_parts(rows: int, per_row: int, least: int = 250_000) -> list[slice]:
    """Cut rows into one part per thread, each of at least ``least`` elements.

    >>> row_parts(10, 10)
    [slice(0, 10, None)]
    """
    count = max(1, min(thread_count(), rows * per_row // least, rows))
    edges = [rows * k // count for k in range(count + 1)]
    return [slice(a, b) for a, b in pairwise(edges)]
