"""Compiled form of ``scattered``."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from spectrane.kernels.compiling import contracted


@contracted
def _looked_up(volume: Any, turn: Any, places: Any, out: Any) -> None:
    ni, nj, nk = volume.shape
    for n in range(out.shape[0]):
        x, y, z = places[0, n], places[1, n], places[2, n]
        a = turn[0, 0] * x + turn[0, 1] * y + turn[0, 2] * z + turn[0, 3]
        b = turn[1, 0] * x + turn[1, 1] * y + turn[1, 2] * z + turn[1, 3]
        c = turn[2, 0] * x + turn[2, 1] * y + turn[2, 2] * z + turn[2, 3]
        if not (0.0 <= a < ni - 1 and 0.0 <= b < nj - 1 and 0.0 <= c < nk - 1):
            out[n] = math.nan
            continue
        i, j, k = int(a), int(b), int(c)
        a -= i
        b -= j
        c -= k
        low = (1 - b) * ((1 - c) * volume[i, j, k] + c * volume[i, j, k + 1]) + b * (
            (1 - c) * volume[i, j + 1, k] + c * volume[i, j + 1, k + 1])  # fmt: skip
        high = (1 - b) * ((1 - c) * volume[i + 1, j, k] + c * volume[i + 1, j, k + 1]) + b * (
            (1 - c) * volume[i + 1, j + 1, k] + c * volume[i + 1, j + 1, k + 1])  # fmt: skip
        out[n] = (1 - a) * low + a * high


def looked_up(volume: Any, turn: Any, places: Any, out: Any) -> None:
    """Fill ``out`` as ``scattered.looked_up_reference`` does."""
    _looked_up(np.ascontiguousarray(volume), np.ascontiguousarray(turn, np.float64),
               np.ascontiguousarray(places, np.float64), out)  # fmt: skip
