"""Histograms of bands: exact for 8 and 16 bits, even bins otherwise."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.analysis.statistics import band_counts, small
from spectrane.analysis.walking import walk
from spectrane.model.band import Band
from spectrane.model.errors import LookError
from spectrane.model.source import Source
from spectrane.model.window import Window, whole

FLOAT_BINS = 4096


@dataclass(frozen=True)
class Histogram:
    """How often values occur, per band.

    ``counts[k]`` has one number per bin of band k, ``edges[k]`` one more; edges are physical
    values in ``units[k]``. A bin holds its lower edge; the last one holds both. ``invalid`` are
    the pixels left out for no-data, NaN or infinity, ``outside`` those beyond a given range.
    """

    bands: tuple[str, ...]
    counts: tuple[NDArray[np.int64], ...]
    edges: tuple[NDArray[np.float64], ...]
    units: tuple[str | None, ...]
    invalid: tuple[int, ...]
    outside: tuple[int, ...]


def band_histogram(
    source: Source,
    bands: Sequence[int],
    window: Window | None = None,
    *,
    bins: int | str = "auto",
    value_range: tuple[float, float] | None = None,
) -> Histogram:
    """Return the histogram of bands (indices from 0) over a window (None: everything).

    ``bins="auto"``: one bin per stored number for 8- and 16-bit data, 4096 even ones between
    least and greatest value otherwise. ``value_range`` is in physical values.
    """
    window = whole(source.shape) if window is None else window
    if bins != "auto" and (not isinstance(bins, int) or bins < 1):
        raise LookError(f"bins {bins!r}: expected 'auto' or a whole number above 0")
    if value_range is not None and not value_range[0] < value_range[1]:
        raise LookError(f"range {value_range}: expected low < high")
    if small(source.dtype):
        found = [
            _binned(source.bands[index], values, counts, bins, value_range)
            for index, (values, counts) in zip(
                bands, band_counts(source, bands, window), strict=True
            )
        ]
    else:
        found = _even_bins(source, bands, window, bins, value_range)
    total = int(np.prod([b - a for a, b in window]))
    counts, edges, seen = zip(*found, strict=True)
    inside = [int(c.sum()) for c in counts]
    described = [source.bands[index] for index in bands]
    return Histogram(
        tuple(band.name for band in described), counts, edges,
        tuple(band.unit for band in described),
        tuple(total - n for n in seen), tuple(n - i for n, i in zip(seen, inside, strict=True)),
    )  # fmt: skip


_Found = tuple[NDArray[np.int64], NDArray[np.float64], int]


def _binned(
    band: Band, values: NDArray[Any], counts: NDArray[np.int64], bins: int | str,
    value_range: tuple[float, float] | None,
) -> _Found:  # fmt: skip
    """Put counts of single stored numbers into bins."""
    seen = int(counts.sum())
    physical = values.astype(np.float64) * band.scale + band.offset
    if bins == "auto" and value_range is None:
        first, last = (int(values[0]), int(values[-1])) if seen else (0, 0)
        table = np.zeros(last - first + 1, np.int64)
        table[values.astype(np.int64) - first] = counts
        edges = (np.arange(first, last + 2) - 0.5) * band.scale + band.offset
        turn = -1 if band.scale < 0 else 1
        return table[::turn], edges[::turn].astype(np.float64), seen
    low, high = value_range or ((physical.min(), physical.max()) if seen else (0.0, 1.0))
    high = high if high > low else low + 1.0
    number = 256 if isinstance(bins, str) else bins
    found, edges = np.histogram(physical, number, (low, high), weights=counts)
    return found.astype(np.int64), edges.astype(np.float64), seen


def _even_bins(
    source: Source, bands: Sequence[int], window: Window, bins: int | str,
    value_range: tuple[float, float] | None,
) -> list[_Found]:  # fmt: skip
    number = FLOAT_BINS if isinstance(bins, str) else bins
    described = [source.bands[index] for index in bands]
    ranges = [value_range] * len(bands) if value_range else _ranges(source, bands, window)
    tables = [np.zeros(number, np.int64) for _ in bands]
    seen = [0] * len(bands)
    for blocks in walk(source, bands, window):
        for k, (band, values) in enumerate(zip(described, blocks, strict=True)):
            seen[k] += values.size
            physical = values.astype(np.float64) * band.scale + band.offset
            tables[k] += np.histogram(physical, number, ranges[k])[0]
    return [
        (table, np.linspace(*ends, number + 1), count)
        for table, ends, count in zip(tables, ranges, seen, strict=True)
    ]


def _ranges(source: Source, bands: Sequence[int], window: Window) -> list[tuple[float, float]]:
    low, high = np.full(len(bands), np.inf), np.full(len(bands), -np.inf)
    for blocks in walk(source, bands, window):
        for k, values in enumerate(blocks):
            if values.size:
                low[k], high[k] = min(low[k], values.min()), max(high[k], values.max())
    ranges = []
    for k, index in enumerate(bands):
        band = source.bands[index]
        ends = sorted((low[k] * band.scale + band.offset, high[k] * band.scale + band.offset))
        if not np.isfinite(ends).all():
            ends = [0.0, 1.0]
        ranges.append((ends[0], ends[1] if ends[1] > ends[0] else ends[0] + 1.0))
    return ranges
