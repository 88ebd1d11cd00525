"""Which pixels lie in polygons: by their centres, by touching, or by how much they cover.

Positions are corner-based (column, row). Exteriors turn one way and holes the other, so that a
pixel is inside where the edges wind round it more often one way: polygons may overlap, holes are
holes. An edge belongs to one side only (half-open), so that adjoining polygons share no pixel.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.kernels.records import record
from spectrane.model.window import Window, extent

Ring = NDArray[np.float64]
"""Corner-based (column, row) positions, (n, 2); closed by itself."""
F64 = NDArray[np.float64]
SAMPLES = 16
"""Lines per row when coverage is found; along a line it is exact."""
_SNAP = 1e-7
"""Positions this near to a pixel's edge or centre line lie on it."""
_AT_ONCE = 1 << 22


@record(frozen=True)
class Polygons:
    """Edges of any number of polygons: lower and upper end by row, and which way they go.

    >>> square = Polygons.of([np.array([[0, 0], [2, 0], [2, 2], [0, 2]], float)])
    >>> square.inside(((0, 3), (1, 4))).tolist()
    [[True, False, False], [True, False, False], [False, False, False]]
    """

    x0: F64
    y0: F64
    x1: F64
    y1: F64
    way: NDArray[np.int32]

    @classmethod
    def of(cls, exteriors: Sequence[Ring], holes: Sequence[Ring] = ()) -> Polygons:
        """Return the edges of rings, turned so that exteriors count up and holes down."""
        starts, ends, ways = [], [], []
        for rings, sign in ((exteriors, 1.0), (holes, -1.0)):
            for ring in rings:
                ring = _snapped(ring)
                following = np.roll(ring, -1, axis=0)
                turn = np.sum(ring[:, 0] * following[:, 1] - following[:, 0] * ring[:, 1])
                starts.append(ring)
                ends.append(following)
                ways.append(np.full(len(ring), sign if turn >= 0 else -sign))
        a, b = np.concatenate(starts), np.concatenate(ends)
        way = np.concatenate(ways).astype(np.int32)
        falling = b[:, 1] < a[:, 1]
        low, high = np.where(falling[:, None], b, a), np.where(falling[:, None], a, b)
        signed = np.where(falling, way, -way).astype(np.int32)
        return cls(low[:, 0], low[:, 1], high[:, 0], high[:, 1], signed)

    def scaled(self, rows: float, columns: float) -> Polygons:
        """Return the polygons on pixels that are so many times as large."""
        return Polygons(
            self.x0 / columns, self.y0 / rows, self.x1 / columns, self.y1 / rows, self.way
        )

    @property
    def reach(self) -> tuple[float, float, float, float]:
        """(column min, row min, column max, row max)."""
        return (
            float(min(self.x0.min(), self.x1.min())), float(self.y0.min()),
            float(max(self.x0.max(), self.x1.max())), float(self.y1.max()),
        )  # fmt: skip

    def window(self, shape: Sequence[int]) -> Window | None:
        """Return the smallest window of a raster that covers the polygons; None where they miss."""
        left, top, right, bottom = self.reach
        rows = (max(0, int(np.floor(top))), min(int(shape[0]), int(np.ceil(bottom))))
        columns = (max(0, int(np.floor(left))), min(int(shape[1]), int(np.ceil(right))))
        return (rows, columns) if rows[0] < rows[1] and columns[0] < columns[1] else None

    def inside(self, window: Window) -> NDArray[np.bool_]:
        """Return (rows, columns) of a window: True where a pixel's centre lies inside."""
        (top, _), (left, _) = window
        rows, columns = extent(window)
        turns = np.zeros(rows * (columns + 1), np.int32)
        for lines, x, way in self._crossings(top + 0.5, 1.0, rows):
            column = np.clip(np.ceil(x - 0.5) - left, 0, columns).astype(np.intp)
            np.add.at(turns, lines * (columns + 1) + column, way)
        return np.asarray(np.cumsum(turns.reshape(rows, -1), axis=1)[:, :columns] > 0)

    def coverage(self, window: Window) -> NDArray[np.float32]:
        """Return which share of each pixel's area lies inside: 0...1."""
        (top, _), (left, _) = window
        rows, columns = extent(window)
        sums = np.zeros(rows * (columns + 2))
        for lines, x, way in self._crossings(top + 0.5 / SAMPLES, 1 / SAMPLES, rows * SAMPLES):
            at = np.clip(x - left, 0.0, columns)
            whole = np.minimum(np.floor(at), columns)
            index = (lines // SAMPLES) * (columns + 2) + whole.astype(np.intp)
            np.add.at(sums, index, way * (whole + 1 - at))
            np.add.at(sums, index + 1, way * (at - whole))
        shares = np.cumsum(sums.reshape(rows, -1), axis=1)[:, :columns] / SAMPLES
        return np.clip(shares, 0, 1).astype(np.float32)

    def _crossings(
        self, first: float, step: float, count: int
    ) -> Iterator[tuple[NDArray[np.intp], F64, NDArray[np.int32]]]:
        """Yield where edges cross even lines: the line's number, the column, and the way."""
        begin = np.maximum(np.ceil((self.y0 - first) / step), 0)
        end = np.minimum(np.ceil((self.y1 - first) / step), count)
        for edges, lines in _pairs(begin, end):
            x0, y0, x1, y1 = (one[edges] for one in (self.x0, self.y0, self.x1, self.y1))
            x = x0 + (first + lines * step - y0) * ((x1 - x0) / (y1 - y0))
            yield lines, x, self.way[edges]

    def touching(self, window: Window) -> NDArray[np.bool_]:
        """Return True where a pixel's area and the polygons share more than an edge."""
        (top, _), (left, _) = window
        rows, columns = extent(window)
        marks = np.zeros((rows, columns + 1), np.int32)
        flat = self.y0 == self.y1
        begin = np.maximum(np.floor(self.y0) - top, 0)
        end = np.where(flat, np.floor(self.y0) + (self.y0 != np.floor(self.y0)), np.ceil(self.y1))
        for edges, lines in _pairs(begin, np.minimum(end - top, rows)):
            x0, y0, x1, y1 = (one[edges] for one in (self.x0, self.y0, self.x1, self.y1))
            slope = (x1 - x0) / np.where(y1 > y0, y1 - y0, 1.0)
            upper = np.where(y1 > y0, x0 + (np.maximum(lines + top, y0) - y0) * slope, x0)
            lower = np.where(y1 > y0, x0 + (np.minimum(lines + top + 1, y1) - y0) * slope, x1)
            low, high = _snapped(np.minimum(upper, lower)), _snapped(np.maximum(upper, lower))
            one = np.floor(low) + (low != np.floor(low))
            after = np.where(low == high, one, np.ceil(high)) - left
            start = np.clip(np.floor(low) - left, 0, columns).astype(np.intp)
            stop = np.clip(after, start, columns).astype(np.intp)
            np.add.at(marks, (lines, start), 1)
            np.add.at(marks, (lines, stop), -1)
        return self.inside(window) | (np.cumsum(marks, axis=1)[:, :columns] > 0)


def _pairs(begin: F64, end: F64) -> Iterator[tuple[NDArray[np.intp], NDArray[np.intp]]]:
    """Yield (edge, line) for every line from begin to end of every edge, some at a time."""
    rows_met = np.flatnonzero(end > begin)
    counts = (end - begin)[rows_met].astype(np.intp)
    ends = np.cumsum(counts)
    start = 0
    while start < len(rows_met):
        done = int(ends[start - 1]) if start else 0
        stop = max(start + 1, int(np.searchsorted(ends, done + _AT_ONCE, "right")))
        number = counts[start:stop]
        edges = np.repeat(rows_met[start:stop], number)
        steps = np.arange(len(edges)) - np.repeat(np.cumsum(number) - number, number)
        yield edges, begin[edges].astype(np.intp) + steps
        start = stop


def _snapped(values: Any) -> F64:
    """Bring positions that rounding keeps from a pixel's edge or middle onto it."""
    near = np.round(values * 2) / 2
    return np.asarray(np.where(np.abs(values - near) < _SNAP, near, values))
