"""The one place where stored numbers become physical values."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.kernels.storing import as_stored
from spectrane.model.band import Band

__all__ = ["as_stored", "physical", "value_dtype"]


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
