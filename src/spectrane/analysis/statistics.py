"""Statistics of bands: one pass in blocks, exact, no-data and non-finite numbers left out."""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from dataclasses import asdict, dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.analysis.ranking import (
    RankSearch,
    count_small,
    from_counts,
    rankable,
    sorted_counts,
)
from spectrane.analysis.walking import walk
from spectrane.engine.remembered import keep, recall
from spectrane.engine.threads import Progress, no_progress
from spectrane.model.band import Band
from spectrane.model.source import Source
from spectrane.model.window import Window, area, whole

PERCENTS = (1.0, 50.0, 99.0)
_WORTH_KEEPING = 250_000
"""Statistics of so many pixels and more are kept in the user's cache."""
_VERSION = "statistics 1"


@dataclass(frozen=True)
class BandStatistics:
    """What is known of one band's valid values, in physical values and the band's unit.

    ``std`` has divisor N. All but the counts are NaN where nothing is valid.
    """

    band: str
    valid: int
    invalid: int
    min: float
    max: float
    mean: float
    std: float
    p1: float
    p50: float
    p99: float
    unit: str | None


@dataclass
class Moments:
    """Count, range, mean and squared deviations of stored numbers, merged block by block."""

    count: int = 0
    low: float = math.inf
    high: float = -math.inf
    mean: float = 0.0
    squares: float = 0.0

    def add(self, values: NDArray[Any]) -> None:
        """Take one more block (Chan, Golub and LeVeque's merge of means and squares)."""
        if not values.size:
            return
        wide = values.astype(np.float64)
        count, mean = values.size, float(wide.mean())
        wide -= mean
        squares = float(np.dot(wide, wide))
        total = self.count + count
        shift = mean - self.mean
        self.squares += squares + shift * shift * self.count * count / total
        self.mean += shift * count / total
        self.count = total
        self.low, self.high = (
            min(self.low, float(values.min())),
            max(self.high, float(values.max())),
        )

    def physical(self, band: Band) -> dict[str, float]:
        """Return mean, σ (divisor N), least and greatest in a band's unit; NaN of nothing."""
        if not self.count:
            return dict.fromkeys(("mean", "std", "min", "max"), math.nan)
        ends = [value * band.scale + band.offset for value in (self.low, self.high)]
        std = math.sqrt(max(self.squares / self.count, 0.0)) * abs(band.scale)
        mean = self.mean * band.scale + band.offset
        return {"mean": mean, "std": std, "min": min(ends), "max": max(ends)}


def small(dtype: np.dtype[Any]) -> bool:
    """Tell whether every number of a type can be counted by itself."""
    return dtype.kind in "biu" and dtype.itemsize <= 2


def band_statistics(
    source: Source, bands: Sequence[int], window: Window | None = None,
    progress: Progress = no_progress,
) -> list[BandStatistics]:  # fmt: skip
    """Return the statistics of bands (indices from 0) over a window (None: everything).

    8- and 16-bit data take one pass; other types one pass and, for the percentiles, one per 16
    bits. ``progress`` counts the first pass's pixels.
    """
    key = _key(source, bands) if window in (None, whole(source.shape)) else None
    known = recall(key) if key else None
    if known is not None:
        return [BandStatistics(**one) for one in known]
    found = _measured(source, bands, whole(source.shape) if window is None else window, progress)
    if key:
        keep(key, [asdict(one) for one in found])
    return found


def _key(source: Source, bands: Sequence[int]) -> tuple[Any, ...] | None:
    """Return what the statistics of whole bands depend on; None where that cannot be told."""
    if source.state is None or area(whole(source.shape)) < _WORTH_KEEPING:
        return None
    rules = [repr(band.nodata) for band in source.bands]
    described = [(k, repr(source.bands[k])) for k in bands]
    return (_VERSION, source.state, source.nodata_when, rules, described)


def _measured(
    source: Source, bands: Sequence[int], window: Window, progress: Progress
) -> list[BandStatistics]:
    if small(source.dtype):
        return _from_all_counts(source, bands, window, progress)
    moments = [Moments() for _ in bands]
    searches = [RankSearch(PERCENTS) for _ in bands]
    first = True
    while _any_needed(searches):
        for blocks in walk(source, bands, window, progress if first else no_progress):
            for one, search, values in zip(moments, searches, blocks, strict=True):
                if first:
                    one.add(values)
                search.add(rankable(values))
        first = False
    return [
        _told(source.bands[index], one, search.percentiles(), area(window))
        for index, one, search in zip(bands, moments, searches, strict=True)
    ]


def _any_needed(searches: Sequence[RankSearch]) -> bool:
    return sum(search.next_pass() for search in searches) > 0  # every one must end its pass


def band_counts(
    source: Source, bands: Sequence[int], window: Window, progress: Progress = no_progress
) -> list[tuple[NDArray[Any], NDArray[np.int64]]]:
    """Return for each band of 8 or 16 bits the stored numbers that occur and how often."""
    size = 1 << (8 * source.dtype.itemsize)
    counts = np.zeros((len(bands), size), np.int64)
    for blocks in walk(source, bands, window, progress):
        for table, values in zip(counts, blocks, strict=True):
            count_small(values, table)
    return [sorted_counts(source.dtype, table) for table in counts]


def _from_all_counts(
    source: Source, bands: Sequence[int], window: Window, progress: Progress
) -> list[BandStatistics]:
    found = []
    counted = band_counts(source, bands, window, progress)
    for index, (values, counts) in zip(bands, counted, strict=True):
        ranks = from_counts(values, counts, PERCENTS)
        found.append(_told(source.bands[index], moments_of(values, counts), ranks, area(window)))
    return found


def counts_of(
    blocks: Iterable[NDArray[Any]],
) -> tuple[NDArray[np.float64], NDArray[np.int64]]:
    """Return the distinct values of blocks, ascending, in float64, and how often each occurs."""
    known, counts = np.zeros(0), np.zeros(0, np.int64)
    for values in blocks:
        both = np.concatenate([known, values.ravel().astype(np.float64)])
        often = np.concatenate([counts, np.ones(values.size, np.int64)])
        order = np.argsort(both, kind="stable")
        both, often = both[order], often[order]
        first = np.flatnonzero(np.concatenate([[True], both[1:] != both[:-1]])[: both.size])
        known = both[first]
        counts = np.add.reduceat(often, first) if first.size else counts
    return known, counts


def moments_of(values: NDArray[Any], counts: NDArray[np.int64]) -> Moments:
    """Return the moments of values (ascending) that occur ``counts`` times."""
    total = int(counts.sum())
    if total == 0:
        return Moments()
    wide = values.astype(np.float64)
    mean = float(np.dot(wide, counts) / total)
    squares = float(np.dot((wide - mean) ** 2, counts))
    return Moments(total, float(wide[0]), float(wide[-1]), mean, squares)


def _told(band: Band, one: Moments, ranks: Sequence[float], pixels: int) -> BandStatistics:
    """Bring statistics of stored numbers to physical values; a negative scale swaps the ends."""
    p1, p50, p99 = (value * band.scale + band.offset if one.count else math.nan for value in ranks)
    if band.scale < 0:
        p1, p99 = p99, p1
    return BandStatistics(
        band=band.name, valid=one.count, invalid=pixels - one.count, **one.physical(band),
        p1=p1, p50=p50, p99=p99, unit=band.unit,
    )  # fmt: skip
