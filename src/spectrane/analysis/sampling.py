"""A small and honest part of a raster, for checks that must not read all of it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.analysis.walking import finite
from spectrane.model.pixels import Pixels
from spectrane.model.source import Source
from spectrane.model.window import whole

WHOLE = 1_500_000
"""Rasters of up to so many pixels are looked at as a whole."""
BLOCK, _SIDE = 256, 4
MOST_BANDS = 8
"""Bands that are looked at, of many."""


@dataclass(frozen=True)
class Sample:
    """Parts of a raster: each (bands, rows, columns) stored numbers with their validity.

    ``complete`` is True where every pixel is there.
    """

    bands: tuple[int, ...]
    parts: tuple[Pixels, ...]
    complete: bool

    def values(self, index: int) -> NDArray[Any]:
        """Return the valid and finite numbers of the band at an index of ``bands``."""
        found = []
        for part in self.parts:
            valid = part.validity[index]
            found.append(part.values[index][valid])
        return finite(np.concatenate(found))


def sample_of(source: Source) -> Sample:
    """Return all of a small raster, the smallest overview, or evenly spread blocks of 256 x 256."""
    bands = tuple(range(min(len(source.bands), MOST_BANDS)))
    rows, columns = source.shape
    if rows * columns <= WHOLE:
        return Sample(bands, (source.read(bands, whole(source.shape)),), True)
    if source.overviews and source.mixable:
        size = min(source.overviews, key=lambda shape: shape[0] * shape[1])
        part = source.read(bands, whole(source.shape), size, "area")
        return Sample(bands, (part,), False)
    parts = []
    tops, lefts = starts(rows, _SIDE), starts(columns, _SIDE)
    for top in tops:
        for left in lefts:
            window = ((top, min(top + BLOCK, rows)), (left, min(left + BLOCK, columns)))
            parts.append(source.read(bands, window))
    return Sample(bands, tuple(parts), False)


def starts(length: int, count: int) -> Sequence[int]:
    """Return where so many blocks along an axis start, evenly spread from end to end.

    >>> starts(1000, 3), starts(100, 3)
    ([0, 372, 744], [0])
    """
    last = max(0, length - BLOCK)
    return sorted({round(k * last / (count - 1)) for k in range(count)})
