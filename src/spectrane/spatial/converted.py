"""The same raster in another type, by rules that are told; or in other units."""

from __future__ import annotations

import math
import re
import threading
from collections.abc import Iterator, Sequence
from dataclasses import replace
from functools import cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.engine.derived import Derived
from spectrane.engine.described import Described
from spectrane.engine.full import FullSource
from spectrane.engine.volumes import VolumeSource
from spectrane.model.band import Band, find_band
from spectrane.model.errors import MetadataError
from spectrane.model.limits import Fixed, Limits
from spectrane.model.look import Look
from spectrane.model.nodata import NoDataRule
from spectrane.model.number_types import NUMBER_TYPES
from spectrane.model.physical import physical, physical_number, stored_numbers, value_dtype
from spectrane.model.pixels import Pixels, full_alpha
from spectrane.model.source import Source
from spectrane.model.window import Window, whole, window_area
from spectrane.spatial.standard_uptake import SUV, standard_uptake

Range = tuple[float, float]


class Converted(Derived, FullSource):
    """Another source's numbers in another type.

    With ``ranges`` (stored low and high per band) they are stretched to the type's whole range,
    0...1 for floats, computed in float64; without, they are kept as they are. Integers are
    rounded half up; what lies outside the type is clamped. A valid number never becomes no-data:
    where the new type has the bands' own value, one that would be it is moved to the next; else a
    mask tells. ``changes`` counts what became of them.
    """

    def __init__(
        self, parent: Source, dtype: np.dtype[Any], ranges: Sequence[Range] | None = None
    ) -> None:
        super().__init__(parent, dtype=dtype)
        self.ranges, self._hides = ranges, hides(parent)
        self.bands = tuple(self._band(band) for band in parent.bands)
        undeclared = any(band.nodata is None for band in self.bands)
        self.has_mask = self._hides and undeclared and dtype.kind != "f"
        self._counts = {"clamped": 0, "rounded": 0, "moved": 0}
        self._seen = 0
        self._lock = threading.Lock()
        if ranges is not None:
            self.look = None
            self.metadata = {**parent.metadata, "display only": True}

    def _band(self, band: Band) -> Band:
        """Return a band as it is afterwards: its no-data must be numbers of the new type."""
        floating = self.dtype.kind == "f"
        if self.ranges is not None:
            plain = replace(band, unit=None, scale=1.0, offset=0.0)
            nodata = float("nan") if floating else int(self._limits[0])
            return replace(plain, nodata=nodata if self._hides else None)
        rule = band.rule
        if not rule.ranges and len(rule.matching(self.dtype)) == len(rule.values):
            return band
        return replace(band, nodata=float("nan") if floating else None)

    @property
    def _limits(self) -> tuple[float, float]:
        if self.dtype.kind == "f":
            return (0.0, 1.0)
        span = np.iinfo(self.dtype)
        return int(span.min), int(span.max)

    def read_native(self, bands: Sequence[int], window: Window) -> Pixels:
        """Answer in the new type."""
        return self._converted(self.parent.read(bands, window), bands)

    def blocks(self, bands: Sequence[int], window: Window) -> Iterator[tuple[Window, Pixels]]:
        """Walk the parent's blocks."""
        for part, pixels in self.parent.blocks(bands, self.checked(window)):
            yield part, self._converted(pixels, bands)

    def _converted(self, pixels: Pixels, bands: Sequence[int]) -> Pixels:
        valid = pixels.validity
        out = np.empty(pixels.values.shape, self.dtype)
        for index, band in enumerate(bands):
            out[index] = self._plane(pixels.values[index], valid[index], band)
        alpha = pixels.alpha
        if alpha is not None and alpha.dtype != self.dtype:
            top = full_alpha(alpha.dtype)
            full = full_alpha(self.dtype)
            alpha = (alpha / top * full + (0.5 if self.dtype.kind != "f" else 0)).astype(self.dtype)
        mask = pixels.valid if self.has_mask else None
        rules = [self.bands[band].rule for band in bands]
        return Pixels(out, mask=mask, rules=rules, alpha=alpha, when=self.nodata_when)

    def _plane(self, stored: NDArray[Any], valid: NDArray[np.bool_], band: int) -> NDArray[Any]:
        rule = self.bands[band].rule
        if self.ranges is not None:
            values = self._stretched(stored, band, bool(rule.values))
        elif np.can_cast(stored.dtype, self.dtype, "safe"):
            values = stored.astype(self.dtype)
        else:
            values = self._cast(stored, valid, band)
        if rule.values and not valid.all():
            values[~valid] = rule.matching(self.dtype)[0]
        return values

    def _cast(self, stored: NDArray[Any], valid: NDArray[np.bool_], band: int) -> NDArray[Any]:
        """Return numbers in a type that may not hold them, and count what became of valid ones."""
        values, outside, rounded = nearest_numbers(stored, self.dtype)
        rule = self.bands[band].rule
        turned = np.zeros(valid.shape, bool)
        if rule.values:
            turned = rule.invalid(values) & valid & ~self.parent.bands[band].rule.invalid(stored)
            values = moved_off(values, turned, rule)
        with self._lock:
            self._seen += valid.size
            for name, which in (("clamped", outside), ("rounded", rounded), ("moved", turned)):
                self._counts[name] += int((which & valid).sum())
        return values

    @property
    def changes(self) -> dict[str, int]:
        """How many valid numbers were clamped, rounded, or moved off no-data, of those written.

        Who writes may have read everything more than once: each time counted the same.
        """
        everything = len(self.bands) * window_area(whole(self.shape))
        times = max(1, round(self._seen / everything))
        return {name: count // times for name, count in self._counts.items() if count}

    def _stretched(self, stored: NDArray[Any], band: int, hidden: bool) -> NDArray[Any]:
        assert self.ranges is not None
        low, high = self.ranges[band]
        bottom, top = self._limits
        if hidden and self.dtype.kind != "f":
            bottom += 1  # the lowest number is kept for what is invalid
        span = high - low or 1.0
        with np.errstate(invalid="ignore", over="ignore"):
            t = np.clip((stored.astype(np.float64) - low) / span, 0.0, 1.0)
        scaled = bottom + np.nan_to_num(t) * (top - bottom)
        if self.dtype.kind == "f":
            return scaled.astype(self.dtype)
        return np.minimum(np.floor(scaled + 0.5), top).astype(self.dtype)


class Physical(Derived, FullSource):
    """Another source's physical values as its numbers, NaN where they are invalid.

    Units, roles, wavelengths and the look stay: a look speaks of physical values anyway.
    """

    def __init__(self, parent: Source) -> None:
        hidden = float("nan") if hides(parent) else None
        bands = [replace(band, scale=1.0, offset=0.0, nodata=hidden) for band in parent.bands]
        super().__init__(parent, dtype=value_dtype(parent.dtype), bands=tuple(bands),
                         has_mask=False)  # fmt: skip

    def read_native(self, bands: Sequence[int], window: Window) -> Pixels:
        """Answer in physical values; alpha is a share 0...1 in the same type."""
        pixels = self.parent.read(bands, window)
        planes = [physical(values, self.parent.bands[band], self.dtype)
                  for values, band in zip(pixels.values, bands, strict=True)]  # fmt: skip
        values = np.where(pixels.validity, np.stack(planes), np.nan).astype(self.dtype)
        alpha = None if pixels.coverage is None else pixels.coverage.astype(self.dtype)
        return Pixels(values, alpha=alpha, when=self.nodata_when)


class PhysicalVolume(Physical, VolumeSource):
    """Another volume's physical values as its numbers."""


def nearest_numbers(
    stored: NDArray[Any], dtype: np.dtype[Any]
) -> tuple[NDArray[Any], NDArray[np.bool_], NDArray[np.bool_]]:
    """Return the nearest numbers of a type, which ones lay outside it, and which were rounded.

    Integers are rounded half up. Floats lose digits, which counts as neither.

    >>> values, outside, rounded = nearest_numbers(np.array([0.4, 3.0, 300.0]), np.dtype("uint8"))
    >>> values.tolist(), outside.tolist(), rounded.tolist()
    ([0, 3, 255], [False, False, True], [True, False, False])
    """
    none = np.zeros(stored.shape, bool)
    if dtype.kind == "f":
        top = np.finfo(dtype).max
        with np.errstate(over="ignore"):
            values = stored.astype(dtype)
        outside = np.isinf(values) & np.isfinite(stored)
        return np.where(outside, np.copysign(top, values), values).astype(dtype), outside, none
    span = np.iinfo(dtype)
    low, high = int(span.min), int(span.max)
    if stored.dtype.kind in "iu":  # whole numbers need no rounding, and keep all their digits
        own = np.iinfo(stored.dtype)
        clipped = np.clip(stored, max(low, int(own.min)), min(high, int(own.max)))
        return clipped.astype(dtype), (stored < low) | (stored > high), none
    values = stored.astype(np.float64)
    with np.errstate(invalid="ignore"):
        whole_ones = np.floor(values + 0.5)
        outside = (whole_ones < low) | (whole_ones > high)
        plain = np.nan_to_num(np.clip(whole_ones, low, high))
        result = np.where(plain >= high, high, plain.astype(dtype)).astype(dtype)
        return result, outside, (whole_ones != values) & ~outside & np.isfinite(values)


def moved_off(values: NDArray[Any], turned: NDArray[np.bool_], rule: NoDataRule) -> NDArray[Any]:
    """Return numbers of which those that turned into no-data are moved to the next that is none."""
    values = values.copy()
    floating = values.dtype.kind == "f"
    steps = (1, -1, 2, -2, 3, -3)
    for step in steps:
        if not turned.any():
            break
        here = values[turned]
        if floating:
            tried = here
            for _ in range(abs(step)):
                tried = np.nextafter(tried, values.dtype.type(math.copysign(np.inf, step)))
        else:
            span = np.iinfo(values.dtype)
            wide = np.clip(here.astype(object) + step, int(span.min), int(span.max))
            tried = wide.astype(values.dtype)
        values[turned] = np.where(rule.invalid(tried), here, tried)
        turned = turned & rule.invalid(values)
    return values


def hides(source: Source) -> bool:
    """Tell whether a source may hold invalid pixels; of plain floats every one is looked at."""
    if any(band.nodata is not None for band in source.bands) or source.has_mask:
        return True
    if source.dtype.kind != "f":
        return False
    bands, everything = range(len(source.bands)), whole(source.shape)
    return any(not pixels.valid.all() for _, pixels in source.blocks(bands, everything))


def type_named(name: str) -> np.dtype[Any]:
    """Return a type by name; MetadataError lists those there are."""
    try:
        found = np.dtype(name)
    except TypeError:
        found = np.dtype(object)
    if found.name not in NUMBER_TYPES:
        raise MetadataError(f"type {name!r}: expected one of {', '.join(NUMBER_TYPES)}")
    return found


def in_unit(source: Source, unit: str) -> Source:
    """Return a source whose physical values are in another unit; no pixel is touched.

    Units are those of the standards (K, degC, m, mm, W m-2 sr-1 um-1, 1, HU) or English names
    (celsius). Scale and offset are found anew from the conversion, which must be linear. ``SUV`` is
    found from the file's own dose, weight and times: see ``spatial.standard_uptake``.

    Raises MetadataError where a band has no unit, or one that does not convert to this.
    """
    if unit.strip().upper() == SUV:
        return standard_uptake(source)
    bands = []
    for number, band in enumerate(source.bands, 1):
        if band.unit is None:
            raise MetadataError(
                f"band {number} {band.name}: has no unit to convert from; say which it is "
                '(with_bands({%d: {"unit": "K"}}), or --unit)' % number
            )
        factor, shift = conversion(band.unit, unit)
        bands.append(
            replace(band, unit=unit, scale=band.scale * factor, offset=band.offset * factor + shift)
        )
    return Described(source, bands, look=_look_in(source, bands))


def _look_in(source: Source, bands: Sequence[Band]) -> Look | None:
    """Return the look kept with a source with its fixed limits in the bands' new units."""
    look = source.look
    if look is None or not any(isinstance(rule, Fixed) for rule in look.limits):
        return look
    shown = look.channels if isinstance(look.channels, tuple) else ()
    limits: list[Limits] = []
    for k, rule in enumerate(look.limits):
        index = find_band(source.bands, shown[k]) if k < len(shown) else 0
        old, new = source.bands[index], bands[index]
        if isinstance(rule, Fixed):
            low, high = (physical_number(stored_numbers(end, old), new)
                         for end in (rule.low, rule.high))  # fmt: skip
            rule = Fixed(low, high)
        limits.append(rule)
    return replace(look, limits=tuple(limits))


def conversion(given: str, wanted: str) -> tuple[float, float]:
    """Return (factor, shift) with wanted value = given value * factor + shift.

    >>> factor, shift = conversion("K", "celsius")
    >>> round(factor, 9), round(shift, 9)
    (1.0, -273.15)
    """
    import pint

    if wanted.strip().lower() == "db" != given.strip().lower():
        raise MetadataError(f"unit {given!r} to dB: decibels are 10·log10 of a power, which no "
                            "scale and offset can say; compute them: db(band(1))")  # fmt: skip
    registry = _registry()
    try:
        source, target = (registry.Unit(_pint_name(text)) for text in (given, wanted))
        low, high = (
            registry.Quantity(value, source).to(target).magnitude for value in (0.0, 1000.0)
        )
        middle = registry.Quantity(500.0, source).to(target).magnitude
    except (pint.PintError, ValueError, AttributeError, TypeError, AssertionError) as error:
        raise MetadataError(f"unit {given!r} to {wanted!r}: {error}") from error
    if abs(middle - (low + high) / 2) > 1e-9 * max(abs(low), abs(high), 1.0):
        raise MetadataError(f"unit {given!r} to {wanted!r}: not a linear conversion")
    return float((high - low) / 1000.0), float(low)


@cache
def _registry() -> Any:
    import pint

    registry = pint.UnitRegistry(autoconvert_offset_to_baseunit=True)
    registry.define("hounsfield_unit = [hounsfield] = HU")
    return registry


_NAMES = {"1": "dimensionless", "degC": "degree_Celsius", "°C": "degree_Celsius",
          "celsius": "degree_Celsius", "degF": "degree_Fahrenheit", "kelvin": "kelvin",
          "fahrenheit": "degree_Fahrenheit", "%": "percent", "count": "count",
          "adu": "dimensionless"}  # fmt: skip


def _pint_name(text: str) -> str:
    """Write a unit as pint reads it: ``W m-2 sr-1 um-1`` becomes ``W*m**-2*sr**-1*um**-1``."""
    text = text.strip()
    if text in _NAMES:
        return _NAMES[text]
    parts = re.split(r"[\s.·*]+", text)
    spelled = [re.sub(r"^([A-Za-zµ°]+)\^?([-+]?\d+)$", r"\1**\2", part) for part in parts]
    return "*".join(spelled)
