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
from spectrane.model.band import Band
from spectrane.model.errors import DataWarning, LookError
from spectrane.model.look import Look, Setting
from spectrane.model.source import Source
from spectrane.model.window import Window, area, extent, whole

MOST_EXACT = 16_000_000
"""Limits come from every pixel up to so many, and from about a million above."""
ENOUGH = 1_000_000
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


def settings_of(look: Look, channels: int, dtype: np.dtype[Any]) -> list[Setting]:
    """Return one setting per channel; a fourth is alpha, which is shown by its type."""
    given: tuple[Setting, ...] = look.limits
    if len(given) not in (1, channels) and not (channels == 4 and len(given) == 3):
        raise LookError(f"limits: {len(given)} given for {channels} channels")
    colors = min(channels, 3)
    many = given * colors if len(given) == 1 else given[:colors]
    if look.shared and len(set(many)) > 1:
        raise LookError("limits: shared ones are one for all channels, not one each")
    alpha = [Setting("type")] if channels == 4 else []
    return [settled(setting, dtype) for setting in many] + alpha


def find_limits(
    source: Source, bands: Sequence[int], settings: Sequence[Setting], look: Look, seen: Window
) -> list[Found]:
    """Return low, high and exactness for each channel; ``seen`` is the view's window.

    Warns where a band has no valid value, or all its values are one.
    """
    window = seen if look.limits_from == "view" else whole(source.shape)
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
        found.setdefault(k, _given(setting, source.dtype, source.bands[bands[k]]))
    for k, (low, high, _) in found.items():
        _warn_of_one_value(source.bands[bands[k]], low, high)
    return [found[k] for k in range(len(settings))]


_FROM_VALUES = ("minmax", "percentile", "deviation")


def _given(setting: Setting, dtype: np.dtype[Any], band: Band) -> Found:
    if setting.kind == "fixed":
        return setting.parameters[0], setting.parameters[1], True
    low, high = (end * band.scale + band.offset for end in type_range(dtype))
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
        self.source, self.bands = source, bands
        self.exact = exact or area(window) <= MOST_EXACT
        self.walk = self._all(window) if self.exact else self._part(window)

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
        """Return one channel's limits."""
        band = self.source.bands[self.bands[channel]]
        low, high = self._ends([channel], setting)
        low, high = low * band.scale + band.offset, high * band.scale + band.offset
        return min(low, high), max(low, high), self.exact

    def pooled(self, setting: Setting) -> Found:
        """Return the limits of all channels' values together."""
        scales = {(self.source.bands[b].scale, self.source.bands[b].offset) for b in self.bands}
        if len(scales) > 1:
            raise LookError("shared limits need bands with one scale and offset")
        scale, offset = scales.pop()
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
