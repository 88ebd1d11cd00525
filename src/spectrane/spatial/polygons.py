"""Which pixels lie in a polygon: by their centres, even-odd, half-open on edges."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.engine.full import FullSource
from spectrane.model.pixels import Pixels
from spectrane.model.source import Source
from spectrane.model.window import Window

Ring = NDArray[np.float64]
"""Corner-based (column, row) positions, (n, 2); closed by itself."""


def inside(rings: Sequence[Ring], window: Window) -> NDArray[np.bool_]:
    """Return (rows, columns) of a window: True where a pixel's centre lies in the polygon.

    Even-odd over all rings, so that rings in rings are holes; an edge belongs to the pixel on
    one of its sides only, so that adjoining polygons share none.
    """
    (top, bottom), (left, right) = window
    rows, columns = bottom - top, right - left
    toggles = np.zeros((rows, columns + 1), np.int32)
    for ring in rings:
        closed = np.concatenate([ring, ring[:1]]) - (left, top)
        _toggle(toggles, closed[:-1], closed[1:], rows, columns)
    return np.asarray(np.cumsum(toggles, axis=1)[:, :columns] % 2 == 1)


def _toggle(toggles: NDArray[np.int32], starts: Ring, ends: Ring, rows: int, columns: int) -> None:
    """Note where each row's line of centres crosses an edge: all pixels behind change sides."""
    for (x0, y0), (x1, y1) in zip(starts.tolist(), ends.tolist(), strict=True):
        if y0 == y1:
            continue
        low, high = min(y0, y1), max(y0, y1)
        # Rows whose centre lies in [low, high).
        first = max(0, int(np.ceil(low - 0.5)))
        last = min(rows, int(np.ceil(high - 0.5)))
        if first >= last:
            continue
        lines = np.arange(first, last)
        x = x0 + (lines + 0.5 - y0) * ((x1 - x0) / (y1 - y0))
        column = np.clip(np.ceil(x - 0.5), 0, columns).astype(np.intp)
        toggles[lines, column] += 1


def bounds_of(rings: Sequence[Ring], shape: Sequence[int]) -> Window | None:
    """Return the smallest window of a raster that holds the polygon; None where they miss."""
    points = np.concatenate(rings)
    (left, top), (right, bottom) = points.min(axis=0), points.max(axis=0)
    rows = (max(0, int(np.floor(top))), min(int(shape[0]), int(np.ceil(bottom))))
    columns = (max(0, int(np.floor(left))), min(int(shape[1]), int(np.ceil(right))))
    return (rows, columns) if rows[0] < rows[1] and columns[0] < columns[1] else None


class Within(FullSource):
    """Another source with all pixels outside a polygon invalid; its extent stays."""

    def __init__(self, parent: Source, rings: Sequence[Ring]) -> None:
        self.parent, self.rings = parent, rings
        self.carry_from(parent)
        self.has_mask = True
        self.bands, self.dtype, self.grid = parent.bands, parent.dtype, parent.grid
        self.block_shape = parent.block_shape

    def at_full(self, bands: Sequence[int], window: Window) -> Pixels:
        """Answer from the parent, masked; another size is made from the masked pixels."""
        return self._masked(window, self.parent.read(bands, window))

    def blocks(self, bands: Sequence[int], window: Window) -> Iterator[tuple[Window, Pixels]]:
        """Walk the parent's blocks, masked."""
        for part, pixels in self.parent.blocks(bands, self.checked(window)):
            yield part, self._masked(part, pixels)

    def zone(self, window: Window) -> NDArray[np.bool_]:
        """Return where a window's pixels lie in the polygon, whether they hold a number or not."""
        return inside(self.rings, window)

    def _masked(self, window: Window, pixels: Pixels) -> Pixels:
        kept: NDArray[Any] = self.zone(window)[np.newaxis]
        mask = kept if pixels.mask is None else pixels.mask & kept
        return Pixels(
            pixels.values, mask=mask, rules=pixels.rules, alpha=pixels.alpha, when=pixels.when
        )

    def close(self) -> None:
        """Let go of the parent's file."""
        self.parent.close()
