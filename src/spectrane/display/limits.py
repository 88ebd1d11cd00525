"""The values that limits and fitted curves are found from, and the limits found from them."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import astuple
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.analysis.fills import Fill, without
from spectrane.analysis.ranking import count_small, exact_percentiles, from_counts, sorted_counts
from spectrane.analysis.statistics import (
    Moments,
    band_counts,
    counts_of,
    moments_of,
    small,
)
from spectrane.analysis.walking import sampled, valid_values, walk
from spectrane.display.hurry import GLANCE, QUICK, hurried
from spectrane.engine.answers import answers
from spectrane.engine.remembered import found_once, recall, worth_keeping
from spectrane.kernels import levels
from spectrane.kernels.records import record
from spectrane.model.band import Band
from spectrane.model.curves import Curve, Shares
from spectrane.model.display_window import DisplayWindow
from spectrane.model.errors import LookError
from spectrane.model.limits import Limits, Pair, Type
from spectrane.model.look import Look
from spectrane.model.physical import ends, physical, physical_number
from spectrane.model.source import Source
from spectrane.model.uptake import measures_uptake
from spectrane.model.window import Window, extent, whole, window_area

MOST_EXACT = 16_000_000
"""Limits come from every pixel up to so many, and from about a million above."""
ENOUGH = 1_000_000
_VERSION = "limits 1"
_BINS = 4096
"""Bins of the equalising curve of floats."""

Counted = tuple[NDArray[Any], NDArray[np.int64]]
"""Numbers that occur, ascending, and how often each does."""
F64 = NDArray[np.float64]
Walk = Callable[[], Iterable[list[NDArray[Any]]]]


@record(frozen=True)
class FoundLimits:
    """Low and high in physical values, and whether they were found from every pixel."""

    low: float
    high: float
    exact: bool = True


def type_range(dtype: np.dtype[Any]) -> Pair:
    """Return the stored type's whole range; 0 to 1 for floats and booleans.

    >>> type_range(np.dtype("int16"))
    (-32768.0, 32767.0)
    """
    if dtype.kind in "fb":
        return 0.0, 1.0
    limits = np.iinfo(dtype)
    return float(limits.min), float(limits.max)


@record(frozen=True)
class AboutSource:
    """What a rule may know of a source before any value is read: see ``model.limits.About``."""

    dtype: np.dtype[Any]
    windows: Sequence[DisplayWindow]
    curved: bool
    uptake: bool = False

    def presets(self) -> dict[str, Pair]:
        """Return the windows there are whatever the file; only a name that asks reads them."""
        from spectrane.display.windows import presets

        return presets()


def rules_of(look: Look, channels: int, source: Source) -> list[Limits]:
    """Return one rule per channel, as it is carried out; a fourth is alpha, shown by its type."""
    given: tuple[Limits, ...] = look.limits
    if len(given) not in (1, channels) and not (channels == 4 and len(given) == 3):
        raise LookError(f"limits: {len(given)} given for {channels} channels; say one, or as many")
    colors = min(channels, 3)
    about = AboutSource(source.stored_type, source.windows, str(look.curve) != "linear",
                        measures_uptake(source))  # fmt: skip
    many = [one.meant(about) for one in (given * colors if len(given) == 1 else given[:colors])]
    if look.shared and len(set(many)) > 1:
        raise LookError("limits: shared ones are one for all channels, not one each")
    return many + ([Type()] if channels == 4 else [])


def found_limits(
    source: Source, bands: Sequence[int], rules: Sequence[Limits], look: Look, seen: Window,
    left_out: Sequence[Fill] = (),
) -> list[FoundLimits]:  # fmt: skip
    """Return low and high of each channel; ``seen`` is the view's window, ``left_out`` is fill that
    counts as no-data for them.

    What is found from values is found once, in one reading for all channels, and kept among the
    answers.
    """
    reads = [band for band, rule in zip(bands, rules, strict=True) if rule.reads]
    reading = Reading(source, tuple(dict.fromkeys(reads or bands[:1])), look, seen, left_out)
    if not look.shared:
        return [_limits(reading, (band,), rule) for band, rule in zip(bands, rules, strict=True)]
    pooled = _limits(reading, tuple(bands[:3]), rules[0])
    alone = [_limits(reading, (one,), rule) for one, rule in zip(bands[3:], rules[3:], strict=True)]
    return [pooled] * len(bands[:3]) + alone


def _limits(reading: Reading, bands: tuple[int, ...], rule: Limits) -> FoundLimits:
    values = SeenValues(reading, bands)

    def find() -> FoundLimits:
        low, high = rule.find(values)
        exact = reading.exact if rule.reads else not rule.sampled
        return FoundLimits(float(low), float(high), exact)

    if not rule.reads:
        return find()
    question = ("limits", bands, rule, reading.question)
    if hurried() and window_area(whole(reading.source.shape)) > QUICK:
        return _at_a_glance(reading, bands, rule, question)

    def recalled() -> FoundLimits:
        return FoundLimits(*found_once(reading.key(bands, rule), lambda: list(astuple(find()))))

    return answers.find(reading.source, question, recalled)


def _at_a_glance(
    reading: Reading, bands: tuple[int, ...], rule: Limits, question: Any
) -> FoundLimits:
    known: FoundLimits | None = answers.known(reading.source, question)
    if known is not None:
        return known
    key = reading.key(bands, rule)
    kept = None if key is None else recall(key)
    if kept is not None:
        return FoundLimits(*kept)
    seen = reading.quick(GLANCE)

    def find() -> FoundLimits:
        low, high = rule.find(SeenValues(seen, bands))
        return FoundLimits(float(low), float(high), exact=False)

    return answers.find(reading.source, ("limits of a sample", *question), find)


def fitted_curve(
    curve: Curve, source: Source, band: int, look: Look, seen: Window, found: FoundLimits,
    left_out: Sequence[Fill] = (),
) -> Curve:  # fmt: skip
    """Return a curve as it is drawn between limits: itself, or fitted to the values."""
    if not curve.needs_values:
        return curve
    reading = Reading(source, (band,), look, seen, left_out)
    positions = SeenPositions(SeenValues(reading, (band,)), found.low, found.high)
    question = ("curve", band, curve, found.low, found.high, reading.question)
    return answers.find(source, question, lambda: curve.fitted(positions))


class Reading:
    """The valid values of some bands, read once: of what limits see, or of an even part of it.

    ``sample`` is how many to take, at least, from what lies spread over it; None leaves it to size.
    """

    def __init__(
        self, source: Source, bands: Sequence[int], look: Look, seen: Window,
        left_out: Sequence[Fill] = (), sample: int | None = None,
    ) -> None:  # fmt: skip
        self.source, self.bands, self.look, self.sample = source, bands, look, sample
        self._left_out = tuple(left_out)
        self._seen = seen
        self._walk: Walk | None = None
        self._counts: list[Counted] | None = None

    @property
    def question(self) -> tuple[Any, ...]:
        """What its answers depend on besides source and bands."""
        where = self.look.limits_from
        return where, self._seen if where == "view" else None, self.look.exact, self._left_out

    def quick(self, sample: int) -> Reading:
        """Return the same, from so many values at least."""
        return Reading(self.source, self.bands, self.look, self._seen, self._left_out, sample)

    def key(self, bands: Sequence[int], rule: Limits) -> tuple[Any, ...] | None:
        """Return what limits of a whole image depend on, to keep them; None where none are kept."""
        source = self.source
        if self.look.limits_from != "image" or self.sample is not None:
            return None
        if not worth_keeping(source):
            return None
        rules = [repr(source.bands[band].nodata) for band in range(len(source.bands))]
        described = [repr(source.bands[band]) for band in bands]
        return (_VERSION, source.state, source.nodata_when, rules, described, list(bands),
                repr(rule), repr(self.question))  # fmt: skip

    @cached_property
    def place(self) -> tuple[Source, Window]:
        """The source and window that are seen: the image, the view, or a region."""
        where = self.look.limits_from
        source = without(self.source, self._left_out)
        if where == "view":
            return source, self._seen
        if where == "image":
            return source, whole(source.shape)
        from spectrane.spatial.regions import region_of  # polygons: few looks ask for them

        return region_of(source, where)

    @property
    def exact(self) -> bool:
        """Whether every pixel is read."""
        if self.sample is not None:
            return False
        return self.look.exact or window_area(self.place[1]) <= MOST_EXACT

    def blocks(self) -> Iterable[list[NDArray[Any]]]:
        """Walk the stored numbers, an array per band; nothing is read before this is asked."""
        if self._walk is None:
            self._walk = self._all() if self.exact else self._part()
        return self._walk()

    def counts(self, band: int) -> Counted:
        """Return the stored numbers of 8 or 16 bits that occur in a band, and how often."""
        if self._counts is None:
            source, window = self.place
            self._counts = (
                band_counts(source, self.bands, window) if self.exact else
                [self._counted(values) for values in next(iter(self.blocks()))]
            )  # fmt: skip
        return self._counts[self.bands.index(band)]

    def _counted(self, values: NDArray[Any]) -> Counted:
        table = np.zeros(1 << (8 * self.source.dtype.itemsize), np.int64)
        count_small(values, table)
        return sorted_counts(self.source.dtype, table)

    @property
    def small(self) -> bool:
        """Whether every number can be counted by itself: none was averaged from others."""
        return small(self.source.dtype) and (self.exact or not self._sizes())

    def _all(self) -> Walk:
        source, window = self.place
        if not small(source.dtype) and window_area(window) * len(self.bands) <= MOST_EXACT:
            held = valid_values(source.read(self.bands, window))
            return lambda: [held]
        return lambda: walk(source, self.bands, window)

    def _sizes(self) -> list[tuple[int, ...]]:
        """Return the sizes of overviews that have enough pixels in the window."""
        source, window = self.place
        if source.categories or self.sample is not None:
            return []
        sizes = [
            tuple(max(1, -(-n * r // f)) for n, r, f in zip(
                extent(window), shape, source.shape, strict=True))
            for shape in source.overviews
        ]  # fmt: skip
        return [size for size in sizes if int(np.prod(size)) >= ENOUGH]

    def _part(self) -> Walk:
        """Take the smallest overview with a million pixels in the window, else spread blocks."""
        (source, window), fitting = self.place, self._sizes()
        if fitting:
            size = min(fitting, key=lambda size: int(np.prod(size)))
            held = valid_values(source.read(self.bands, window, size, "area"))
        else:
            walking = sampled(source, self.bands, window, self.sample or ENOUGH)
            held = [np.concatenate(parts) for parts in zip(*walking(), strict=True)]
        return lambda: [held]


class FoundValues:
    """What rules ask of values, from those that are counted or walked: ``model.limits.Values``."""

    @property
    def counted(self) -> tuple[NDArray[np.float64], NDArray[np.int64]] | None:
        """The physical values that occur, ascending, and how often; None where too many do."""
        raise NotImplementedError

    def physical(self) -> Iterator[NDArray[np.float64]]:
        """Walk the physical values in float64, block by block."""
        raise NotImplementedError

    def type_range(self) -> Pair:
        """Return the stored type's whole range in physical values."""
        raise NotImplementedError

    def ends(self) -> Pair:
        """Return the least and greatest value; NaN where there is none."""
        found = self._moments()
        return (found.low, found.high) if found.count else (math.nan, math.nan)

    def moments(self) -> Pair:
        """Return the mean and σ (divisor N)."""
        found = self._moments()
        if not found.count:
            return math.nan, math.nan
        return found.mean, math.sqrt(max(0.0, found.squares / found.count))

    def _moments(self) -> Moments:
        if self.counted is not None:
            return moments_of(*self.counted)
        moments = Moments()
        for values in self.physical():
            moments.add(values)
        return moments

    def percentiles(self, percents: Sequence[float]) -> list[float]:
        """Return percentiles of physical values."""
        if self.counted is not None:
            return from_counts(*self.counted, percents)
        return exact_percentiles(self.physical, percents)

    def distances(self, middle: float, percent: float) -> float:
        """Return the percentile of the distances of values from ``middle``."""
        return self._percentile_of(lambda v: np.abs(v - middle), percent)

    def magnitudes(self, percent: float) -> float:
        """Return the percentile of the magnitudes of values that are not 0; 0 where all are."""
        found = self._percentile_of(lambda v: np.where(v != 0, np.abs(v), np.nan), percent)
        return 0.0 if math.isnan(found) else found

    def above(self, level: float, percent: float) -> float:
        """Return the percentile of the values above a level; NaN where none are."""
        return self._percentile_of(lambda v: np.where(v > level, v, np.nan), percent)

    def _percentile_of(self, change: Callable[[F64], F64], percent: float) -> float:
        """Return a percentile of what becomes of values, without those that become NaN."""
        if self.counted is None:

            def walk() -> Iterator[F64]:
                for stored in self.physical():
                    made = change(stored)
                    yield made[made == made]

            return float(exact_percentiles(walk, [percent])[0])
        values = change(self.counted[0])
        order = np.argsort(values, kind="stable")[: int((values == values).sum())]
        found = from_counts(values[order], self.counted[1][order], [percent]) if order.size else []
        return float(found[0]) if found else math.nan


