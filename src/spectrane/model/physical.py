"""The one place where stored numbers become physical values, and physical values stored numbers."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any, TypeVar

import numpy as np
from numpy.typing import NDArray

from spectrane.kernels.storing import as_stored
from spectrane.model.band import Band

__all__ = ["as_stored", "ends", "physical", "physical_number", "stored_numbers", "value_dtype"]
Number = TypeVar("Number", float, NDArray[np.float64])


def value_dtype(stored: np.dtype[Any]) -> np.dtype[Any]:
    """Return float32 where it holds every number of a stored type to its precision, else float64.

    >>> value_dtype(np.dtype("uint16")).name, value_dtype(np.dtype("int32")).name
    ('float32', 'float64')
    """
    small = stored.kind in "biu" and stored.itemsize <= 2
    return np.dtype(np.float32 if small or stored in (np.float16, np.float32) else np.float64)


def physical(stored: NDArray[Any], band: Band, dtype: Any = None) -> NDArray[Any]:
    """Return stored * scale + offset in the band's unit, computed in float64.

    ``stored`` has any shape; the result has ``dtype``, by default ``value_dtype`` of the stored
    type.

    >>> physical(np.array([0, 10000], np.uint16), Band("red", scale=1e-4)).tolist()
    [0.0, 1.0]
    """
    stored = np.asarray(stored)
    wanted = np.dtype(dtype) if dtype is not None else value_dtype(stored.dtype)
    if not band.scaled:
        return stored.astype(wanted)
    result = np.multiply(stored, band.scale, dtype=np.float64)
    result += band.offset
    return np.asarray(result, wanted)


def physical_number(stored: Any, band: Band) -> float:
    """Return one stored number as a physical value.

    >>> physical_number(2, Band("t", scale=0.5, offset=1.0))
    2.0
    """
    return float(stored) * band.scale + band.offset if band.scaled else float(stored)


def stored_numbers(values: Number, band: Band) -> Number:
    """Return physical values (one, or an array) as stored numbers, with their fractions.

    >>> stored_numbers(2.0, Band("t", scale=0.5, offset=1.0))
    2.0
    """
    return (values - band.offset) / band.scale


def ends(stored: Iterable[Any], band: Band) -> tuple[float, float]:
    """Return the least and greatest physical value of some stored numbers.

    >>> ends((0, 10), Band("depth", scale=-0.5))
    (-5.0, 0.0)
    """
    limits = [physical_number(one, band) + 0.0 for one in stored]
    return min(limits), max(limits)
