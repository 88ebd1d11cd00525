"""A small and honest part of a raster, for checks that must not read all of it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.analysis.walking import finite
from spectrane.kernels.records import record
from spectrane.model.pixels import Pixels
from spectrane.model.source import Source
from spectrane.model.window import Window, whole, window_area

WHOLE = 1_500_000
"""Rasters of up to so many pixels are looked at as a whole."""
BLOCK, _SIDE, _PLANES = 256, 3, 6
MOST_BANDS = 8
"""Bands that are looked at, of many."""


@record(frozen=True)
class SampledPart:
    """A part of the image: which of its sides are the image's edge, and its weight of all parts."""

    pixels: Pixels
    sides: tuple[bool, ...]
    weight: float

    def valid(self, index: int) -> NDArray[Any]:
        """Return the valid numbers of a band, as (rows, columns) where all are, NaN and infinities
        too where no mask tells them.
        """
        values: NDArray[Any] = self.pixels.values[index]
        plain = self.pixels.mask is None and self.pixels.alpha is None
        if plain and not (self.pixels.rules[index].values or self.pixels.rules[index].ranges):
            return values
        shown: NDArray[Any] = values[self.pixels.validity[index]]
        return shown


@record(frozen=True)
class Sample:
    """Parts of a raster: each (bands, rows, columns) stored numbers with their validity.

    ``complete`` is True where every pixel is there.
    """

    bands: tuple[int, ...]
    parts: tuple[SampledPart, ...]
    complete: bool

    def values(self, index: int) -> NDArray[Any]:
        """Return the valid and finite numbers of the band at an index of ``bands``."""
        return finite(np.concatenate([part.valid(index).ravel(order="K") for part in self.parts]))

    def ruled_by(self, source: Source) -> Sample:
        """Return the same numbers under the no-data rules of another source's bands."""
        rules = [source.bands[band].rule for band in self.bands]
        parts = [
            replace(part, pixels=Pixels(
                part.pixels.values, mask=part.pixels.mask, rules=rules, alpha=part.pixels.alpha,
                when=source.nodata_when,
            ))
            for part in self.parts
        ]  # fmt: skip
        return replace(self, parts=tuple(parts))


def sample_of(source: Source, bands: Sequence[int] | None = None) -> Sample:
    """Return bands at full resolution: all of a small raster, a few planes of a volume, or blocks
    at the corners and between; of many bands the first eight where none are named.

    Overviews are of no use for it: fill is averaged into them, and the extremes are lost.
    """
    chosen = tuple(range(min(len(source.bands), MOST_BANDS)) if bands is None else bands)
    parts = tuple(_parts(source, chosen))
    seen = sum(part.pixels.values[0].size for part in parts)
    return Sample(chosen, parts, seen == window_area(whole(source.shape)))


def _parts(source: Source, bands: Sequence[int]) -> Iterator[SampledPart]:
    """Yield the parts; blocks at the edges weigh half, as in the trapezoidal rule: they stand for
    half as much.
    """
    if len(source.shape) == 3:
        i, j, k = source.shape
        planes = sorted({round((n + 0.5) * k / _PLANES - 0.5) for n in range(_PLANES)})
        for plane in planes:
            pixels = source.read(bands, ((0, i), (0, j), (plane, plane + 1)))
            yield SampledPart(pixels, (False,) * 4, 1 / len(planes))
        return
    rows, columns = source.shape
    if rows * columns <= WHOLE:
        yield SampledPart(source.read(bands, whole(source.shape)), (True,) * 4, 1.0)
        return
    down, across = (_ranges(n, block) for n, block in zip(source.shape, source.block_shape,
                                                          strict=True))  # fmt: skip
    weights = [[(1 if 0 < k < len(line) - 1 else 0.5) / max(1, len(line) - 1)
                for k in range(len(line))] for line in (down, across)]  # fmt: skip
    for (top, bottom), high in zip(down, weights[0], strict=True):
        for (left, right), wide in zip(across, weights[1], strict=True):
            window: Window = ((top, bottom), (left, right))
            sides = (top == 0, bottom == rows, left == 0, right == columns)
            yield SampledPart(source.read(bands, window), sides, high * wide)


def _ranges(length: int, block: int) -> list[tuple[int, int]]:
    """Return ranges at both ends of an axis and between; whole blocks of the file, if small."""
    spread = starts(length, _SIDE)
    if not BLOCK // 2 <= block <= 2 * BLOCK:
        return [(start, min(start + BLOCK, length)) for start in spread]
    aligned = sorted({start // block * block for start in (*spread[:-1], length - 1)})
    return [(start, min(start + block, length)) for start in aligned]


def starts(length: int, count: int) -> Sequence[int]:
    """Return where so many blocks along an axis start, evenly spread from end to end.

    >>> starts(1000, 3), starts(100, 3)
    ([0, 372, 744], [0])
    """
    last = max(0, length - BLOCK)
    return sorted({round(k * last / (count - 1)) for k in range(count)})
