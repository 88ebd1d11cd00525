"""Fill values that nobody declared: found in a sample at full resolution, and told."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import asdict, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.analysis.sampling import Sample, SampledPart, sample_of
from spectrane.analysis.walking import finite
from spectrane.engine.answers import answers
from spectrane.engine.described import Described
from spectrane.engine.remembered import found_once, worth_keeping
from spectrane.kernels.ranks import percentiles
from spectrane.kernels.records import record
from spectrane.model.addresses import NAMELESS, amend_command, is_address
from spectrane.model.nodata import NoDataValue
from spectrane.model.physical import stored_numbers
from spectrane.model.source import Source
from spectrane.model.telling import warn_caller

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


@record(frozen=True)
class Fill:
    """A stored number that looks like fill: in which bands (from 0), and its share of the pixels.

    ``edges`` tells that it runs from the edges inward, ``complete`` that every pixel was looked at.
    """

    value: int | float
    bands: tuple[int, ...]
    share: float
    edges: bool
    complete: bool


Ends = tuple[float, float]
"""The least and the greatest physical value of a band."""


def fills(
    source: Source, bands: Sequence[int], *, sample: Sample | None = None,
    ends: Sequence[Ends] | None = None,
) -> tuple[Fill, ...]:  # fmt: skip
    """Return what looks like fill among the valid numbers of bands (indices from 0).

    Who has a sample of these bands already, or knows the ends of all their values, gives them: it
    is quicker. What is found is remembered.

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
    known = dict(zip(bands, ends, strict=True)) if ends is not None else {}

    def search() -> tuple[Fill, ...]:
        return _found(source, sample or sample_of(source, asked), known)

    return answers.find(source, ("fills", asked), lambda: _kept_or(search, source, asked))


_VERSION = "fills 2"


def _kept_or(
    search: Callable[[], tuple[Fill, ...]], source: Source, asked: tuple[int, ...]
) -> tuple[Fill, ...]:
    """Return what was found of a large file before, or search and keep it."""
    if not worth_keeping(source):
        return search()
    key = (_VERSION, source.state, source.nodata_when, [repr(b) for b in source.bands], asked)
    rows = found_once(key, lambda: [asdict(one) for one in search()])
    return tuple(Fill(**{**one, "bands": tuple(one["bands"])}) for one in rows)


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
    """Return what declares fill as no-data, beside what is declared already: a command, or for
    what lies elsewhere the option of any.
    """
    options = f"--nodata {declaring(source, found)}"
    if is_address(source.name) or source.name in NAMELESS:
        return options
    return amend_command(source.name or "FILE", options)


def declaring(source: Source, found: Sequence[Fill]) -> str:
    """Return no-data with fill, beside what is declared already, as ``--nodata`` takes it."""
    return nodata_text(declared(source, found))


def declared(source: Source, found: Sequence[Fill]) -> list[Any]:
    """Return what is declared as no-data already, and fill beside it.

    >>> from spectrane.engine.memory import ArraySource
    >>> source = ArraySource(np.array([[[1, -9999]]], np.int16))
    >>> declared(source, [Fill(-9999, (0,), 0.5, False, True)])
    [-9999]
    """
    value: NoDataValue = next(
        (band.nodata for band in source.bands if band.rule.held_by(source.dtype)), None
    )
    for fill in found:
        value = joined(value, fill.value)
    return [] if value is None else list(value) if isinstance(value, tuple) else [value]


def nodata_text(items: Sequence[Any]) -> str:
    """Return numbers and (low, high) ranges as ``--nodata`` takes them.

    >>> nodata_text([0, (250, 255)]), nodata_text([])
    ('0,250..255', 'none')
    """
    said = ",".join(f"{item[0]:g}..{item[1]:g}" if isinstance(item, tuple) else format_fill(item)
                    for item in items)  # fmt: skip
    return said or "none"