class SeenValues(FoundValues):
    """Values of one or several bands of one raster together, in physical values."""

    def __init__(self, reading: Reading, bands: Sequence[int]) -> None:
        self.reading, self.bands = reading, bands
        self.described = [reading.source.bands[band] for band in bands]

    def physical(self) -> Iterator[NDArray[np.float64]]:
        """Walk the physical values of all bands in float64, block by block."""
        for band, values in self._stored():
            yield physical(values, band, np.float64)

    def _stored(self) -> Iterator[tuple[Band, NDArray[Any]]]:
        places = [self.reading.bands.index(band) for band in self.bands]
        for blocks in self.reading.blocks():
            for band, place in zip(self.described, places, strict=True):
                yield band, blocks[place]

    @cached_property
    def counted(self) -> tuple[NDArray[np.float64], NDArray[np.int64]] | None:
        """The physical values that occur, ascending, and how often; None of types too wide."""
        if not self.reading.small:
            return None
        parts = [self.reading.counts(band) for band in self.bands]
        values = np.concatenate([
            physical(found, band, np.float64)
            for band, (found, _) in zip(self.described, parts, strict=True)
        ])  # fmt: skip
        order = np.argsort(values, kind="stable")
        return values[order], np.concatenate([often for _, often in parts])[order]

    def type_range(self) -> Pair:
        """Return the stored type's whole range in physical values."""
        return ends(type_range(self.reading.source.stored_type), self.described[0])

    def percentiles(self, percents: Sequence[float]) -> list[float]:
        """Return percentiles of physical values."""
        first = self.described[0]
        alike = all((b.scale, b.offset) == (first.scale, first.offset) for b in self.described)
        if self.counted is not None or not alike:
            return super().percentiles(percents)
        # Stored numbers are found faster; under a negative scale they run the other way.
        turned = [100.0 - p for p in percents] if first.scale < 0 else list(percents)
        found = exact_percentiles(lambda: (values for _, values in self._stored()), turned)
        return [physical_number(value, first) for value in found]


