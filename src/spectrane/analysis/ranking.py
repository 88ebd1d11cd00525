"""Exact order statistics of any number of values, in bounded memory.

8- and 16-bit numbers are counted one by one. Others are found by their bits: every pass counts
the next 16 bits of those values that share the bits already known with a wanted rank, so that
32-bit numbers need two passes and 64-bit ones four, and nothing is copied or sorted.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from functools import cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.engine.threads import in_parallel, row_parts
from spectrane.kernels import counting, tables

Counts = NDArray[np.int64]


def from_counts(values: NDArray[Any], counts: Counts, percents: Sequence[float]) -> list[float]:
    """Return percentiles of values that occur ``counts`` times; ``values`` ascending.

    Linear interpolation between order statistics: rank (n - 1) * p / 100.

    >>> from_counts(np.array([0, 10]), np.array([1, 1]), [25.0])
    [2.5]
    """
    total = int(counts.sum())
    ends = np.cumsum(counts)

    def at(rank: int) -> float:
        return float(values[np.searchsorted(ends, rank, side="right")])

    return [_between(p, total, at) for p in percents]


def _between(percent: float, total: int, at: Callable[[int], float]) -> float:
    if total == 0:
        return float("nan")
    place = (total - 1) * percent / 100
    low = int(place)
    first, share = at(low), place - low
    return first if share == 0 else first + (at(low + 1) - first) * share


class RankSearch:
    """The search for percentiles of one band's values, pass by pass.

    ``add`` takes the same values again in each pass; ``next_pass`` ends one and tells whether
    another is needed. Values are 4- or 8-byte numbers, finite; of float32 (rows, columns) others
    and a ``nodata`` value are left out. ``table`` and ``take`` let several threads count at once.

    >>> search = RankSearch([50.0])
    >>> while search.next_pass():
    ...     search.add(np.float32([3, 1, 2]))
    >>> search.percentiles()
    [2.0]
    """

    def __init__(self, percents: Sequence[float]) -> None:
        self.percents = percents
        self.total = 0
        self.dtype: np.dtype[Any] = np.dtype(np.float32)
        self._passes = -1
        self._counts: dict[int, Counts] = {0: np.zeros(65536, np.int64)}
        # Bits known so far -> {rank over all values: rank within those that share the bits}
        self._groups: dict[int, dict[int, int]] = {}

    def next_pass(self) -> bool:
        """End a pass; tell whether the values must be walked once more."""
        if self._passes == 0:
            self._first_ranks()
        if self._passes >= 0:
            self._refine()
        self._passes += 1
        needed = 16 * self._passes < 8 * self.dtype.itemsize
        return needed and not (self._passes > 0 and self.total == 0)

    def table(self) -> Counts:
        """Return an empty table for this pass, for one thread."""
        return np.zeros((len(self._counts), 65536), np.int64)

    def count(self, values: NDArray[Any], nodata: float, table: Counts, work: int = 0) -> None:
        """Count one block of values into a table; ``work`` is how many there are in all."""
        self.dtype = values.dtype
        if values.dtype != np.float32:
            self._count_bits(values.ravel(), table)
        elif self._passes == 0:
            counting.count_top.choose(work, values.size)(values, nodata, table[0])
        else:
            slots = np.zeros(65536, np.uint8)
            slots[_orders()[1][list(self._counts)]] = np.arange(1, len(self._counts) + 1)
            counting.count_low.choose(work, values.size)(values, nodata, slots, table)

    def take(self, table: Counts) -> None:
        """Add what one thread has counted."""
        if self.dtype != np.float32:
            for total, row in zip(self._counts.values(), table, strict=True):
                total += row
        elif self._passes == 0:
            finite = np.where(_finite_tops(), table[0], 0)
            self._counts[0][_orders()[0]] += finite
        else:
            for (prefix, total), row in zip(self._counts.items(), table, strict=True):
                total += row if prefix >= 0x8000 else row[::-1]

    def add(self, values: NDArray[Any]) -> None:
        """Count one block of values for this pass, on a few threads."""
        if not values.size:
            self.dtype = values.dtype
            return
        parts = row_parts(len(values.ravel()), 1)
        tables = [self.table() for _ in parts]

        def one(job: tuple[slice, Counts]) -> None:
            self.count(values.ravel()[np.newaxis, job[0]], np.nan, job[1], values.size)

        in_parallel(list(zip(parts, tables, strict=True)), lambda: one)
        for table in tables:
            self.take(table)

    def percentiles(self) -> list[float]:
        """Return the percentiles, NaN where there were no values."""
        values = {}
        for bits, wanted in self._groups.items():
            value = float(counting.from_ordered_bits(np.array([bits], object), self.dtype)[0])
            values.update(dict.fromkeys(wanted, value))
        return [_between(p, self.total, lambda rank: values[rank]) for p in self.percents]

    def _count_bits(self, values: NDArray[Any], table: Counts) -> None:
        bits = counting.ordered_bits(values)
        width, known = 8 * values.dtype.itemsize, 16 * self._passes
        next16 = (bits >> bits.dtype.type(width - known - 16)).astype(np.uint16)
        if known == 0:
            table[0] += np.bincount(next16, minlength=65536)
            return
        before = bits >> bits.dtype.type(width - known)
        for prefix, row in zip(self._counts, table, strict=True):
            row += np.bincount(next16[before == prefix], minlength=65536)

    def _first_ranks(self) -> None:
        self.total = int(self._counts[0].sum())
        places = [(self.total - 1) * p / 100 for p in self.percents] if self.total else []
        ranks = {r for p in places for r in (int(p), min(int(p) + 1, self.total - 1))}
        self._groups = {0: {rank: rank for rank in sorted(ranks)}}

    def _refine(self) -> None:
        refined: dict[int, dict[int, int]] = {}
        for prefix, wanted in self._groups.items():
            ends = np.cumsum(self._counts[prefix])
            for rank, inside in wanted.items():
                cell = int(np.searchsorted(ends, inside, side="right"))
                before = int(ends[cell - 1]) if cell else 0
                refined.setdefault((prefix << 16) | cell, {})[rank] = inside - before
        self._groups = refined
        self._counts = {prefix: np.zeros(65536, np.int64) for prefix in refined}


@cache
def _finite_tops() -> NDArray[np.bool_]:
    """Return which upper halves of a float's bits are those of finite numbers."""
    return np.asarray((np.arange(65536) & 0x7F80) != 0x7F80)


