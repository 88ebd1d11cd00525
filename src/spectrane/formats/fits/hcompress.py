"""Tiles packed by HCOMPRESS_1 (FITS 4.0, section 10.4.4)."""

from __future__ import annotations

import struct

import numpy as np
from numpy.typing import NDArray

from spectrane.kernels.quadtree import FAULTS, planes, restored
from spectrane.model.errors import FormatError

_HEAD = struct.Struct(">2siiiq3B")
_MAGIC = b"\xdd\x99"
_DEEPEST = 62


def unpacked(packed: bytes, count: int) -> NDArray[np.int64]:
    """Return the ``count`` numbers of a tile, row by row.

    What was divided to be packed smaller is multiplied again, and not smoothed. Raises FormatError
    where the tile is no such stream, holds another count, or ends too early.
    """
    if len(packed) < _HEAD.size or packed[:2] != _MAGIC:
        raise FormatError("holds no HCOMPRESS stream")
    _, rows, columns, scale, total, *depths = _HEAD.unpack_from(packed)
    if rows < 1 or columns < 1 or rows * columns != count or max(depths) > _DEEPEST:
        raise FormatError(f"holds {rows} x {columns} numbers of {max(depths)} bits, not {count}")
    out = np.zeros((rows, columns), np.int64)
    data = np.frombuffer(packed, np.uint8, offset=_HEAD.size)
    fault = planes.choose(count)(data, np.array(depths, np.int64), out)
    if fault:
        raise FormatError(f"its HCOMPRESS stream {FAULTS[int(fault)]}")
    out[0, 0] = total
    return restored(out * scale if scale > 1 else out).ravel()
