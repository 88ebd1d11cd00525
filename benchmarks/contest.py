"""A contest: every contender once per round, so that a busy machine is unfair to all alike."""

from __future__ import annotations

import statistics
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass

ROUNDS = 7


@dataclass(frozen=True)
class Row:
    """One line of the table: a ratio, what it may be, and the times behind it."""

    work: str
    best: float
    median: float
    limit: float
    seconds: float
    unit: str

    @property
    def met(self) -> bool:
        """Whether the best ratio keeps the limit."""
        return self.best <= self.limit


def contest(
    work: str, ours: Callable[[], object], base: Callable[[], object], limit: float, unit: str,
    rounds: int = ROUNDS,
) -> Row:  # fmt: skip
    """Time ``ours`` against ``base`` in interleaved rounds, after one warm-up each."""
    ours(), base()
    times: list[tuple[float, float]] = []
    for _ in range(rounds):
        times.append((_timed(ours), _timed(base)))
    mine, other = (list(column) for column in zip(*times, strict=True))
    middle = statistics.median(a / b for a, b in times)
    return Row(work, min(mine) / min(other), middle, limit, min(mine), unit)


def waited(work: str, action: Callable[[], object], seconds: float) -> Row:
    """Return the time of an action against the time it may take."""
    action()
    times = [_timed(action) for _ in range(ROUNDS)]
    best, middle = min(times), statistics.median(times)
    return Row(work, best / seconds, middle / seconds, 1.0, best, f"{seconds:g} s")


def _timed(function: Callable[[], object]) -> float:
    start = time.perf_counter()
    function()
    return time.perf_counter() - start


def two_cores() -> float:
    """Return how much longer two spinning threads take than one: about 1 on two free cores."""
    import numpy as np

    def spin() -> None:
        # Sums release the lock; the array stays in cache.
        array = np.ones(50_000)
        for _ in range(20_000):
            array.sum()

    def both() -> None:
        threads = [threading.Thread(target=spin) for _ in range(2)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()

    return min(_timed(both) for _ in range(3)) / min(_timed(spin) for _ in range(3))
