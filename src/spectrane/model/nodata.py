"""Which stored numbers mean "nothing was measured here"."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, TypeAlias

import numpy as np
from numpy.typing import NDArray

from spectrane.kernels.records import record
from spectrane.model.errors import MetadataError

Number: TypeAlias = int | float
NoDataValue: TypeAlias = Number | tuple[Number | tuple[Number, Number], ...] | None
"""None, one number, or several of which a pair is a closed range."""


@record(frozen=True)
class NoDataRule:
    """Stored numbers that are invalid: single values, and closed ranges.

    Compared in the stored type: a value that the type cannot hold never matches, and NaN is
    invalid whether named or not.

    >>> rule = nodata_rule((0, (250, 255)))
    >>> rule.invalid(np.array([0, 1, 250, 255], np.uint8)).tolist()
    [True, False, True, True]
    """

    values: tuple[Number, ...] = ()
    ranges: tuple[tuple[Number, Number], ...] = ()

    def matching(self, dtype: np.dtype[Any]) -> list[np.generic]:
        """Return the single values as numbers of a type, those it cannot hold left out."""
        held = (_held(value, dtype) for value in self.values)
        return [value for value in held if value is not None]

    def applies_to(self, dtype: np.dtype[Any]) -> bool:
        """Tell whether any number of this type could be invalid under this rule."""
        return dtype.kind == "f" or bool(self.ranges) or bool(self.matching(dtype))

    def held_by(self, dtype: np.dtype[Any]) -> bool:
        """Tell whether numbers of this type can be any that is named.

        >>> nodata_rule(-9999).held_by(np.dtype("u2")), nodata_rule(-9999).held_by(np.dtype("i2"))
        (False, True)
        """
        if dtype.kind == "f":
            return bool(self.values or self.ranges)
        least, most = (0, 1) if dtype.kind == "b" else (np.iinfo(dtype).min, np.iinfo(dtype).max)
        ranges = (low <= most and high >= least for low, high in self.ranges)
        return bool(self.matching(dtype)) or any(ranges)

    def invalid(self, stored: NDArray[Any]) -> NDArray[np.bool_]:
        """Return a bool array of the shape of ``stored``: True where invalid."""
        floating = stored.dtype.kind == "f"
        result = np.isnan(stored) if floating else np.zeros(stored.shape, bool)
        for value in self.matching(stored.dtype):
            if value == value:  # NaN is covered above
                result |= stored == value
        for low, high in self.ranges:
            result |= _within(stored, low, high)
        return result


def _held(value: Number, dtype: np.dtype[Any]) -> np.generic | None:
    if dtype.kind == "f":
        with np.errstate(over="ignore"):
            cast: np.generic = dtype.type(value)
        overflown = bool(np.isinf(cast)) and not np.isinf(float(value))
        return None if overflown else cast
    if dtype.kind == "b":
        return dtype.type(value) if value in (0, 1) else None
    if isinstance(value, float) and not value.is_integer():
        return None
    limits = np.iinfo(dtype)
    return dtype.type(int(value)) if limits.min <= int(value) <= limits.max else None


def _within(stored: NDArray[Any], low: Number, high: Number) -> NDArray[np.bool_]:
    if stored.dtype.kind in "iu":
        limits = np.iinfo(stored.dtype)
        low, high = max(low, limits.min), min(high, limits.max)
        if low > high:
            return np.zeros(stored.shape, bool)
        return (stored >= int(np.ceil(low))) & (stored <= int(np.floor(high)))
    return (stored >= low) & (stored <= high)


def nodata_value(given: Any) -> NoDataValue:
    """Bring what a person wrote to a ``NoDataValue``, or raise MetadataError.

    >>> nodata_value([0, [250, 255]])
    (0, (250, 255))
    >>> nodata_value(-9999.0)
    -9999.0
    """
    if given is None or _is_number(given):
        return given if given is None else _python_number(given)
    if isinstance(given, Sequence) and not isinstance(given, str | bytes):
        return tuple(_value_or_range(item) for item in given) or None
    raise MetadataError(
        f"no-data: expected a number, or a list of numbers and (low, high) pairs, not {given!r}"
    )


def _value_or_range(item: Any) -> Number | tuple[Number, Number]:
    if _is_number(item):
        return _python_number(item)
    if isinstance(item, Sequence) and len(item) == 2 and all(map(_is_number, item)):
        low, high = _python_number(item[0]), _python_number(item[1])
        if low <= high:
            return low, high
    raise MetadataError(
        f"no-data: expected a number or a pair (low, high) with low <= high, not {item!r}"
    )


def _is_number(item: Any) -> bool:
    return isinstance(item, int | float | np.number) and not isinstance(item, bool)


def _python_number(number: Any) -> Number:
    plain: Number = number.item() if isinstance(number, np.generic) else number
    return plain


def nodata_rule(value: NoDataValue) -> NoDataRule:
    """Return the rule that a ``NoDataValue`` stands for."""
    if value is None:
        return NoDataRule()
    items = value if isinstance(value, tuple) else (value,)
    return NoDataRule(
        values=tuple(item for item in items if not isinstance(item, tuple)),
        ranges=tuple(item for item in items if isinstance(item, tuple)),
    )


def per_band(given: Any, count: int) -> dict[int, NoDataValue]:
    """Spread a number, a list or a mapping of band numbers over ``count`` bands (from 0)."""
    if isinstance(given, Mapping):
        return {int(number) - 1: nodata_value(value) for number, value in given.items()}
    value = nodata_value(given)
    return dict.fromkeys(range(count), value)
