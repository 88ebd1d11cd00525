"""A volume's values at scattered places: trilinear, only where all eight neighbours are valid."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.kernels.choice import Twin

F64 = NDArray[np.float64]


def looked_up_reference(volume: NDArray[Any], turn: F64, places: F64, out: F64) -> None:
    """Fill ``out`` (points) from a volume (i, j, k); NaN outside and beside what is no number.

    ``turn`` (3x4) takes ``places`` (3, points) to voxel indices, whole numbers at centres.
    """
    index = turn[:, :3] @ places + turn[:, 3:]
    lengths = np.array(volume.shape)[:, np.newaxis]
    first = np.floor(index)
    inside = ((first >= 0) & (first < lengths - 1)).all(axis=0)
    i, j, k = first[:, inside].astype(np.intp)
    a, b, c = (index - first)[:, inside]
    found = np.zeros(len(a))
    for p, q, r in np.ndindex(2, 2, 2):
        share = (a if p else 1 - a) * (b if q else 1 - b) * (c if r else 1 - c)
        found += share * volume[i + p, j + q, k + r]
    out[...] = np.nan
    out[inside] = found


looked_up = Twin(looked_up_reference, "spectrane.kernels.scattered_loops", "looked_up", 0.05)
"""``looked_up_reference`` or its compiled twin."""
