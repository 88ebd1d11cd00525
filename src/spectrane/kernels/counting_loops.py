"""Compiled forms of ``counting``."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.kernels.compiling import loop

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
def _count_bins(values: Any, low: Any, density: Any, top: Any, counts: Any) -> None:
    place = np.empty(_CHUNK, np.uint32)
    bins = counts.shape[0] - 1  # the last place takes what lies outside
    for start in range(0, values.shape[0], _CHUNK):
        part = values[start : start + _CHUNK]
        for k in range(part.shape[0]):
            at = (part[k] - low) * density
            inside = (at >= np.float32(0)) & (at <= top)
            at = at if inside else np.float32(0)
            at = at if at < top else top - np.float32(1)
            place[k] = np.uint32(np.int32(at)) if inside else np.uint32(bins)
        for k in range(part.shape[0]):
            counts[place[k]] += np.uint32(1)


def count_bins(
    values: NDArray[np.float32], low: float, density: float, counts: NDArray[np.int64]
) -> None:
    """Do as ``counting.count_bins_reference``."""
    flat = np.require(values, requirements=["C", "W"]).ravel()
    for start in range(0, flat.size, _BLOCK):
        found = np.zeros(len(counts) + 1, np.uint32)
        part = flat[start : start + _BLOCK]
        _count_bins(part, np.float32(low), np.float32(density), np.float32(len(counts)), found)
        counts += found[:-1]


def count_top(values: NDArray[np.float32], counts: NDArray[np.int64]) -> None:
    """Do as ``counting.count_top_reference``."""
    # The upper halves of little-endian floats are every other 16-bit number.
    flat = np.require(values, requirements=["C", "W"]).ravel()
    halves = flat.view(np.uint16)[1::2]
    for start in range(0, halves.size, _BLOCK):
        even, odd = np.zeros((2, 65536), np.uint32)
        _count_indices(halves[start : start + _BLOCK], even, odd)
        counts += even
        counts += odd


@loop
def _count_low(bits: Any, slots: Any, counts: Any) -> None:
    for k in range(bits.shape[0]):
        slot = slots[bits[k] >> np.uint32(16)]
        if slot > 0:
            counts[np.uint32(slot - 1), bits[k] & np.uint32(65535)] += 1


def count_low(
    values: NDArray[np.float32], slots: NDArray[np.uint8], counts: NDArray[np.int64]
) -> None:
    """Do as ``counting.count_low_reference``."""
    flat = np.require(values, requirements=["C", "W"]).ravel()
    _count_low(flat.view(np.uint32), slots, counts)
