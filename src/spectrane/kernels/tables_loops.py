"""Compiled forms of ``tables``."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.kernels.compiling import loop


@loop
def _words(
    red: Any, green: Any, blue: Any, tr: Any, tg: Any, tb: Any, most: Any, hidden: Any, out: Any
) -> None:  # pragma: no cover - compiled
    for row in range(out.shape[0]):
        # Row views first: indexing them needs no test for negative indices.
        reds, greens, blues, words = red[row], green[row], blue[row], out[row]
        for column in range(words.shape[0]):
            r = np.uint32(tr[reds[column]])
            g = np.uint32(tg[greens[column]])
            b = np.uint32(tb[blues[column]])
            valid = (r >> 8) + (g >> 8) + (b >> 8)
            word = (
                (r & np.uint32(255))
                | ((g & np.uint32(255)) << np.uint32(8))
                | ((b & np.uint32(255)) << np.uint32(16))
                | np.uint32(0xFF000000)
            )
            words[column] = word if valid >= most else hidden


def words(
    bands: list[NDArray[Any]],
    tables: list[NDArray[np.uint16]],
    show_any: bool,
    hidden: int,
    out: NDArray[np.uint32],
) -> None:
    """Do as ``tables.words_reference``."""
    most = np.uint32(1 if show_any else 3)
    _words(*_contiguous(bands), *tables, most, np.uint32(hidden), out)


@loop
def _indexed_words(band: Any, table: Any, out: Any) -> None:  # pragma: no cover - compiled
    for row in range(out.shape[0]):
        indices, words = band[row], out[row]
        for column in range(words.shape[0]):
            words[column] = table[indices[column]]


def indexed_words(band: NDArray[Any], words: NDArray[np.uint32], out: NDArray[np.uint32]) -> None:
    """Do as ``tables.indexed_words_reference``."""
    _indexed_words(*_contiguous([band]), words, out)


def _contiguous(bands: list[NDArray[Any]]) -> list[NDArray[Any]]:
    # Strided rows, or read-only views, would each be compiled as a version of their own.
    return [np.require(band, requirements=["C", "W"]) for band in bands]