def format_fill(value: Any) -> str:
    """Say a number so that it is read back exactly.

    >>> format_fill(-9999.0), format_fill(-3.4028234663852886e38)
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
    return f"{about}{share} of the pixels{edges} are exactly {format_fill(fill.value)} in {where}"


def drawn_with(source: Source, found: Sequence[Fill], *, left_out: bool) -> list[str]:
    """Say what fill that nobody declared does to a picture, and what mends it."""
    what = "it is left out of the limits" if left_out else "it counts as data"
    return [f"{said_of(source, fill)}, which looks like fill that nobody declared; {what}, and "
            f"{mending(source, found)} declares it" for fill in found]  # fmt: skip


def tell_fills(source: Source, bands: Sequence[int], ends: Sequence[Ends] | None) -> None:
    """Warn of fill that nobody declared, with the command that declares it."""
    found = fills(source, bands, ends=ends)
    for fill in found:
        warn_caller(
            f"{source.name or 'the array'}: {said_of(source, fill)}, which looks like fill that "
            f"nobody declared, and counts as data: {mending(source, found)}"
        )


def _found(source: Source, sample: Sample, ends: Mapping[int, Ends]) -> tuple[Fill, ...]:
    complete = sample.complete
    suspects: dict[int | float, list[tuple[int, float]]] = {}
    for index, band in enumerate(sample.bands):
        if band in ends and not _possible(source, band, ends[band]):
            continue
        for value, share in _apart(source.dtype, sample.parts, index):
            suspects.setdefault(value, []).append((band, share))
    found = [Fill(value, tuple(band for band, _ in where), max(share for _, share in where),
                  False, complete) for value, where in suspects.items()]  # fmt: skip
    edge = _from_the_edges(source, sample)
    if edge is not None and edge.value not in suspects:
        found.append(edge)
    return tuple(found)


def _possible(source: Source, band: int, ends: Ends) -> bool:
    """Tell whether a number of the trade can be between the ends of a band's physical values."""
    low, high = sorted(stored_numbers(end, source.bands[band]) for end in ends)
    nearly = 1e-6 * max(abs(low), abs(high))  # the ends were rounded
    low, high = low - nearly, high + nearly
    far = source.dtype.kind == "f" and max(-low, high) >= float(_huge(source.dtype))
    return far or any(low <= float(one) <= high for one in _of_the_trade(source.dtype))


def _apart(
    dtype: np.dtype[Any], parts: Sequence[SampledPart], index: int
) -> Iterator[tuple[int | float, float]]:
    """Yield values of the trade that stand apart in one band, and the share of each."""
    if dtype.itemsize < 2:
        return
    numbers = [part.valid(index) for part in parts]
    total = sum(part.size for part in numbers)
    counts: dict[Any, int] = {}
    for part in numbers:
        for value, count in _candidates(dtype, part):
            counts[value] = counts.get(value, 0) + count
    often = [value for value, n in counts.items() if n >= max(2, LEAST * total)]
    if not often:
        return
    rest = finite(
        np.concatenate([part[~np.isin(part, np.array(often, dtype))] for part in numbers])
    )
    if not rest.size or (dtype.kind in "iu" and int(rest.min()) == int(rest.max())):
        return  # two numbers are a mask
    low, high = (float(percentile) for percentile in percentiles(rest, (1, 99)))
    for value in often:
        gap = float(np.abs(rest.astype(np.float64) - float(value)).min())
        if gap > high - low:
            share = sum(part.weight * float((part.pixels.values[index] == value).mean())
                        for part in parts)  # fmt: skip
            yield value.item(), share


def _huge(dtype: np.dtype[Any]) -> Any:
    return dtype.type(min(HUGE, float(np.finfo(dtype).max)))


def _of_the_trade(dtype: np.dtype[Any]) -> list[Any]:
    """Return the single numbers of the trade that a type holds."""
    if dtype.kind == "f":
        return [dtype.type(one) for one in TRADES if abs(one) <= float(np.finfo(dtype).max)]
    span = np.iinfo(dtype)
    known = [int(one) for one in TRADES if span.min <= one <= span.max]
    known += [end for end in (span.min, span.max) if end != 0]
    return [dtype.type(one) for one in dict.fromkeys(known)]


