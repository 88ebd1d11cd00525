"""Undoing the TIFF predictors, straight into planes.

Predictor 2 (TIFF 6.0, section 14) stores each sample as its difference from the one before in
the row, wrapping around; predictor 3 (TIFF Technical Note 3) splits floats into byte planes,
most significant first, and differences the bytes.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.kernels.choice import Twin


def undo_differences_reference(
    block: NDArray[Any], window: tuple[slice, slice], samples: list[int], out: NDArray[Any]
) -> None:
    """Sum up differences along the row and put the wanted samples of a window into planes.

    ``block`` is (rows, columns, samples), unsigned, in native order, and is overwritten;
    ``out`` (samples, rows, columns) has the same type and a plane for each wanted sample.
    """
    rows, columns = window
    part = block[rows, : columns.stop]
    for sample, plane in zip(samples, out, strict=True):
        line = part[:, :, sample]
        np.cumsum(line, axis=1, dtype=block.dtype, out=line)
        plane[...] = line[:, columns]


undo_differences = Twin(
    undo_differences_reference, "spectrane.kernels.prediction_loops", "undo_differences", 0.002
)


def float_bytes_joined(block: NDArray[np.uint8], dtype: np.dtype[Any]) -> NDArray[Any]:
    """Undo predictor 3: (rows, columns * samples * itemsize) bytes, differenced with stride
    ``samples`` already undone, become floats (rows, columns * samples) in native order.
    """
    size = dtype.itemsize
    rows = block.shape[0]
    planes = block.reshape(rows, size, -1)
    joined = np.ascontiguousarray(planes.transpose(0, 2, 1))
    big = np.dtype(f">f{size}")
    return joined.reshape(rows, -1).view(big).astype(dtype.newbyteorder("="))


def undo_float_differences(
    block: NDArray[np.uint8], samples: int, dtype: np.dtype[Any]
) -> NDArray[Any]:
    """Undo predictor 3 of a block of bytes (rows, columns * samples * itemsize)."""
    rows = block.shape[0]
    strided = block.reshape(rows, -1, samples)
    np.cumsum(strided, axis=1, dtype=np.uint8, out=strided)
    return float_bytes_joined(block, dtype)


def differences(block: NDArray[Any]) -> NDArray[Any]:
    """Return predictor 2's differences of (rows, columns, samples) unsigned numbers."""
    result = block.copy()
    np.subtract(block[:, 1:], block[:, :-1], out=result[:, 1:])
    return result


def float_differences(block: NDArray[Any]) -> NDArray[np.uint8]:
    """Return predictor 3's bytes of floats (rows, columns, samples)."""
    rows, _, samples = block.shape
    big = block.reshape(rows, -1).astype(block.dtype.newbyteorder(">"))
    split = big.view(np.uint8).reshape(rows, -1, block.dtype.itemsize)
    planes = np.ascontiguousarray(split.transpose(0, 2, 1)).reshape(rows, -1, samples)
    return differences(planes).reshape(rows, -1)