class SeenPositions:
    """Values between two limits as positions u in 0...1: ``model.curves.Positions``."""

    def __init__(self, values: SeenValues, low: float, high: float) -> None:
        self.values, self.low, self.high = values, low, high

    def _between(self, found: NDArray[np.float64]) -> NDArray[np.bool_]:
        return (found >= min(self.low, self.high)) & (found <= max(self.low, self.high))

    def _blocks(self) -> Iterator[NDArray[np.float64]]:
        for found in self.values.physical():
            yield levels.relative_position(found[self._between(found)], self.low, self.high)

    def percentile(self, percent: float) -> float:
        """Return a percentile of u; NaN where nothing lies between the limits."""
        if self.values.counted is None:
            return exact_percentiles(self._blocks, [percent])[0]
        at, often = self._counted(*self.values.counted)
        return from_counts(at, often, [percent])[0]

    def shares(self) -> Shares:
        """Return the share at or below each u: of every value of integers, of bins of floats."""
        if self.values.counted is None and self.values.reading.source.dtype.kind == "f":
            return self._in_bins()
        at, often = self._counted(*(self.values.counted or counts_of(self.values.physical())))
        total = np.cumsum(often)
        return Shares(at, total / max(1, total[-1] if total.size else 1))

    def _counted(
        self, values: NDArray[np.float64], often: NDArray[np.int64]
    ) -> tuple[NDArray[np.float64], NDArray[np.int64]]:
        """Return the positions that occur between the limits, ascending, and how often."""
        inside = self._between(values)
        at = levels.relative_position(values[inside], self.low, self.high)
        order = np.argsort(at, kind="stable")
        return at[order], often[inside][order]

    def _in_bins(self) -> Shares:
        table = np.zeros(_BINS, np.int64)
        for at in self._blocks():
            table += np.bincount(np.minimum((at * _BINS).astype(int), _BINS - 1), minlength=_BINS)
        total = np.concatenate([[0], np.cumsum(table)]) / max(1, table.sum())
        return Shares(np.linspace(0, 1, _BINS + 1), total, between=True)
