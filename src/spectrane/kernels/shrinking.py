"""Area-weighted means: each output pixel is the mean of the input area it covers.

Sums are kept apart from their division, so that a picture can be gathered block by block.
Invalid pixels have weight 0; an output pixel is valid where the valid weight reaches half of
the full weight.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.kernels.choice import Twin
from spectrane.kernels.records import record

F32 = NDArray[np.float32]
_FEW = 4
"""Outputs that cover at most so many inputs are summed offset by offset."""
_IN_CACHE = 1 << 19
"""Inputs that are worked on at a time."""


@record(frozen=True)
class Spans:
    """Which inputs each output covers along one axis, over one block of inputs.

    Output ``first + k`` covers inputs ``start[k]`` to ``stop[k]`` (relative to the block), with
    weight ``head[k]`` for the first, ``tail[k]`` for the last, and 1 between. Where it covers a
    single input, ``head`` is its weight and ``tail`` 0.
    """

    first: int
    start: NDArray[np.intp]
    stop: NDArray[np.intp]
    head: F32
    tail: F32

    @property
    def outputs(self) -> slice:
        """The outputs that this block adds to."""
        return slice(self.first, self.first + len(self.start))

    def within(self, top: int) -> Spans:
        """Return the same for a block that begins ``top`` inputs later."""
        return replace(self, start=self.start - top, stop=self.stop - top)

    def alone(self) -> Spans:
        """Return the same for an output that holds nothing but these."""
        return replace(self, first=0)

    def part(self, which: slice) -> Spans:
        """Return some of the outputs."""
        return Spans(
            self.first + which.start,
            self.start[which],
            self.stop[which],
            self.head[which],
            self.tail[which],
        )


def spans(low: float, high: float, count: int, block: tuple[int, int]) -> Spans:
    """Spread ``count`` outputs evenly over low...high (input coordinates), seen by one block.

    Positions are found in float64 from the whole axis, so that every cut into blocks gives the
    same weights.

    >>> seen = spans(0.0, 5.0, 2, (0, 5))
    >>> seen.start.tolist(), seen.stop.tolist(), seen.head.tolist(), seen.tail.tolist()
    ([0, 2], [3, 5], [1.0, 0.5], [0.5, 1.0])
    """
    step = (high - low) / count
    edges = low + step * np.arange(count + 1)
    edges[-1] = high
    left, right = np.maximum(edges[:-1], block[0]), np.minimum(edges[1:], block[1])
    seen = np.flatnonzero(right > left)
    if not seen.size:
        empty = np.zeros(0, np.intp)
        return Spans(0, empty, empty, np.zeros(0, np.float32), np.zeros(0, np.float32))
    first, last = int(seen[0]), int(seen[-1]) + 1
    left, right = left[first:last], right[first:last]
    start, stop = np.floor(left).astype(np.intp), np.ceil(right).astype(np.intp)
    single = stop - start == 1
    head = np.where(single, right - left, start + 1 - left)
    tail = np.where(single, 0.0, right - (stop - 1))
    return Spans(
        first, start - block[0], stop - block[0], head.astype(np.float32), tail.astype(np.float32)
    )


def add_area_reference(
    values: NDArray[Any],
    valid: NDArray[np.bool_] | None,
    rows: Spans,
    columns: Spans,
    sums: NDArray[np.float64],
    weights: NDArray[np.float64] | None,
) -> None:
    """Add one block's weighted sums to ``sums`` and, where ``valid`` is given, to ``weights``.

    ``values`` and ``valid`` are (rows, columns) of the block; ``sums`` and ``weights`` have the
    whole output's shape. Without ``valid`` the caller accounts for the full weights itself.
    """
    wide = np.float32 if values.dtype.itemsize <= 2 or values.dtype == np.float32 else np.float64
    for which in _runs(rows, values.shape[1]):
        along = rows.part(which)
        top, bottom = int(along.start.min()), int(along.stop.max())
        part = values[top:bottom].astype(wide)
        where = (along.outputs, columns.outputs)
        along = along.within(top)
        if valid is not None:
            seen = valid[top:bottom]
            part[~seen] = 0  # NaN and infinity must not reach the sums, not even times zero
            assert weights is not None
            weights[where] += _shrunk(seen.astype(np.float32), along, columns)
        sums[where] += _shrunk(part, along, columns)


def _runs(rows: Spans, columns: int) -> Iterator[slice]:
    """Cut the outputs into runs whose inputs stay in cache."""
    longest = int((rows.stop - rows.start).max())
    # Long sums go line by line anyway, and would only be called more often.
    step = max(1, _IN_CACHE // (longest * columns)) if longest <= _FEW else len(rows.start)
    for first in range(0, len(rows.start), step):
        yield slice(first, min(first + step, len(rows.start)))


def _shrunk(block: NDArray[Any], rows: Spans, columns: Spans) -> NDArray[Any]:
    """Sum along rows, then along columns laid out as rows, which adds whole lines at a time."""
    lines = _along_rows(block, rows)
    return _along_rows(np.ascontiguousarray(lines.T), columns).T


def _along_rows(block: NDArray[Any], axis: Spans) -> NDArray[Any]:
    longest = int((axis.stop - axis.start).max())
    if longest <= _FEW:
        return _by_offset(block, axis, longest)
    out = np.empty((len(axis.start), block.shape[1]), block.dtype)
    for k, (start, stop) in enumerate(zip(axis.start.tolist(), axis.stop.tolist(), strict=True)):
        row = out[k]
        np.multiply(block[start], axis.head[k], out=row)
        if stop - start > 1:
            row += block[stop - 1] * axis.tail[k]
        if stop - start > 2:
            row += np.add.reduce(block[start + 1 : stop - 1], axis=0)
    return out


def _by_offset(block: NDArray[Any], axis: Spans, longest: int) -> NDArray[Any]:
    """Add first inputs of all outputs, then second ones, …: few and long operations."""
    length = axis.stop - axis.start
    out = np.empty((len(axis.start), block.shape[1]), block.dtype)
    np.take(block, axis.start, axis=0, out=out, mode="clip")
    out *= axis.head[:, np.newaxis]
    for offset in range(1, longest):
        weight = np.where(offset < length - 1, np.float32(1), axis.tail) * (offset < length)
        more = np.take(block, axis.start + offset, axis=0, mode="clip")
        more *= weight.astype(np.float32)[:, np.newaxis]
        out += more
    return out


def full_weights(rows: Spans, columns: Spans) -> NDArray[np.float64]:
    """Return the weight that a block without invalid pixels adds to each output it sees."""
    return np.asarray(np.multiply.outer(_lengths(rows), _lengths(columns)))


def _lengths(axis: Spans) -> NDArray[np.float64]:
    inner = np.maximum(axis.stop - axis.start - 2, 0)
    return np.asarray(axis.head + axis.tail.astype(np.float64) + inner)


add_area = Twin(add_area_reference, "spectrane.kernels.shrinking_loops", "add_area", 0.012)
