"""A raster that goes all round the globe, begun at another of its columns."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np

from spectrane.engine.derived import Derived
from spectrane.engine.full import FullSource
from spectrane.model.pixels import Pixels
from spectrane.model.source import Source
from spectrane.model.view import View
from spectrane.model.window import Window, extent


class Rolled(Derived, FullSource):
    """Another source's columns from ``first`` on, and those before it behind them."""

    def __init__(self, parent: Source, first: int) -> None:
        rows, columns = parent.shape
        grid = parent.grid.cropped(((0, rows), (first, first + columns)))
        super().__init__(parent, grid=grid)
        self.first = first % columns

    def read_native(self, bands: Sequence[int], window: Window) -> Pixels:
        """Answer from the parent; over its edge from both ends."""
        rows, _ = window
        pieces = [self.parent.read(bands, (rows, columns)) for columns in self._pieces(window)]
        if len(pieces) == 1:
            return pieces[0]
        mask = None
        if any(piece.mask is not None for piece in pieces):
            mask = np.concatenate([piece.validity for piece in pieces], axis=-1)
        alpha = [piece.alpha for piece in pieces if piece.alpha is not None]
        return Pixels(
            np.concatenate([piece.values for piece in pieces], axis=-1), mask=mask,
            rules=pieces[0].rules, alpha=np.concatenate(alpha, axis=-1) if alpha else None,
            when=self.nodata_when,
        )  # fmt: skip

    def _pieces(self, window: Window) -> Iterator[tuple[int, int]]:
        """Yield the parent's columns that a window is made of: one range, or two."""
        columns = self.shape[1]
        start, stop = (at + self.first for at in window[1])
        if start < columns:
            yield start, min(stop, columns)
        if stop > columns:
            yield max(start, columns) - columns, stop - columns


def seen(source: Source, view: View) -> tuple[Source, Window]:
    """Return the window that a view sees of a source, which is rolled where it goes over its edge.

    Raises GridMismatch where they do not meet.
    """
    rows, (first, last) = view.span(source.grid)
    if first >= 0 and last <= source.shape[1]:
        return source, (rows, (first, last))
    return Rolled(source, first), (rows, (0, extent((rows, (first, last)))[1]))
