"""A raster turned upright, as TIFF's and Exif's Orientation tells how its rows lie."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.engine.derived import Derived
from spectrane.model.pixels import Pixels
from spectrane.model.source import Source, answer_size
from spectrane.model.window import Window

# Orientation -> (rows and columns change places first, then rows reversed, columns reversed).
TURNS: dict[int, tuple[bool, bool, bool]] = {
    1: (False, False, False), 2: (False, False, True), 3: (False, True, True),
    4: (False, True, False), 5: (True, False, False), 6: (True, False, True),
    7: (True, True, True), 8: (True, True, False),
}  # fmt: skip


class Turned(Derived):
    """Another source with its rows and columns as a person should see them (TIFF 6.0, tag 274)."""

    def __init__(self, parent: Source) -> None:
        self.swap, self.rows_back, self.columns_back = TURNS[parent.orientation]
        turn = slice(None, None, -1 if self.swap else 1)
        super().__init__(
            parent, orientation=1, block_shape=parent.block_shape[turn],
            overviews=tuple(shape[turn] for shape in parent.overviews),
        )  # fmt: skip
        rows, columns = parent.shape[turn]
        self.grid = replace(parent.grid, shape=(rows, columns), affine=self._affine(rows, columns))

    def _affine(self, rows: int, columns: int) -> tuple[tuple[float, ...], ...]:
        """Return the parent's affine after the way from this source's (column, row) to its."""
        turn = np.eye(3)
        for axis, back, length in ((0, self.columns_back, columns), (1, self.rows_back, rows)):
            if back:
                turn[axis, axis], turn[axis, 2] = -1.0, length
        if self.swap:
            turn = turn[[1, 0, 2]]
        matrix: list[list[float]] = (self.parent.grid.matrix @ turn).tolist()
        return tuple(map(tuple, matrix))

    def read(
        self,
        bands: Sequence[int],
        window: Window,
        size: tuple[int, ...] | None = None,
        resample: str = "nearest",
    ) -> Pixels:
        """Answer from the parent, turned."""
        window = self.checked(window)
        wanted = answer_size(window, size)
        pixels = self.parent.read(
            bands, self._inside(window), wanted[::-1] if self.swap else wanted, resample
        )
        return self._turned(pixels)

    def _inside(self, window: Window) -> Window:
        pairs = [
            (length - b, length - a) if back else (a, b)
            for (a, b), length, back in zip(
                window, self.shape, (self.rows_back, self.columns_back), strict=True
            )
        ]
        return tuple(pairs[::-1] if self.swap else pairs)

    def _turned(self, pixels: Pixels) -> Pixels:
        return Pixels(
            self._array(pixels.values),
            mask=None if pixels.mask is None else self._array(pixels.mask),
            rules=pixels.rules,
            alpha=None if pixels.alpha is None else self._array(pixels.alpha),
            when=pixels.when,
        )

    def _array(self, values: NDArray[Any]) -> NDArray[Any]:
        turned = values.swapaxes(-1, -2) if self.swap else values
        rows, columns = (-1 if b else 1 for b in (self.rows_back, self.columns_back))
        return np.ascontiguousarray(turned[..., ::rows, ::columns])

    def blocks(self, bands: Sequence[int], window: Window) -> Iterator[tuple[Window, Pixels]]:
        """Walk the parent's blocks, turned."""
        for part, pixels in self.parent.blocks(bands, self._inside(self.checked(window))):
            turned = part[::-1] if self.swap else part
            back = zip(turned, self.shape, (self.rows_back, self.columns_back), strict=True)
            place = tuple((n - b, n - a) if flip else (a, b) for (a, b), n, flip in back)
            yield place, self._turned(pixels)


def upright(source: Source) -> Source:
    """Return a source turned as its Orientation says; itself where there is nothing to turn."""
    return Turned(source) if source.orientation != 1 else source