@cache
def _orders() -> tuple[NDArray[np.intp], NDArray[np.intp]]:
    """Return the rank of each upper half of a float's bits, and the half of each rank."""
    patterns = np.arange(65536)
    ordered = np.where(patterns & 0x8000, patterns ^ 0xFFFF, patterns | 0x8000)
    return ordered, np.argsort(ordered)


def exact_percentiles(
    blocks: Callable[[], Iterable[NDArray[Any]]], percents: Sequence[float]
) -> list[float]:
    """Return exact percentiles of finite values that ``blocks`` walks anew at each call."""
    search = RankSearch(percents)
    while search.next_pass():
        for values in blocks():
            search.add(rankable(values))
    return search.percentiles()


def rankable(values: NDArray[Any]) -> NDArray[Any]:
    """Return flat values as a type whose bits can be ranked: 1- and 2-byte ones as float32."""
    flat = values.ravel()
    return flat.astype(np.float32) if flat.dtype.itemsize < 4 else flat


def count_small(values: NDArray[Any], counts: Counts, work: int = 0) -> None:
    """Add 8- or 16-bit numbers to counts indexed by their bits (``tables.as_index``).

    ``work`` is how many there are in all, where this is one block of several.
    """
    indices = tables.as_index(np.ascontiguousarray(values))
    counting.count_indices.choose(work, values.size)(indices, counts)


def sorted_counts(dtype: np.dtype[Any], counts: Counts) -> tuple[NDArray[Any], Counts]:
    """Return the stored numbers that occur, ascending, and how often each does."""
    values = tables.index_values(dtype)[: len(counts)]
    seen = np.flatnonzero(counts)
    order = np.argsort(values[seen], kind="stable")
    return values[seen][order], counts[seen][order]
