"""Counting values: histograms, and the top bits that exact percentiles are found by."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.kernels.choice import Twin

Counts = NDArray[np.int64]
_AT_A_TIME = 1 << 20


def count_indices_reference(indices: NDArray[Any], counts: Counts) -> None:
    """Add to ``counts`` how often each unsigned 8- or 16-bit number occurs; any shape."""
    flat = indices.ravel()
    for start in range(0, flat.size, _AT_A_TIME):  # which become 8 bytes each on their way
        counts += np.bincount(flat[start : start + _AT_A_TIME], minlength=len(counts))


def ordered_bits(values: NDArray[Any]) -> NDArray[Any]:
    """Return unsigned integers that sort as the numbers do; any 4- or 8-byte type.

    >>> bits = ordered_bits(np.float32([-1.0, -0.5, 0.0, 2.0]))
    >>> bool((np.diff(bits.astype(np.int64)) > 0).all())
    True
    """
    size = values.dtype.itemsize
    unsigned = np.dtype(f"u{size}")
    bits = np.ascontiguousarray(values).view(unsigned)
    top = unsigned.type(1 << (8 * size - 1))
    if values.dtype.kind == "u":
        return bits
    if values.dtype.kind == "i":
        return np.asarray(bits ^ top)
    return np.asarray(np.where(bits & top, ~bits, bits | top))


def from_ordered_bits(bits: NDArray[Any], dtype: np.dtype[Any]) -> NDArray[Any]:
    """Undo ``ordered_bits``."""
    unsigned = np.dtype(f"u{dtype.itemsize}")
    bits = np.asarray(bits).astype(unsigned)
    top = unsigned.type(1 << (8 * dtype.itemsize - 1))
    if dtype.kind == "u":
        return np.asarray(bits, dtype)
    if dtype.kind == "i":
        return np.asarray((bits ^ top).view(dtype))
    plain = np.where(bits & top, bits & ~top, ~bits).astype(unsigned)
    return np.asarray(plain.view(dtype))


def count_top_reference(values: NDArray[np.float32], nodata: float, counts: Counts) -> None:
    """Add to ``counts`` (65 536) how often each pattern of the upper 16 bits occurs.

    ``values`` are (rows, columns). The bits are the plain ones of float32, in no order of value;
    NaN and infinities are counted at their patterns (exponent 255) for the caller to leave out, and
    ``nodata`` (NaN: none) at the last of them.
    """
    for row in np.atleast_2d(values):
        top = np.ascontiguousarray(row).view(np.uint32) >> np.uint32(16)
        top[row == np.float32(nodata)] = 0xFFFF
        counts += np.bincount(top, minlength=65536)


def count_low_reference(
    values: NDArray[np.float32], nodata: float, slots: NDArray[np.uint8],
    counts: NDArray[np.int64],
) -> None:  # fmt: skip
    """Add to ``counts[slot - 1]`` (n, 65 536) the lower 16 bits of values in wanted top bins.

    ``slots`` (65 536) names the row of ``counts`` for each top pattern, from 1; 0: not wanted.
    """
    for row in np.atleast_2d(values):
        bits = np.ascontiguousarray(row).view(np.uint32)
        slot = slots[bits >> np.uint32(16)]
        wanted = (slot > 0) & (row != np.float32(nodata))
        if wanted.any():
            where = (slot[wanted].astype(np.int64) - 1) * 65536 + (bits[wanted] & 0xFFFF)
            counts += np.bincount(where, minlength=counts.size).reshape(counts.shape)


_LOOPS = "spectrane.kernels.counting_loops"
count_indices = Twin(count_indices_reference, _LOOPS, "count_indices", 0.004)
count_top = Twin(count_top_reference, _LOOPS, "count_top", 0.006)
count_low = Twin(count_low_reference, _LOOPS, "count_low", 0.006)
