"""The same raster in another type, by rules that are told; or in other units."""

from __future__ import annotations

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
from spectrane.model.band import Band
from spectrane.model.errors import MetadataError
from spectrane.model.nodata import NoDataRule
from spectrane.model.pixels import Pixels, full_alpha
from spectrane.model.source import Source
from spectrane.model.window import Window, whole

TYPES = ("uint8", "uint16", "uint32", "uint64", "int8", "int16", "int32", "int64", "float16",
         "float32", "float64")  # fmt: skip
Range = tuple[float, float]


class Converted(Derived, FullSource):
    """Another source's numbers in another type.

    With ``ranges`` (stored low and high per band) they are stretched to the type's whole range,
    0...1 for floats, computed in float64; without, they are kept as they are. Integers are
    rounded half up; what lies outside the type is clamped and counted in ``clamped``.
    """

    def __init__(
        self, parent: Source, dtype: np.dtype[Any], ranges: Sequence[Range] | None = None
    ) -> None:
        super().__init__(parent, dtype=dtype)
        self.ranges, self._hides = ranges, hides(parent)
        self.bands = tuple(self._band(band) for band in parent.bands)
        self.clamped = 0
        self._lock = threading.Lock()
        if ranges is not None:
            self.look = None
            self.metadata = {**parent.metadata, "display only": True}

    def _band(self, band: Band) -> Band:
        """Return a band as it is afterwards: its no-data must be a number of the new type."""
        hidden = band.nodata is not None or self._hides
        if self.ranges is None:
            kept = band.rule.matching(self.dtype) if band.nodata is not None else []
            if kept and not band.rule.ranges:
                return band
            nodata = float("nan") if self.dtype.kind == "f" else int(self._limits[0])
            return replace(band, nodata=nodata if hidden else None)
        plain = replace(band, unit=None, scale=1.0, offset=0.0)
        nodata = float("nan") if self.dtype.kind == "f" else int(self._limits[0])
        return replace(plain, nodata=nodata if hidden else None)

    @property
    def _limits(self) -> tuple[float, float]:
        if self.dtype.kind == "f":
            return (0.0, 1.0)
        span = np.iinfo(self.dtype)
        return int(span.min), int(span.max)

    def at_full(self, bands: Sequence[int], window: Window) -> Pixels:
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
        return Pixels(
            out, mask=pixels.mask, rules=[self.bands[b].rule for b in bands], alpha=alpha,
            when=self.nodata_when,
        )  # fmt: skip

    def _plane(self, stored: NDArray[Any], valid: NDArray[np.bool_], band: int) -> NDArray[Any]:
        nodata = self.bands[band].nodata
        if self.ranges is not None:
            values = self._stretched(stored, band, nodata)
        elif np.can_cast(stored.dtype, self.dtype, "safe"):
            values = stored.astype(self.dtype)
        else:
            values = self._clamped(stored.astype(np.float64), valid, exact=stored)
        if nodata is not None and not valid.all():
            held = NoDataRule((nodata,) if not isinstance(nodata, tuple) else ()).matching(
                self.dtype
            )
            values[~valid] = held[0] if held else 0
        return values

    def _stretched(self, stored: NDArray[Any], band: int, nodata: Any) -> NDArray[Any]:
        assert self.ranges is not None
        low, high = self.ranges[band]
        bottom, top = self._limits
        if nodata is not None and self.dtype.kind != "f":
            bottom += 1  # the lowest number is kept for what is invalid
        span = high - low or 1.0
        with np.errstate(invalid="ignore", over="ignore"):
            t = np.clip((stored.astype(np.float64) - low) / span, 0.0, 1.0)
        scaled = bottom + np.nan_to_num(t) * (top - bottom)
        if self.dtype.kind == "f":
            return scaled.astype(self.dtype)
        return np.minimum(np.floor(scaled + 0.5), top).astype(self.dtype)

    def _clamped(
        self, values: NDArray[np.float64], valid: NDArray[np.bool_], exact: NDArray[Any]
    ) -> NDArray[Any]:
        if self.dtype.kind == "f":
            with np.errstate(over="ignore"):
                return exact.astype(self.dtype)
        low, high = self._limits
        if exact.dtype.kind in "iu":  # whole numbers need no rounding, and keep all their digits
            outside = (exact < low) | (exact > high)
            result = np.clip(exact, max(low, np.iinfo(exact.dtype).min),
                             min(high, np.iinfo(exact.dtype).max)).astype(self.dtype)  # fmt: skip
        else:
            with np.errstate(invalid="ignore"):
                rounded = np.floor(values + 0.5)
                outside = (rounded < low) | (rounded > high)
                plain = np.nan_to_num(np.clip(rounded, low, high))
                result = np.where(plain >= high, high, plain.astype(self.dtype)).astype(self.dtype)
        missed = int((outside & valid).sum())
        if missed:
            with self._lock:
                self.clamped += missed
        return np.asarray(result)


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
    if found.name not in TYPES:
        raise MetadataError(f"type {name!r}: expected one of {', '.join(TYPES)}")
    return found


def in_unit(source: Source, unit: str) -> Source:
    """Return a source whose physical values are in another unit; no pixel is touched.

    Units are those of the standards (K, degC, m, mm, W m-2 sr-1 um-1, 1, HU) or English names
    (celsius). Scale and offset are found anew from the conversion, which must be linear.

    Raises MetadataError where a band has no unit, or one that does not convert to this.
    """
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
    return Described(source, bands)


def conversion(given: str, wanted: str) -> tuple[float, float]:
    """Return (factor, shift) with wanted value = given value * factor + shift.

    >>> factor, shift = conversion("K", "celsius")
    >>> round(factor, 9), round(shift, 9)
    (1.0, -273.15)
    """
    import pint

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
