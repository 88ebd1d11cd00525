"""Compiled forms of ``counting``."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.kernels.compiling import loop
from spectrane.kernels.measuring import rows_of

_CHUNK = 1024
_BLOCK = 1 << 24
"""Values per round: below 2**32, so that 32-bit counts cannot overflow."""


@loop
def _count_indices(values: Any, even: Any, odd: Any) -> None:
    # Two tables in turn: equal neighbours would wait for one another on the same count.
    pairs = values.shape[0] // 2
    for k in range(pairs):
        even[values[np.uint64(2 * k)]] += np.uint32(1)
        odd[values[np.uint64(2 * k + 1)]] += np.uint32(1)
    if values.shape[0] % 2:
        even[values[np.uint64(values.shape[0] - 1)]] += np.uint32(1)


def count_indices(indices: NDArray[Any], counts: NDArray[np.int64]) -> None:
    """Do as ``counting.count_indices_reference``."""
    flat = np.require(indices, requirements=["C", "W"]).ravel()
    for start in range(0, flat.size, _BLOCK):
        even, odd = np.zeros((2, len(counts)), np.uint32)
        _count_indices(flat[start : start + _BLOCK], even, odd)
        counts += even
        counts += odd


@loop
def _count_top(
    flat: Any, rows: Any, step: Any, columns: Any, nodata: Any, even: Any, odd: Any
) -> None:
    top = np.empty(_CHUNK, np.uint16)
    bits = flat.view(np.uint32)
    for row in range(rows):
        line = flat[row * step : row * step + columns]
        marks = bits[row * step : row * step + columns]
        for start in range(0, columns, _CHUNK):
            part, mark = line[start : start + _CHUNK], marks[start : start + _CHUNK]
            for k in range(part.shape[0]):
                pattern = np.uint16(mark[k] >> np.uint32(16))
                top[k] = np.uint16(65535) if part[k] == nodata else pattern
            for k in range(part.shape[0] // 2):
                even[top[np.uint64(2 * k)]] += np.uint32(1)
                odd[top[np.uint64(2 * k + 1)]] += np.uint32(1)
            if part.shape[0] % 2:
                even[top[np.uint64(part.shape[0] - 1)]] += np.uint32(1)


def count_top(values: NDArray[np.float32], nodata: float, counts: NDArray[np.int64]) -> None:
    """Do as ``counting.count_top_reference``."""
    even, odd = np.zeros((2, 65536), np.uint32)
    _count_top(*rows_of(np.atleast_2d(values)), np.float32(nodata), even, odd)
    counts += even
    counts += odd


@loop
def _count_low(
    flat: Any, rows: Any, step: Any, columns: Any, nodata: Any, slots: Any, counts: Any
) -> None:
    bits = flat.view(np.uint32)
    for row in range(rows):
        line = flat[row * step : row * step + columns]
        marks = bits[row * step : row * step + columns]
        for k in range(columns):
            slot = slots[marks[k] >> np.uint32(16)]
            if (slot > 0) & (line[k] != nodata):
                counts[np.uint32(slot - 1), marks[k] & np.uint32(65535)] += 1


def count_low(
    values: NDArray[np.float32], nodata: float, slots: NDArray[np.uint8],
    counts: NDArray[np.int64],
) -> None:  # fmt: skip
    """Do as ``counting.count_low_reference``."""
    _count_low(*rows_of(np.atleast_2d(values)), np.float32(nodata), slots, counts)
