"""Fill values that nobody declared: found in a sample at full resolution, and told.

Overviews are of no use for it: fill is averaged into them.
"""

from __future__ import annotations

import shlex
import warnings
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.analysis.sampling import BLOCK, WHOLE, starts
from spectrane.analysis.walking import finite
from spectrane.engine.answers import answers
from spectrane.engine.described import Described
from spectrane.kernels.ranks import percentiles
from spectrane.model.errors import DataWarning
from spectrane.model.nodata import NoDataValue
from spectrane.model.pixels import Pixels
from spectrane.model.source import Source
from spectrane.model.window import Window, area, whole

LEAST = 0.0005
"""A value repeated in a smaller share of the pixels is never suspected."""
FILLED = 0.05
"""A value that fills a larger share than this from the edges inward looks like fill."""
TRADES = (-9999.0, -99999.0, -32768.0)
HUGE = 1e20
"""Magnitudes from here on are no measurement."""
_GAP = 0.005
"""How far, of the range of the rest, fill of a single band must stand apart at the edges."""
_SMALLEST = 32
"""Images with fewer rows or columns are too small to tell what runs from their edges."""
_SIDE, _PLANES = 3, 6


@dataclass(frozen=True)
class Fill:
    """A stored number that looks like fill: in which bands (from 0), and its share of the pixels.

    ``edges`` tells that it runs from the edges inward, ``complete`` that every pixel was looked at.
    """

    value: int | float
    bands: tuple[int, ...]
    share: float
    edges: bool
    complete: bool


def fills(source: Source, bands: Sequence[int]) -> tuple[Fill, ...]:
    """Return what looks like fill among the valid numbers of bands (indices from 0).

    A value is suspected where it is repeated exactly in at least 0.05 % of the pixels, is one of
    the trade's (-9999, -99999, -32768, magnitudes of 1e20 and more, an end of a type of 16 bits and
    more), and stands apart: further from every other value than the 1st from the 99th percentile
    of the rest. Or where it is a constant that runs from the edges inward in every band, and is not
    as common inside. 0 inside an image, and 0 of a volume, is never suspected, nor are classes,
    flags and masks.
    """
    if source.dtype.kind == "b" or not source.mixable:
        return ()
    asked = tuple(dict.fromkeys(bands))
    return answers.find(source, ("fills", asked), lambda: _found(source, asked))


def without(source: Source, found: Sequence[Fill]) -> Source:
    """Return a source of which fill is no-data too; itself where there is none.

    >>> from spectrane.engine.memory import ArraySource
    >>> source = ArraySource(np.array([[[1, -9999]]], np.int16))
    >>> without(source, [Fill(-9999, (0,), 0.5, False, True)]).bands[0].nodata
    -9999
    """
    if not found:
        return source
    bands = list(source.bands)
    for fill in found:
        for band in fill.bands:
            bands[band] = replace(bands[band], nodata=joined(bands[band].nodata, fill.value))
    return Described(source, bands)


def joined(declared: NoDataValue, value: int | float) -> NoDataValue:
    """Return declared no-data with one more value."""
    if declared is None:
        return value
    known = declared if isinstance(declared, tuple) else (declared,)
    return (*known, value)


def mending(source: Source, found: Sequence[Fill]) -> str:
    """Return the command that declares fill as no-data, beside what is declared already."""
    value: NoDataValue = next((band.nodata for band in source.bands if band.nodata is not None),
                              None)  # fmt: skip
    for fill in found:
        value = joined(value, fill.value)
    items = value if isinstance(value, tuple) else (value,)
    said = ",".join(f"{one[0]:g}..{one[1]:g}" if isinstance(one, tuple) else spoken(one)
                    for one in items)  # fmt: skip
    return f"spectrane amend {shlex.quote(source.name or 'FILE')} --nodata {said}"


def spoken(value: Any) -> str:
    """Say a number so that it is read back exactly.

    >>> spoken(-9999.0), spoken(-3.4028234663852886e38)
    ('-9999', '-3.4028234663852886e+38')
    """
    number = float(value)
    return str(int(number)) if number.is_integer() and abs(number) < 1e15 else repr(number)


def said_of(source: Source, fill: Fill) -> str:
    """Say what was found of one fill value, in words."""
    named = [source.bands[band].name for band in fill.bands]
    where = "every band" if len(named) == len(source.bands) > 1 else ", ".join(named[:4])
    about = "" if fill.complete else "about "
    edges = ", from the edges inward," if fill.edges else ""
    share = f"{100 * fill.share:.2g}%" if fill.share < 0.1 else f"{fill.share:.0%}"
    return f"{about}{share} of the pixels{edges} are exactly {spoken(fill.value)} in {where}"


