"""From physical values to u, and from t to levels: the float64 definitions of both ends."""

from __future__ import annotations

from typing import Any, TypeAlias

import numpy as np
from numpy.typing import NDArray

FloatArray: TypeAlias = NDArray[np.float64]


def relative_position(values: NDArray[Any], low: float, high: float) -> FloatArray:
    """Return u = clip((v - low)/(high - low), 0, 1) in float64, any shape; NaN stays NaN.

    low > high inverts. Where low = high, values below are 0, above 1, and equal ½.

    >>> relative_position(np.array([0.0, 5.0, 20.0]), 0.0, 10.0).tolist()
    [0.0, 0.5, 1.0]
    >>> relative_position(np.array([1.0, 2.0, 3.0]), 2.0, 2.0).tolist()
    [0.0, 0.5, 1.0]
    """
    values = np.asarray(values, np.float64)
    if low == high:
        return np.where(np.isnan(values), np.nan, (np.sign(values - low) + 1) / 2)
    with np.errstate(invalid="ignore", over="ignore"):
        u = (values - low) / (high - low)
    return np.clip(u, 0.0, 1.0)


def level(t: FloatArray, top: int) -> FloatArray:
    """Return the level floor(t * top + ½), as floats; NaN stays NaN.

    >>> level(np.array([0.0, 0.5, 1.0]), 255).tolist()
    [0.0, 128.0, 255.0]
    """
    scaled = np.asarray(t * top, np.float64)
    scaled += 0.5
    return np.floor(scaled, out=scaled)
