"""Bringing interpolated numbers back to the type that is stored."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray


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
    rounded = np.array(values, np.float64)
    rounded += 0.5
    np.floor(rounded, out=rounded)
    np.clip(rounded, limits.min, limits.max, out=rounded)
    return rounded.astype(dtype)