def drawn_with(source: Source, found: Sequence[Fill], *, left_out: bool) -> list[str]:
    """Say what fill that nobody declared does to a picture, and what mends it."""
    what = "it is left out of the limits" if left_out else "it counts as data"
    return [f"{said_of(source, fill)}, which looks like fill that nobody declared; {what}, and "
            f"{mending(source, found)} declares it" for fill in found]  # fmt: skip


def tell_fills(source: Source, bands: Sequence[int], stacklevel: int = 3) -> None:
    """Warn of fill that nobody declared, with the command that declares it."""
    found = fills(source, bands)
    for fill in found:
        warnings.warn(
            f"{source.name or 'the array'}: {said_of(source, fill)}, which looks like fill that "
            f"nobody declared, and counts as data: {mending(source, found)}",
            DataWarning, stacklevel=stacklevel,
        )  # fmt: skip


@dataclass(frozen=True)
class _Part:
    """A part of the image: which of its sides are the image's edge, and its weight of all parts."""

    pixels: Pixels
    sides: tuple[bool, ...]
    weight: float

    def valid(self, index: int) -> NDArray[Any]:
        """Return the valid numbers of a band, NaN and infinities too where no mask tells them."""
        values: NDArray[Any] = self.pixels.values[index]
        plain = self.pixels.mask is None and self.pixels.alpha is None
        if plain and not (self.pixels.rules[index].values or self.pixels.rules[index].ranges):
            return values.ravel(order="K")  # in whatever order they lie
        shown: NDArray[Any] = values[self.pixels.validity[index]]
        return shown


def _found(source: Source, bands: tuple[int, ...]) -> tuple[Fill, ...]:
    parts = list(_sample(source, bands))
    seen = sum(part.pixels.values[0].size for part in parts)
    complete = seen == area(whole(source.shape))
    suspects: dict[int | float, list[tuple[int, float]]] = {}
    for index, band in enumerate(bands):
        for value, share in _apart(source.dtype, parts, index):
            suspects.setdefault(value, []).append((band, share))
    found = [Fill(value, tuple(band for band, _ in where), max(share for _, share in where),
                  False, complete) for value, where in suspects.items()]  # fmt: skip
    edge = _from_the_edges(source, bands, parts, complete)
    if edge is not None and edge.value not in suspects:
        found.append(edge)
    return tuple(found)


def _sample(source: Source, bands: Sequence[int]) -> Iterator[_Part]:
    """Yield parts at full resolution: all, or a few planes, or blocks at the corners and between.

    Blocks at the edges weigh half, as in the trapezoidal rule: they stand for half as much.
    """
    if len(source.shape) == 3:
        i, j, k = source.shape
        planes = sorted({round((n + 0.5) * k / _PLANES - 0.5) for n in range(_PLANES)})
        for plane in planes:
            pixels = source.read(bands, ((0, i), (0, j), (plane, plane + 1)))
            yield _Part(pixels, (False,) * 4, 1 / len(planes))
        return
    rows, columns = source.shape
    if rows * columns <= WHOLE:
        yield _Part(source.read(bands, whole(source.shape)), (True,) * 4, 1.0)
        return
    down, across = (_ranges(n, block) for n, block in zip(source.shape, source.block_shape,
                                                          strict=True))  # fmt: skip
    weights = [[(1 if 0 < k < len(line) - 1 else 0.5) / max(1, len(line) - 1)
                for k in range(len(line))] for line in (down, across)]  # fmt: skip
    for (top, bottom), high in zip(down, weights[0], strict=True):
        for (left, right), wide in zip(across, weights[1], strict=True):
            window: Window = ((top, bottom), (left, right))
            sides = (top == 0, bottom == rows, left == 0, right == columns)
            yield _Part(source.read(bands, window), sides, high * wide)


