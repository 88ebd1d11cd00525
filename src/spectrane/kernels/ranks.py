"""Order statistics of small arrays without what NumPy loads for its own (``numpy.ma``, 20 ms)."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray


def distinct(values: NDArray[Any]) -> NDArray[Any]:
    """Return the sorted distinct values of an array of any shape.

    >>> distinct(np.array([3, 1, 3])).tolist(), distinct(np.array([], int)).tolist()
    ([1, 3], [])
    """
    ordered = np.sort(values, axis=None)
    if ordered.size < 2:
        return ordered
    kept = np.ones(ordered.size, bool)
    np.not_equal(ordered[1:], ordered[:-1], out=kept[1:])
    return np.asarray(ordered[kept])


def percentiles(values: NDArray[Any], percents: Sequence[float]) -> list[float]:
    """Return percentiles, linear between order statistics; of a million values or fewer.

    >>> percentiles(np.array([0.0, 10.0, 20.0]), (0, 25, 100))
    [0.0, 5.0, 20.0]
    """
    at = np.asarray(percents, np.float64) / 100 * (values.size - 1)
    below, above = np.floor(at).astype(np.intp), np.ceil(at).astype(np.intp)
    ranked = np.partition(values, np.concatenate([below, above]), axis=None)
    ends = zip(at - below, ranked[below].tolist(), ranked[above].tolist(), strict=True)
    return [float(low if low == high else low + share * (high - low)) for share, low, high in ends]
