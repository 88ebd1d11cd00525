"""Histograms of bands: exact for 8 and 16 bits, even bins otherwise."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.analysis.statistics import band_counts, small
from spectrane.analysis.walking import plain_values, told_blocks
from spectrane.engine.threads import as_they_come
from spectrane.kernels.measuring import Bins, bin_counts, extremes, numbers_that_count
from spectrane.kernels.quiet import quiet_methods
from spectrane.kernels.records import record
from spectrane.model.band import Band
from spectrane.model.errors import LookError
from spectrane.model.html import escaped, in_row
from spectrane.model.physical import ends, physical
from spectrane.model.pixels import Pixels
from spectrane.model.shortly import short_repr
from spectrane.model.source import Source
from spectrane.model.window import Window, whole, window_area

FLOAT_BINS = 4096


@quiet_methods
@record(frozen=True)
class Histogram:
    """How often values occur, per band.

    ``counts[k]`` has one number per bin of band k, ``edges[k]`` one more; edges are physical
    values in ``units[k]``. A bin holds its lower edge; the last one holds both. ``invalid`` are
    the pixels left out for no-data, NaN or infinity, ``outside`` those beyond a given range.

    >>> import numpy as np, spectrane as sp
    >>> raster = sp.from_array(np.array([[1, 1, 2]], np.uint8))
    >>> raster.histogram(bins=2, range=(1, 2)).counts[0].tolist()
    [2, 1]
    """

    bands: tuple[str, ...]
    counts: tuple[NDArray[np.int64], ...]
    edges: tuple[NDArray[np.float64], ...]
    units: tuple[str | None, ...]
    invalid: tuple[int, ...]
    outside: tuple[int, ...]

    __repr__ = short_repr

    def _repr_html_(self) -> str:
        plots = [_plot(name, counts, edges, unit) for name, counts, edges, unit in
                 zip(self.bands, self.counts, self.edges, self.units, strict=True)]  # fmt: skip
        return in_row(*plots)

    @property
    def ends(self) -> list[tuple[float, float]]:
        """The first and the last edge of each band."""
        return [(float(edges[0]), float(edges[-1])) for edges in self.edges]


_WIDE, _HIGH = 256, 96
"""Pixels of a small plot."""


def _plot(
    name: str, counts: NDArray[np.int64], edges: NDArray[np.float64], unit: str | None
) -> str:  # fmt: skip
    """Return a band's counts as a small SVG: as many columns as it has pixels at most."""
    groups = np.linspace(0, len(counts), min(_WIDE, len(counts)) + 1).astype(int)
    columns = np.add.reduceat(counts, groups[:-1])
    high = np.sqrt(columns / max(1, int(columns.max(initial=0)))) * _HIGH
    wide = _WIDE / len(columns)
    path = "".join(f"H{k * wide:.1f}V{_HIGH - one:.1f}H{(k + 1) * wide:.1f}V{_HIGH}"
                   for k, one in enumerate(high.tolist()))  # fmt: skip
    unit = "" if unit in (None, "1") else f" {unit}"
    said = f"{edges[0]:.6g} to {edges[-1]:.6g}{unit}"
    size = f"width='{_WIDE}' height='{_HIGH}'"
    shape = f"<path fill='#6f7680' d='M0 {_HIGH}{path}Z'/>"
    plot = f"<svg role='img' aria-label='{escaped(name)}' {size}>{shape}</svg>"
    about = f"<div>{escaped(said)}, square root of counts</div>"
    return f"<div>{escaped(name)}</div>{plot}{about}"


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
    physical_values = physical(values, band, np.float64)
    if bins == "auto" and value_range is None:
        first, last = (int(values[0]), int(values[-1])) if seen else (0, 0)
        table = np.zeros(last - first + 1, np.int64)
        table[values.astype(np.int64) - first] = counts
        edges = physical(np.arange(first, last + 2) - 0.5, band, np.float64)
        turn = -1 if band.scale < 0 else 1
        return table[::turn], edges[::turn].astype(np.float64), seen
    low, high = value_range or (
        (physical_values.min(), physical_values.max()) if seen else (0.0, 1.0)
    )
    high = high if high > low else low + 1.0
    number = 256 if isinstance(bins, str) else bins
    table, edges = np.histogram(physical_values, number, (low, high), weights=counts)
    return table.astype(np.int64), edges.astype(np.float64), seen


def _even_bins(
    source: Source, bands: Sequence[int], window: Window, bins: int | str,
    value_range: tuple[float, float] | None,
) -> list[_Found]:  # fmt: skip
    number = FLOAT_BINS if isinstance(bins, str) else bins
    described = [source.bands[index] for index in bands]
    found = [(window_area(window), *value_range)] * len(bands) if value_range else (
        _extremes(source, bands, window))  # fmt: skip
    edges = [np.linspace(*_apart(*ends), number + 1) for _, *ends in found]
    bounds = [Bins.of(edge, band.scale, band.offset)
              for edge, band in zip(edges, described, strict=True)]  # fmt: skip
    tables: list[NDArray[np.int64]] = []
    seen: list[NDArray[np.int64]] = []
    count = bin_counts.choose(window_area(window))

    def worker() -> Callable[[Pixels], None]:
        mine, total = np.zeros((len(bands), number), np.int64), np.zeros(len(bands), np.int64)
        tables.append(mine)
        seen.append(total)

        def take(pixels: Pixels) -> None:
            for k, (values, nodata) in enumerate(plain_values(pixels)):
                if values.dtype == np.float32:
                    count(values, nodata, bounds[k], mine[k])
                else:
                    mine[k] += np.histogram(physical(values, described[k], np.float64), edges[k])[0]
                if value_range:  # else all that count lie inside
                    total[k] += len(numbers_that_count(values, nodata))

        return take

    as_they_come(told_blocks(source, bands, window), worker)
    counted, totals = np.sum(tables, axis=0), np.sum(seen, axis=0)
    return [
        (counted[k], edges[k], int(totals[k] if value_range else counted[k].sum()))
        for k in range(len(bands))
    ]


def _apart(low: float, high: float) -> tuple[float, float]:
    """Return two ends that bins can lie between."""
    if not (math.isfinite(low) and math.isfinite(high)):
        return 0.0, 1.0
    return low, high if high > low else low + 1.0


def _extremes(
    source: Source, bands: Sequence[int], window: Window
) -> list[tuple[int, float, float]]:
    """Return how many numbers of each band count, the least and the greatest physical value."""
    parts: list[list[tuple[int, float, float]]] = []
    measure = extremes.choose(window_area(window))

    def take(pixels: Pixels) -> None:
        parts.append([
            measure(v, nodata) if v.dtype == np.float32 else
            (v.size, *((v.min(), v.max()) if v.size else (math.inf, -math.inf)))
            for v, nodata in plain_values(pixels)
        ])  # fmt: skip

    as_they_come(told_blocks(source, bands, window), lambda: take)
    found = []
    for k, index in enumerate(bands):
        low = min((part[k][1] for part in parts), default=math.inf)
        high = max((part[k][2] for part in parts), default=-math.inf)
        count = sum(part[k][0] for part in parts)
        found.append((count, *(ends((low, high), source.bands[index]) if count else (low, high))))
    return found
