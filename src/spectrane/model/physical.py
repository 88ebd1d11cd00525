"""The one place where stored numbers become physical values."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.model.band import Band


def value_dtype(stored: np.dtype[Any]) -> np.dtype[Any]:
    """Return float32 where it holds every number of a stored type to its precision, else float64.

    >>> value_dtype(np.dtype("uint16")).name, value_dtype(np.dtype("int32")).name
    ('float32', 'float64')
    """
    small = stored.kind in "biu" and stored.itemsize <= 2
    return np.dtype(np.float32 if small or stored in (np.float16, np.float32) else np.float64)


def physical(stored: NDArray[Any], band: Band, dtype: np.dtype[Any] | None = None) -> NDArray[Any]:
    """Return stored * scale + offset in the band's unit, computed in float64.

    ``stored`` has any shape; the result has ``dtype``, by default ``value_dtype`` of the stored
    type.

    >>> physical(np.array([0, 10000], np.uint16), Band("red", scale=1e-4)).tolist()
    [0.0, 1.0]
    """
    result = np.multiply(stored, band.scale, dtype=np.float64)
    result += band.offset
    return np.asarray(result, dtype or value_dtype(stored.dtype))


def as_stored(values: NDArray[Any], dtype: np.dtype[Any]) -> NDArray[Any]:
    """Bring interpolated numbers back to the stored type, rounded half up and clamped.

    >>> as_stored(np.array([0.5, 300.0, -1.0]), np.dtype("uint8")).tolist()
    [1, 255, 0]
    """
    if dtype.kind == "f":
        return values.astype(dtype)
    if dtype.kind == "b":
        return values >= 0.5
    limits = np.iinfo(dtype)
    rounded = np.clip(np.floor(values.astype(np.float64) + 0.5), limits.min, limits.max)
    return rounded.astype(dtype)
