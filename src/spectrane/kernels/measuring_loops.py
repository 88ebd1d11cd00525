"""Compiled forms of ``measuring``."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.kernels import measuring
from spectrane.kernels.compiling import loop, summed
from spectrane.kernels.measuring import F32, NOTHING, Bins, Spread, rows_of

_CHUNK = 1024
_FLAG = 1 << 24
_ENDLESS = np.int32(0x7F800000)
_LEAST, _MOST = np.int32(-0x80000000), np.int32(0x7FFFFFFF)


@loop
def _turned(mark: Any) -> Any:
    """Return a float32's bits as an integer that sorts like it, and such an integer as bits."""
    return mark ^ ((mark >> np.int32(31)) & _MOST)


@loop
def _counts(mark: Any, value: Any, nodata: Any) -> Any:
    return ((mark & _ENDLESS) != _ENDLESS) & (value != nodata)


@loop
def _extremes(flat: Any, rows: Any, step: Any, columns: Any, nodata: Any) -> Any:
    # As integers that sort like the floats: of integers the least can be found in vectors.
    bits = flat.view(np.int32)
    low: Any = _MOST
    high: Any = _LEAST
    seen = 0
    for row in range(rows):
        line = flat[row * step : row * step + columns]
        marks = bits[row * step : row * step + columns]
        count = np.int32(0)
        for k in range(columns):
            mark = marks[k]
            fine = _counts(mark, line[k], nodata)
            key = _turned(mark)
            low = min(low, key if fine else _MOST)
            high = max(high, key if fine else _LEAST)
            count += np.int32(fine)
        seen += int(count)
    return seen, low, high


def _number(key: Any) -> float:
    """Return the float32 number of an integer that sorts like it."""
    return float(np.int32(_turned(np.int32(key))).view(np.float32))


def extremes(values: F32, nodata: float) -> tuple[int, float, float]:
    """Do as ``measuring.extremes_reference``."""
    count, low, high = _extremes(*rows_of(values), np.float32(nodata))
    return (int(count), _number(low), _number(high)) if count else NOTHING[:3]


@summed
def _spread(flat: Any, rows: Any, step: Any, columns: Any, nodata: Any, shift: Any) -> Any:
    bits = flat.view(np.int32)
    low: Any = _MOST
    high: Any = _LEAST
    seen = 0
    total, squares = 0.0, 0.0
    for row in range(rows):
        line = flat[row * step : row * step + columns]
        marks = bits[row * step : row * step + columns]
        count = np.int32(0)
        for k in range(columns):
            mark = marks[k]
            fine = _counts(mark, line[k], nodata)
            key = _turned(mark)
            low = min(low, key if fine else _MOST)
            high = max(high, key if fine else _LEAST)
            count += np.int32(fine)
            away = np.float64(line[k]) - shift if fine else 0.0
            total += away
            squares += away * away
        seen += int(count)
    return seen, low, high, total, squares


def spread(values: F32, nodata: float) -> Spread:
    """Do as ``measuring.spread_reference``, about a value near the mean."""
    flat, rows, step, columns = rows_of(values)
    near = measuring.numbers_that_count(
        values[:: max(1, rows // 8), :: max(1, columns // 32)], nodata
    )
    shift = float(near.mean(dtype=np.float64)) if near.size else 0.0
    found = _spread(flat, rows, step, columns, np.float32(nodata), shift)
    count, low, high, total, squares = found
    if not count:
        return NOTHING
    away = total / count
    return Spread(int(count), _number(low), _number(high), shift + away,
                  max(0.0, squares - count * away * away))  # fmt: skip


@loop
def _bin_counts(
    flat: Any, rows: Any, step: Any, columns: Any, nodata: Any, sign: Any, edges: Any, top: Any,
    density: Any, doubt: Any, even: Any, odd: Any,
) -> None:  # fmt: skip
    place = np.empty(_CHUNK, np.uint32)
    bins = edges.shape[0] - 2
    last, outside, first = np.float32(bins - 1), np.float32(bins + 1), edges[0]
    for row in range(rows):
        line = flat[row * step : row * step + columns]
        for start in range(0, columns, _CHUNK):
            part = line[start : start + _CHUNK]
            for k in range(part.shape[0]):
                v = part[k]
                w = v * sign
                at = (w - first) * density
                inside = (w >= first) & (w <= top) & (v != nodata)
                cell = np.int32(at if at < last else last)
                far = abs(at - np.float32(cell) - np.float32(0.5))
                near = np.int32(_FLAG) if far > doubt else np.int32(0)
                place[k] = np.uint32(cell + near) if inside else np.uint32(outside)
            for k in range(part.shape[0] // 2):
                a, b = place[np.uint64(2 * k)], place[np.uint64(2 * k + 1)]
                if (a | b) >= np.uint32(_FLAG):  # rounding may have put them beside their bin
                    a = _resolved_place(a, part[np.uint64(2 * k)] * sign, edges)
                    b = _resolved_place(b, part[np.uint64(2 * k + 1)] * sign, edges)
                even[a] += np.uint32(1)
                odd[b] += np.uint32(1)
            if part.shape[0] % 2:
                a = place[np.uint64(part.shape[0] - 1)]
                even[_resolved_place(a, part[np.uint64(part.shape[0] - 1)] * sign, edges)] += (
                    np.uint32(1)
                )


@loop
def _resolved_place(place: Any, w: Any, edges: Any) -> Any:
    if place < np.uint32(_FLAG):
        return place
    cell = place - np.uint32(_FLAG)
    if w < edges[cell]:
        return cell - np.uint32(1)
    if w >= edges[cell + np.uint32(1)]:
        return cell + np.uint32(1)
    return cell


def bin_counts(values: F32, nodata: float, bins: Bins, counts: NDArray[np.int64]) -> None:
    """Do as ``measuring.bin_counts_reference``."""
    if not bins.simple:
        measuring.bin_counts_reference(values, nodata, bins, counts)
        return
    even, odd = np.zeros((2, bins.count + 2), np.uint32)
    _bin_counts(*rows_of(values), np.float32(nodata), bins.sign, bins.edges, bins.top,
                bins.density, np.float32(0.5 - bins.doubt), even, odd)  # fmt: skip
    counts += even[: bins.count]
    counts += odd[: bins.count]
