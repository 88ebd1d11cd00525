"""Where low and high come from."""

from __future__ import annotations

import warnings
from collections.abc import Callable, Iterable, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.analysis.ranking import count_small, exact_percentiles, from_counts, sorted_counts
from spectrane.analysis.statistics import Moments, small
from spectrane.analysis.walking import sampled, valid_values, walk
from spectrane.kernels import curves
from spectrane.model.band import Band
from spectrane.model.display_window import DisplayWindow, find_window, no_window
from spectrane.model.errors import DataWarning, LookError
from spectrane.model.look import Look, Setting, presets
from spectrane.model.source import Source
from spectrane.model.window import Window, area, extent, whole

MOST_EXACT = 16_000_000
"""Limits come from every pixel up to so many, and from about a million above."""
ENOUGH = 1_000_000
_BINS = 4096
"""Bins of the equalising curve of floats."""
DEFAULT = Setting("percentile", (1.0, 99.0))

Found = tuple[float, float, bool]
"""Low and high in physical values, and whether they are exact."""
Walk = Callable[[], Iterable[list[NDArray[Any]]]]


def type_range(dtype: np.dtype[Any]) -> tuple[float, float]:
    """Return the stored type's whole range; 0 to 1 for floats and booleans.

    >>> type_range(np.dtype("int16"))
    (-32768.0, 32767.0)
    """
    if dtype.kind in "fb":
        return 0.0, 1.0
    limits = np.iinfo(dtype)
    return float(limits.min), float(limits.max)


def settled(setting: Setting, dtype: np.dtype[Any]) -> Setting:
    """Return what ``auto`` means for a type; other settings are left as they are."""
    if setting.kind != "auto":
        return setting
    return Setting("type") if dtype.itemsize == 1 else DEFAULT


def window_meant(setting: Setting, windows: Sequence[DisplayWindow], curve: str) -> Setting:
    """Return what a window called by name means: the file's own, with its function, or a preset.

    A curve that the look names replaces the function. Raises LookError where there is none.
    """
    name = setting.name or setting.preset
    index = find_window(windows, name) if setting.kind == "window" and name else None
    if index is None:
        if setting.kind == "window" and not setting.parameters:
            raise no_window(windows, name, () if name.isdecimal() else sorted(presets()))
        return setting
    one = windows[index]
    label = one.explanation or str(index + 1)
    if curve == "linear":
        return Setting("voi", (float(index),), label)
    return Setting("window", (one.center, one.width), label)


def kept_range(source: Source) -> tuple[float, float] | None:
    """Return low and high that are kept with a file, in physical values; None where none are."""
    if source.look is None:
        return None
    setting = window_meant(source.look.limits[0], source.windows, source.look.curve)
    if setting.kind not in ("fixed", "window", "voi"):
        return None
    low, high, _ = _given(setting, source, source.bands[0])
    return low, high


def settings_of(look: Look, channels: int, source: Source) -> list[Setting]:
    """Return one setting per channel; a fourth is alpha, which is shown by its type."""
    given: tuple[Setting, ...] = look.limits
    if len(given) not in (1, channels) and not (channels == 4 and len(given) == 3):
        raise LookError(f"limits: {len(given)} given for {channels} channels")
    colors = min(channels, 3)
    many = given * colors if len(given) == 1 else given[:colors]
    many = tuple(window_meant(one, source.windows, look.curve) for one in many)
    if look.shared and len(set(many)) > 1:
        raise LookError("limits: shared ones are one for all channels, not one each")
    alpha = [Setting("type")] if channels == 4 else []
    return [settled(setting, source.dtype) for setting in many] + alpha


def find_limits(
    source: Source, bands: Sequence[int], settings: Sequence[Setting], look: Look, seen: Window
) -> list[Found]:
    """Return low, high and exactness for each channel; ``seen`` is the view's window.

    Warns where a band has no valid value, or all its values are one.
    """
    source, window = seen_by(source, look, seen)
    from_data = [k for k, setting in enumerate(settings) if setting.kind in _FROM_VALUES]
    found: dict[int, Found] = {}
    if from_data:
        values = _Values(source, [bands[k] for k in from_data], window, look.exact)
        if look.shared:
            pooled = values.pooled(settings[from_data[0]])
            found = dict.fromkeys(from_data, pooled)
        else:
            found = {k: values.limits(n, settings[k]) for n, k in enumerate(from_data)}
    for k, setting in enumerate(settings):
        found.setdefault(k, _given(setting, source, source.bands[bands[k]]))
    for k, (low, high, _) in found.items():
        if settings[k].kind == "voi":
            continue  # a window of width 1 is meant as a step
        _warn_of_one_value(source.bands[bands[k]], low, high)
    return [found[k] for k in range(len(settings))]


