"""Threads for kernels that release the GIL, and the progress callback."""

from __future__ import annotations

import os
import threading
from collections.abc import Callable, Iterator, Sequence
from itertools import pairwise
from typing import Any, TypeAlias, TypeVar

from spectrane.kernels.address_space import share_of_space
from spectrane.kernels.quiet import quiet
from spectrane.model.settings import settings

T = TypeVar("T")
Progress: TypeAlias = Callable[[int, int], None]
"""Called with (done, total) in units of the job's own choosing."""

MOST_THREADS = 8
_PER_THREAD = 160 << 20
"""Bytes of addresses that a thread's stack and its share of the allocator take, and its work."""


def no_progress(done: int, total: int) -> None:
    """Do nothing: the default progress callback."""


def thread_count() -> int:
    """Return how many threads a job may use: the cores this process may run on, at most 8.

    Fewer where address space is limited, of which each thread takes its part at its start.
    """
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
    that each may own its buffers. Thread w takes items w, w + n, …. The first exception stops
    the others and is raised; an interrupt does too.

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
    stop = threading.Event()

    def run(which: int) -> None:
        try:
            handle = quiet(worker())
            for item in items[which::count]:
                if stop.is_set():
                    return
                handle(item)
        except BaseException as error:
            failures.append(error)
            stop.set()

    others = [threading.Thread(target=run, args=(w,), daemon=True) for w in range(1, count)]
    for thread in others:
        thread.start()
    run(0)
    for thread in others:
        thread.join()
    if failures:
        raise failures[0]


def as_they_come(
    items: Iterator[T], worker: Callable[[], Callable[[T], object]], *, threads: int | None = None
) -> None:
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

    count = threads or thread_count()
    in_parallel(range(count), lambda: drain, threads=count)


def row_parts(rows: int, per_row: int, least: int = 250_000) -> list[slice]:
    """Cut rows into one part per thread, each of at least ``least`` elements.

    >>> row_parts(10, 10)
    [slice(0, 10, None)]
    """
    count = max(1, min(thread_count(), rows * per_row // least, rows))
    edges = [rows * k // count for k in range(count + 1)]
    return [slice(a, b) for a, b in pairwise(edges)]