def _candidates(dtype: np.dtype[Any], values: NDArray[Any]) -> Iterator[tuple[Any, int]]:
    """Yield the numbers of the trade that occur, and how often."""
    if not values.size:
        return
    low, high = values.min(), values.max()
    if low != low:  # NaN hides the ends
        values = finite(values)
        low, high = (values.min(), values.max()) if values.size else (low, high)
    if dtype.kind == "f" and max(-low, high) >= _huge(dtype):
        far = finite(values[np.abs(values) >= _huge(dtype)])
        yield from zip(*np.unique(far, return_counts=True), strict=True)
    for value in _of_the_trade(dtype):
        count = int(np.count_nonzero(values == value)) if low <= value <= high else 0
        if count:
            yield value, count


def _from_the_edges(source: Source, sample: Sample) -> Fill | None:
    """Return a constant that runs from the edges inward in every band; of what declares none."""
    declared = any(band.rule.held_by(source.dtype) for band in source.bands)
    flat = len(source.shape) == 2 and min(source.shape) >= _SMALLEST
    if declared or source.has_mask or source.alpha or not flat:
        return None
    value = _commonest_at_the_edge(sample.parts)
    drawn = source.dtype == np.uint8 and (len(source.bands) == 1 or not source.grid.placed)
    if value is None or (drawn and value != 0):
        return None  # the paper of a drawing, not fill
    share = everywhere = 0.0
    for part in sample.parts:
        same = (part.pixels.values == value).all(axis=0)
        share += part.weight * float(_inward(same, part.sides).mean())
        everywhere += part.weight * float(same.mean())
    if share < FILLED or 2 * share < everywhere or not _stands_off(source, value, sample):
        return None  # what is mostly inside, such as no counts in a count, is data at the edges too
    return Fill(value.item(), sample.bands, share, True, sample.complete)


def _stands_off(source: Source, value: Any, sample: Sample) -> bool:
    """Tell whether there is a rest that keeps off a value.

    Two numbers alone are a mask. In a single band of 16 bits and more, a value that others come
    close to is one of what is measured, such as open water in sea ice.
    """
    rest = sample.values(0)
    rest = rest[rest != value]
    if not rest.size or rest.min() == rest.max():
        return False
    if len(source.bands) > 1 or source.dtype.itemsize == 1:
        return True
    rest = rest.astype(np.float64)
    low, high = percentiles(rest, (1, 99))
    few = int(LEAST * rest.size)
    near = np.partition(np.abs(rest - float(value)), few)[few]
    return bool(near > _GAP * (float(high) - float(low)))


def _commonest_at_the_edge(parts: Sequence[SampledPart]) -> Any:
    """Return the number that most of the edge in the first band is, if it is a good part of it."""
    lines: list[NDArray[Any]] = []
    for part in parts:
        band = part.pixels.values[0]
        borders = (band[0], band[-1], band[:, 0], band[:, -1])
        lines += [line for line, there in zip(borders, part.sides, strict=True) if there]
    border = finite(np.concatenate(lines))
    if not border.size:
        return None
    # Numbers of 16 bits are sorted by their digits then, ten times as fast.
    ordered = np.sort(border, kind="stable" if border.itemsize <= 2 else None)
    last = np.append(np.flatnonzero(ordered[1:] != ordered[:-1]), ordered.size - 1)
    counts = np.diff(last, prepend=-1)
    return ordered[last[counts.argmax()]] if counts.max() >= FILLED * border.size else None


def _inward(same: NDArray[np.bool_], sides: Sequence[bool]) -> NDArray[np.bool_]:
    """Return where a run of True reaches from one of the sides: top, bottom, left, right."""
    reached = np.zeros_like(same)
    for axis, (first, last) in enumerate((sides[:2], sides[2:])):
        if first:
            reached |= np.logical_and.accumulate(same, axis=axis)
        if last:
            reached |= np.flip(np.logical_and.accumulate(np.flip(same, axis), axis=axis), axis)
    return reached