def seen_by(source: Source, look: Look, seen: Window) -> tuple[Source, Window]:
    """Return what limits and the equalising curve are found from: image, view, or a region."""
    if look.limits_from == "view":
        return source, seen
    if look.limits_from == "image":
        return source, whole(source.shape)
    from spectrane.spatial.regions import region_of  # polygons: few looks ask for them

    return region_of(source, look.limits_from)


def equaliser(
    source: Source, index: int, look: Look, seen: Window, low: float, high: float
) -> curves.Curve:
    """Return the equalising curve of one band between two limits."""
    source, window = seen_by(source, look, seen)
    key = (index, "equalise", low, high, window, look.exact)
    kept: dict[Any, curves.Curve] = source.__dict__.setdefault("_curves_found", {})
    if key not in kept:
        kept[key] = _Values(source, [index], window, look.exact).shares(0, low, high)
    return kept[key]


_FROM_VALUES = ("minmax", "percentile", "deviation", "symmetric")


def _given(setting: Setting, source: Source, band: Band) -> Found:
    if setting.kind == "voi":
        return (*source.windows[int(setting.parameters[0])].limits, True)
    if setting.kind == "fixed":
        return setting.parameters[0], setting.parameters[1], True
    if setting.kind == "window":
        center, width = setting.parameters
        return center - width / 2, center + width / 2, True
    low, high = (end * band.scale + band.offset for end in type_range(source.dtype))
    return min(low, high), max(low, high), True


def _warn_of_one_value(band: Band, low: float, high: float) -> None:
    if low == high:
        warnings.warn(
            f"{band.name}: low and high limit are both {low:.6g}, so the picture only tells "
            "below, at and above; give fixed limits to see more", DataWarning, stacklevel=2,
        )  # fmt: skip


