"""Display of 8- and 16-bit integers through look-up tables.

A table holds, for each stored number (signed ones viewed as unsigned), ``level | valid << 8`` in
uint16. A picture is written as one 32-bit word per pixel: red in the lowest byte, alpha in the
highest, so that its bytes read red, green, blue, alpha on a little-endian machine.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.kernels.choice import Twin

OPAQUE = 0xFF000000
CLEAR = np.uint32(1 << 24)
"""Words below this are of alpha 0."""
_ROWS = 64
"""Rows per round, so that the working set stays in cache."""


def as_index(values: NDArray[Any]) -> NDArray[Any]:
    """View 8- or 16-bit integers or booleans as unsigned, without copying where possible."""
    if values.dtype.kind == "b":
        return values.view(np.uint8)
    values = values if values.dtype.isnative else values.astype(values.dtype.newbyteorder("="))
    return values.view(np.dtype(f"u{values.dtype.itemsize}"))


def index_values(dtype: np.dtype[Any]) -> NDArray[Any]:
    """Return the stored number behind each index of a type's table, in order of the index."""
    count = 1 << (8 * dtype.itemsize)
    indices = np.arange(count).astype(f"u{dtype.itemsize}")
    return indices > 0 if dtype.kind == "b" else indices.view(dtype)


def words_reference(
    bands: list[NDArray[Any]],
    tables: list[NDArray[np.uint16]],
    show_any: bool,
    hidden: int,
    out: NDArray[np.uint32],
) -> None:
    """Fill ``out`` (rows, columns) with picture words from three bands of indices.

    ``show_any``: a pixel shows when any band is valid, else when all are; others get the word
    ``hidden``. All shapes (rows, columns).
    """
    flag = 1 if show_any else 0
    shifted = []
    for position, table in enumerate(tables):
        word = (table & 0xFF).astype(np.uint32) << np.uint32(8 * position)
        word |= ((table >> 8) == flag).astype(np.uint32) * np.uint32(OPAQUE)
        shifted.append(word)
    flip = np.uint32(0 if show_any else OPAQUE)
    may_hide = any(bool(((table >> 8) == 0).any()) for table in tables)
    for start in range(0, len(out), _ROWS):
        rows = slice(start, start + _ROWS)
        part = out[rows]
        np.take(shifted[0], bands[0][rows], out=part, mode="wrap")
        for band, table in zip(bands[1:], shifted[1:], strict=True):
            part |= np.take(table, band[rows], mode="wrap")
        part ^= flip
        if may_hide:
            part[part < np.uint32(OPAQUE)] = hidden


def indexed_words_reference(
    band: NDArray[Any], words: NDArray[np.uint32], out: NDArray[np.uint32]
) -> None:
    """Fill ``out`` with the finished word of each index; shapes (rows, columns)."""
    for start in range(0, len(out), _ROWS):
        rows = slice(start, start + _ROWS)
        np.take(words, band[rows], out=out[rows], mode="wrap")


def changed_words(
    before: NDArray[np.uint32], bands: dict[int, NDArray[Any]],
    tables: dict[int, NDArray[Any]], out: NDArray[np.uint32],
) -> None:  # fmt: skip
    """Fill ``out`` (rows, columns) with picture words of which some channels are other than before.

    ``bands`` are indices and ``tables`` levels, both by channel (0 red, 1 green, 2 blue). Words of
    alpha 0 stay 0.

    >>> before, out = np.array([[0xFF030201, 0]], np.uint32), np.empty((1, 2), np.uint32)
    >>> changed_words(before, {1: np.uint8([[0, 1]])}, {1: np.uint16([7, 8])}, out)
    >>> [hex(word) for word in out[0]]
    ['0xff030701', '0x0']
    """
    shifted = {k: table.astype(np.uint32) << np.uint32(8 * k) for k, table in tables.items()}
    others = np.uint32(0xFFFFFFFF - sum(0xFF << 8 * k for k in tables))
    for start in range(0, len(out), _ROWS):
        rows = slice(start, start + _ROWS)
        part = np.bitwise_and(before[rows], others, out=out[rows])
        for k, band in bands.items():
            part |= shifted[k].take(band[rows], mode="wrap")
        if part.min(initial=OPAQUE) < OPAQUE:
            part[before[rows] < CLEAR] = 0


words = Twin(words_reference, "spectrane.kernels.tables_loops", "words", 0.006)
indexed_words = Twin(
    indexed_words_reference, "spectrane.kernels.tables_loops", "indexed_words", 0.001
)
