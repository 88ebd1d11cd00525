"""Compiled forms of ``prediction``."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.kernels.compiling import loop


@loop
def _undo(block: Any, skip: Any, samples: Any, out: Any) -> None:
    for row in range(out.shape[1]):
        line = block[row]
        rest = line[skip:]
        # One chain of sums at a time keeps up with memory; several side by side do not. They are
        # 64 bits wide: a sum in the narrow type would be cut off at every step.
        for k in range(samples.shape[0]):
            plane, sample = out[np.uint64(k), np.uint64(row)], samples[k]
            value = np.uint64(0)
            for column in range(skip):
                value += np.uint64(line[np.uint64(column), sample])
            for column in range(plane.shape[0]):
                value += np.uint64(rest[np.uint64(column), sample])
                plane[np.uint64(column)] = plane.dtype.type(value)


def undo_differences(
    block: NDArray[Any], window: tuple[slice, slice], samples: list[int], out: NDArray[Any]
) -> None:
    """Do as ``prediction.undo_differences_reference``, leaving ``block`` as it is."""
    rows, columns = window
    _undo(block[rows], np.int64(columns.start), np.array(samples, np.uint64), out)