def _ranges(length: int, block: int) -> list[tuple[int, int]]:
    """Return ranges at both ends of an axis and between; whole blocks of the file, if small."""
    spread = starts(length, _SIDE)
    if not BLOCK // 2 <= block <= 2 * BLOCK:
        return [(start, min(start + BLOCK, length)) for start in spread]
    aligned = sorted({start // block * block for start in (*spread[:-1], length - 1)})
    return [(start, min(start + block, length)) for start in aligned]


def _apart(
    dtype: np.dtype[Any], parts: Sequence[_Part], index: int
) -> Iterator[tuple[int | float, float]]:
    """Yield values of the trade that stand apart in one band, and the share of each."""
    if dtype.itemsize < 2:
        return
    numbers = [part.valid(index) for part in parts]
    total = sum(one.size for one in numbers)
    counts: dict[Any, int] = {}
    for one in numbers:
        for value, count in _candidates(dtype, one):
            counts[value] = counts.get(value, 0) + count
    often = [value for value, n in counts.items() if n >= max(2, LEAST * total)]
    if not often:
        return
    rest = finite(np.concatenate([one[~np.isin(one, np.array(often, dtype))] for one in numbers]))
    if not rest.size or (dtype.kind in "iu" and int(rest.min()) == int(rest.max())):
        return  # two numbers are a mask
    low, high = (float(one) for one in percentiles(rest, (1, 99)))
    for value in often:
        gap = float(np.abs(rest.astype(np.float64) - float(value)).min())
        if gap > high - low:
            share = sum(part.weight * float((part.pixels.values[index] == value).mean())
                        for part in parts)  # fmt: skip
            yield value.item(), share


def _candidates(dtype: np.dtype[Any], values: NDArray[Any]) -> Iterator[tuple[Any, int]]:
    """Yield the numbers of the trade that occur, and how often."""
    known: list[Any] = []
    if dtype.kind == "f":
        most = float(np.finfo(dtype).max)
        known = [dtype.type(one) for one in TRADES if abs(one) <= most]
        huge = finite(values[np.abs(values) >= dtype.type(min(HUGE, most))])
        yield from zip(*np.unique(huge, return_counts=True), strict=True)
    else:
        span = np.iinfo(dtype)
        known = [dtype.type(int(one)) for one in TRADES if span.min <= one <= span.max]
        known += [dtype.type(end) for end in (span.min, span.max) if end != 0]
    for value in dict.fromkeys(known):
        count = int(np.count_nonzero(values == value))
        if count:
            yield value, count


def _from_the_edges(
    source: Source, bands: Sequence[int], parts: Sequence[_Part], complete: bool
) -> Fill | None:
    """Return a constant that runs from the edges inward in every band; of what declares none."""
    declared = any(band.nodata is not None for band in source.bands)
    flat = len(source.shape) == 2 and min(source.shape) >= _SMALLEST
    if declared or source.has_mask or source.alpha or not flat:
        return None
    value = _commonest_at_the_edge(parts)
    drawn = source.dtype == np.uint8 and (len(source.bands) == 1 or not source.grid.placed)
    if value is None or (drawn and value != 0):
        return None  # the paper of a drawing, not fill
    share = everywhere = 0.0
    for part in parts:
        same = (part.pixels.values == value).all(axis=0)
        share += part.weight * float(_inward(same, part.sides).mean())
        everywhere += part.weight * float(same.mean())
    if share < FILLED or 2 * share < everywhere or not _stands_off(source, value, parts):
        return None  # what is mostly inside, such as no counts in a count, is data at the edges too
    return Fill(value.item(), tuple(bands), share, True, complete)


def _stands_off(source: Source, value: Any, parts: Sequence[_Part]) -> bool:
    """Tell whether there is a rest that keeps off a value.

    Two numbers alone are a mask. In a single band of 16 bits and more, a value that others come
    close to is one of what is measured, such as open water in sea ice.
    """
    rest = np.concatenate([part.valid(0) for part in parts])
    rest = finite(rest[rest != value])
    if not rest.size or rest.min() == rest.max():
        return False
    if len(source.bands) > 1 or source.dtype.itemsize == 1:
        return True
    rest = rest.astype(np.float64)
    low, high = percentiles(rest, (1, 99))
    few = int(LEAST * rest.size)
    near = np.partition(np.abs(rest - float(value)), few)[few]
    return bool(near > _GAP * (float(high) - float(low)))


def _commonest_at_the_edge(parts: Sequence[_Part]) -> Any:
    """Return the number that most of the edge in the first band is, if it is a good part of it."""
    lines: list[NDArray[Any]] = []
    for part in parts:
        band = part.pixels.values[0]
        borders = (band[0], band[-1], band[:, 0], band[:, -1])
        lines += [line for line, there in zip(borders, part.sides, strict=True) if there]
    border = finite(np.concatenate(lines))
    if not border.size:
        return None
    values, counts = np.unique(border, return_counts=True)
    return values[counts.argmax()] if counts.max() >= FILLED * border.size else None


def _inward(same: NDArray[np.bool_], sides: Sequence[bool]) -> NDArray[np.bool_]:
    """Return where a run of True reaches from one of the sides: top, bottom, left, right."""
    reached = np.zeros_like(same)
    for axis, (first, last) in enumerate((sides[:2], sides[2:])):
        if first:
            reached |= np.logical_and.accumulate(same, axis=axis)
        if last:
            reached |= np.flip(np.logical_and.accumulate(np.flip(same, axis), axis=axis), axis)
    return reached
