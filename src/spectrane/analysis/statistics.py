"""Statistics of bands: one pass in blocks, exact, no-data and non-finite numbers left out."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Iterator, Sequence
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
from spectrane.analysis.walking import plain_values, told_blocks, valid_values
from spectrane.engine.remembered import found_once, worth_keeping
from spectrane.engine.threads import Progress, as_they_come, no_progress
from spectrane.kernels import measuring
from spectrane.kernels.records import record
from spectrane.kernels.tables import index_values
from spectrane.model.band import Band
from spectrane.model.physical import ends, physical_number
from spectrane.model.pixels import Pixels
from spectrane.model.source import Source
from spectrane.model.window import Window, whole, window_area

PERCENTS = (1.0, 50.0, 99.0)
_VERSION = "statistics 1"


@record(frozen=True)
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

    def add(self, values: NDArray[Any], nodata: float = math.nan, work: int = 0) -> None:
        """Take one more block: of float32 (rows, columns) what is finite and not no-data.

        ``work`` is how many numbers there are in all, where this is one block of several.
        """
        if values.dtype == np.float32:
            rows = values if values.ndim == 2 else values.reshape(1, -1)
            self.merge(Moments(*measuring.spread.choose(work, rows.size)(rows, nodata)))
            return
        if not values.size:
            return
        wide = values.ravel().astype(np.float64)
        with np.errstate(over="ignore"):  # of fill at the end of the type: the spread is infinite
            mean = float(wide.mean())
            mean = mean if math.isfinite(mean) else float((wide / wide.size).sum())
            wide -= mean
            squares = float(np.dot(wide, wide))
        self.merge(Moments(wide.size, float(values.min()), float(values.max()), mean, squares))

    def merge(self, other: Moments) -> None:
        """Take what was found of another part (Chan, Golub and LeVeque's merge)."""
        if not other.count:
            return
        total = self.count + other.count
        shift = other.mean - self.mean
        self.squares += other.squares + shift * shift * self.count * other.count / total
        self.mean += shift * (other.count / total)
        self.count = total
        self.low, self.high = min(self.low, other.low), max(self.high, other.high)

    def physical(self, band: Band) -> dict[str, float]:
        """Return mean, σ (divisor N), least and greatest in a band's unit; NaN of nothing."""
        if not self.count:
            return dict.fromkeys(("mean", "std", "min", "max"), math.nan)
        low, high = ends((self.low, self.high), band)
        std = math.sqrt(max(self.squares / self.count, 0.0)) * abs(band.scale)
        return {"mean": physical_number(self.mean, band), "std": std, "min": low, "max": high}


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
    part = whole(source.shape) if window is None else window
    rows = found_once(
        key, lambda: [asdict(one) for one in _measured(source, bands, part, progress)]
    )
    return [BandStatistics(**one) for one in rows]


def _key(source: Source, bands: Sequence[int]) -> tuple[Any, ...] | None:
    """Return what the statistics of whole bands depend on; None where that cannot be told."""
    if not worth_keeping(source):
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
        blocks = told_blocks(source, bands, window, progress if first else no_progress)
        work = window_area(window) * len(bands)
        _pass(blocks, moments if first else None, searches, work)
        first = False
    return [
        _band_statistics(source.bands[index], moment, search.percentiles(), window_area(window))
        for index, moment, search in zip(bands, moments, searches, strict=True)
    ]


def _pass(
    blocks: Iterator[Pixels], moments: Sequence[Moments] | None, searches: Sequence[RankSearch],
    work: int,
) -> None:  # fmt: skip
    """Go through all blocks once on a few threads, each with tables of its own."""
    done: list[tuple[list[Moments], list[Any]]] = []

    def worker() -> Callable[[Pixels], None]:
        mine = [Moments() for _ in searches], [search.table() for search in searches]
        done.append(mine)

        def take(pixels: Pixels) -> None:
            plain = plain_values(pixels)
            for one, search, table, (values, nodata) in zip(
                mine[0], searches, mine[1], plain, strict=True
            ):
                if moments is not None:
                    one.add(values, nodata, work)
                search.count(rankable(values), nodata, table, work)

        return take

    as_they_come(blocks, worker)
    for found, tables in done:
        for k, search in enumerate(searches):
            search.take(tables[k])
            if moments is not None:
                moments[k].merge(found[k])


def _any_needed(searches: Sequence[RankSearch]) -> bool:
    return sum(search.next_pass() for search in searches) > 0  # every one must end its pass


def band_counts(
    source: Source, bands: Sequence[int], window: Window, progress: Progress = no_progress
) -> list[tuple[NDArray[Any], NDArray[np.int64]]]:
    """Return for each band of 8 or 16 bits the stored numbers that occur and how often."""
    size, work = 1 << (8 * source.dtype.itemsize), window_area(window) * len(bands)
    tables: list[NDArray[np.int64]] = []

    def worker() -> Callable[[Pixels], None]:
        mine = np.zeros((len(bands), size), np.int64)
        tables.append(mine)

        def take(pixels: Pixels) -> None:
            # Numbers that are no-data by themselves are counted too, and left out at the end.
            alone = pixels.mask is None and pixels.alpha is None
            whole = alone and (pixels.when == "any" or len(bands) == 1)
            found = list(pixels.values) if whole else valid_values(pixels)
            for table, values in zip(mine, found, strict=True):
                count_small(values, table, work)

        return take

    as_they_come(told_blocks(source, bands, window, progress), worker)
    total = np.sum(tables, axis=0)
    if source.nodata_when == "any" or len(bands) == 1:
        for table, index in zip(total, bands, strict=True):
            table[source.bands[index].rule.invalid(index_values(source.dtype))] = 0
    return [sorted_counts(source.dtype, table) for table in total]


def _from_all_counts(
    source: Source, bands: Sequence[int], window: Window, progress: Progress
) -> list[BandStatistics]:
    rows = []
    counted = band_counts(source, bands, window, progress)
    for index, (values, counts) in zip(bands, counted, strict=True):
        ranks = from_counts(values, counts, PERCENTS)
        rows.append(
            _band_statistics(
                source.bands[index], moments_of(values, counts), ranks, window_area(window)
            )
        )
    return rows


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


def _band_statistics(
    band: Band, moments: Moments, ranks: Sequence[float], pixels: int
) -> BandStatistics:
    """Bring statistics of stored numbers to physical values; a negative scale swaps the ends."""
    p1, p50, p99 = (physical_number(v, band) if moments.count else math.nan for v in ranks)
    if band.scale < 0:  # symmetric percentiles change places
        p1, p99 = p99, p1
    return BandStatistics(
        band=band.name, valid=moments.count, invalid=pixels - moments.count,
        **moments.physical(band), p1=p1, p50=p50, p99=p99, unit=band.unit,
    )  # fmt: skip
