"""A source's numbers as arrays have them: what is invalid is NaN, or its no-data value."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.formats.validity import NETCDF, KeptValidity, filled, keeping
from spectrane.model.errors import ArgumentError
from spectrane.model.nodata import NoDataRule
from spectrane.model.source import Source
from spectrane.model.window import Window

_CAN = replace(NETCDF, name="an array")


def as_arrays_have(source: Source) -> Source:
    """Return a source whose numbers say what is invalid: floats by NaN, integers by the no-data
    value that all bands declare, and where they declare none by a mask.
    """
    if source.dtype.kind != "f":
        return keeping(source, _CAN)
    told = any(band.rule != NoDataRule() for band in source.bands)
    if not told and not source.has_mask and source.alpha is None:
        return source
    return KeptValidity(source, source.bands, [np.nan] * len(source.bands), alpha=False)


class SourceArray:
    """Stored numbers (bands, axes…) that are read when sliced; ``fill`` stands for invalid ones."""

    def __init__(self, source: Source, *, fill: Any = None, validity: bool = False) -> None:
        self.source, self.fill, self.validity = source, fill, validity
        self.shape = (len(source.bands), *source.shape)
        self.dtype = np.dtype(np.uint8) if validity else source.stored_type
        self.ndim = len(self.shape)

    def __getitem__(self, key: Any) -> NDArray[Any]:
        """Read a part: slices or numbers, as NumPy takes them."""
        given = key if isinstance(key, tuple) else (key,)
        if Ellipsis in given:
            at = given.index(Ellipsis)
            missing = self.ndim - len(given) + 1
            given = (*given[:at], *(slice(None),) * missing, *given[at + 1 :])
        given = (*given, *(slice(None),) * (self.ndim - len(given)))
        spans, inside = zip(*map(_span, given, self.shape), strict=True)
        if any(a == b for a, b in spans):
            return np.asarray(np.empty([b - a for a, b in spans], self.dtype)[inside])
        return np.asarray(self._read(range(*spans[0]), tuple(spans[1:]))[inside])

    def _read(self, bands: range, window: Window) -> NDArray[Any]:
        pixels = self.source.read(bands, window)
        if self.validity:
            return pixels.validity.astype(np.uint8)
        values = pixels.values
        if self.fill is not None:
            values = filled(values, pixels.valid, [self.fill] * len(bands))
        return values.astype(self.dtype, copy=False)


def _span(one: Any, length: int) -> tuple[tuple[int, int], Any]:
    """Return the contiguous span that an index touches, and the index inside it."""
    if not isinstance(one, slice):
        at = range(length)[one]
        return (at, at + 1), 0
    steps = range(length)[one]
    if not steps:
        return (0, 0), slice(0, 0)
    low, high = min(steps[0], steps[-1]), max(steps[0], steps[-1]) + 1
    if steps.step == 1:
        return (low, high), slice(None)
    return (low, high), slice(None, None, steps.step)


def checked_fill(source: Source, fill: Any) -> Source:
    """Return a source as arrays have it for a ``fill``. Raises ArgumentError for invalid integers
    of which no number says that they are, without one.
    """
    kept = as_arrays_have(source) if fill is None else source
    if fill is None and kept.has_mask:
        raise ArgumentError(f"{source.stored_type} has no NaN, and no no-data value is declared "
                            "for what a mask says is invalid; say fill=VALUE")  # fmt: skip
    return kept