class _Values:
    """The values that limits are found from: all of a window, or an even part of it."""

    def __init__(self, source: Source, bands: Sequence[int], window: Window, exact: bool) -> None:
        self.source, self.bands, self.window = source, bands, window
        self.exact = exact or area(window) <= MOST_EXACT
        self._made: Walk | None = None

    def walk(self) -> Iterable[list[NDArray[Any]]]:
        """Walk the values of each band; nothing is read before they are needed."""
        if self._made is None:
            self._made = self._all(self.window) if self.exact else self._part(self.window)
        return self._made()

    def _all(self, window: Window) -> Walk:
        if area(window) * len(self.bands) <= MOST_EXACT:
            held = valid_values(self.source.read(self.bands, window))
            return lambda: [held]
        return lambda: walk(self.source, self.bands, window)

    def _part(self, window: Window) -> Walk:
        """Take the smallest overview with a million pixels in the window, else spread blocks."""
        sizes = [
            tuple(max(1, -(-n * r // f)) for n, r, f in zip(
                extent(window), shape, self.source.shape, strict=True))
            for shape in self.source.overviews
        ]  # fmt: skip
        fitting = [size for size in sizes if int(np.prod(size)) >= ENOUGH]
        if fitting and not self.source.categories:
            size = min(fitting, key=lambda size: int(np.prod(size)))
            held = valid_values(self.source.read(self.bands, window, size, "area"))
        else:
            held = [
                np.concatenate(parts)
                for parts in zip(*sampled(self.source, self.bands, window, ENOUGH)(), strict=True)
            ]
        return lambda: [held]

    def limits(self, channel: int, setting: Setting) -> Found:
        """Return one channel's limits, found once and kept with the source."""
        key = (self.bands[channel], str(setting), self.window, self.exact)
        kept: dict[Any, Found] = self.source.__dict__.setdefault("_limits_found", {})
        if key not in kept:
            kept[key] = self._limits(channel, setting)
        return kept[key]

    def _limits(self, channel: int, setting: Setting) -> Found:
        band = self.source.bands[self.bands[channel]]
        if setting.kind == "symmetric":
            reach = self._greatest([channel], band, setting.parameters[0])
            return -reach, reach, self.exact
        low, high = self._ends([channel], setting)
        low, high = low * band.scale + band.offset, high * band.scale + band.offset
        return min(low, high), max(low, high), self.exact

    def pooled(self, setting: Setting) -> Found:
        """Return the limits of all channels' values together."""
        scales = {(self.source.bands[b].scale, self.source.bands[b].offset) for b in self.bands}
        if len(scales) > 1:
            raise LookError("shared limits need bands with one scale and offset")
        scale, offset = scales.pop()
        if setting.kind == "symmetric":
            everything = range(len(self.bands))
            reach = self._greatest(everything, self.source.bands[self.bands[0]],
                                   setting.parameters[0])  # fmt: skip
            return -reach, reach, self.exact
        ends = self._ends(range(len(self.bands)), setting)
        low, high = sorted(end * scale + offset for end in ends)
        return low, high, self.exact

    def _ends(self, channels: Sequence[int], setting: Setting) -> tuple[float, float]:
        """Return low and high as stored numbers; NaN where there are no valid values."""
        if setting.kind == "percentile":
            low, high = self._percentiles(channels, setting.parameters)
            return low, high
        moments = Moments()
        for blocks in self.walk():
            for k in channels:
                moments.add(blocks[k])
        if moments.count == 0:
            return float("nan"), float("nan")
        if setting.kind == "minmax":
            return moments.low, moments.high
        reach = setting.parameters[0] * float(np.sqrt(moments.squares / moments.count))
        return moments.mean - reach, moments.mean + reach

    def _greatest(self, channels: Sequence[int], band: Band, percent: float) -> float:
        """Return the greatest magnitude of physical values, or its percentile."""

        def magnitudes() -> Iterable[NDArray[Any]]:
            for blocks in self.walk():
                for k in channels:
                    yield np.abs(blocks[k].astype(np.float64) * band.scale + band.offset)

        return exact_percentiles(magnitudes, (percent,))[0]

    def shares(self, channel: int, low: float, high: float) -> curves.Curve:
        """Return the equalising curve: the share of values between the limits that are <= v."""
        band = self.source.bands[self.bands[channel]]
        first = next(iter(self.walk()))[channel]
        if small(first.dtype):
            counts = np.zeros(1 << (8 * first.dtype.itemsize), np.int64)
            for blocks in self.walk():
                count_small(blocks[channel], counts)
            values, found = sorted_counts(first.dtype, counts)
            physical = values.astype(np.float64) * band.scale + band.offset
            inside = (physical >= min(low, high)) & (physical <= max(low, high))
            at = curves.position(physical[inside], low, high)
            order = np.argsort(at, kind="stable")
            total = np.concatenate([[0], np.cumsum(found[inside][order])])
            return curves.shares(at[order], total / max(1, total[-1]))
        table = np.zeros(_BINS, np.int64)
        for blocks in self.walk():
            physical = blocks[channel].astype(np.float64) * band.scale + band.offset
            inside = (physical >= min(low, high)) & (physical <= max(low, high))
            at = curves.position(physical[inside], low, high)
            table += np.bincount(np.minimum((at * _BINS).astype(int), _BINS - 1), minlength=_BINS)
        total = np.concatenate([[0], np.cumsum(table)]) / max(1, table.sum())
        numbers = np.column_stack([np.linspace(0, 1, _BINS + 1), total]).ravel()
        return curves.points(numbers.tolist())

    def _percentiles(self, channels: Sequence[int], percents: Sequence[float]) -> list[float]:
        first = next(iter(self.walk()))[0]
        if not small(first.dtype):
            return exact_percentiles(
                lambda: (blocks[k] for blocks in self.walk() for k in channels), percents
            )
        counts = np.zeros(1 << (8 * first.dtype.itemsize), np.int64)
        for blocks in self.walk():
            for k in channels:
                count_small(blocks[k], counts)
        return from_counts(*sorted_counts(first.dtype, counts), percents)
