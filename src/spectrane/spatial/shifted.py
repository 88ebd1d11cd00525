"""The same pixels on another extent of the same endless grid: nothing is resampled."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

import numpy as np

from spectrane.engine.derived import Derived
from spectrane.engine.full import FullSource
from spectrane.engine.pyramid import cut_blocks
from spectrane.model.grid import Grid
from spectrane.model.pixels import Pixels
from spectrane.model.source import Source, answer_size
from spectrane.model.window import Window, extent, intersection, relative, shifted, whole


class Shifted(Derived, FullSource):
    """Another source on a larger, smaller or moved extent; what it does not cover is invalid."""

    def __init__(self, parent: Source, grid: Grid, offset: tuple[int, int]) -> None:
        covered = intersection(shifted(whole(parent.shape), offset), whole(grid.shape))
        partly = covered != whole(grid.shape)
        super().__init__(parent, grid=grid, has_mask=parent.has_mask or partly)
        self.offset = offset

    def read(
        self,
        bands: Sequence[int],
        window: Window,
        size: tuple[int, ...] | None = None,
        resample: str = "nearest",
    ) -> Pixels:
        """Answer from the parent, in its own overviews where the window lies in it."""
        window = self.checked(window)
        inner = shifted(window, [-d for d in self.offset])
        if intersection(inner, whole(self.parent.shape)) == inner:
            self.check_bands(bands)
            return self.parent.read(bands, inner, answer_size(window, size), resample)
        return super().read(bands, window, size, resample)

    def read_native(self, bands: Sequence[int], window: Window) -> Pixels:
        """Answer from the parent where it is, with nothing valid around it."""
        size = extent(window)
        seen = intersection(shifted(whole(self.parent.shape), self.offset), window)
        if seen is None:
            values = np.zeros((len(bands), *size), self.dtype)
            return Pixels(values, mask=np.zeros((1, *size), bool), when=self.nodata_when)
        pixels = self.parent.read(bands, shifted(seen, [-d for d in self.offset]))
        where = relative(seen, window)
        values = np.zeros((len(bands), *size), pixels.values.dtype)
        values[(slice(None), *where)] = pixels.values
        planes = 1 if pixels.mask is None else len(pixels.mask)
        mask = np.zeros((planes, *size), bool)
        mask[(slice(None), *where)] = True if pixels.mask is None else pixels.mask
        alpha: Any = None
        if pixels.alpha is not None:
            alpha = np.zeros(size, pixels.alpha.dtype)
            alpha[where] = pixels.alpha
        return Pixels(values, mask=mask, rules=pixels.rules, alpha=alpha, when=pixels.when)

    def blocks(self, bands: Sequence[int], window: Window) -> Iterator[tuple[Window, Pixels]]:
        """Walk blocks that lie as the parent's do, so that each of those is decoded once."""
        window = self.checked(window)
        inner = intersection(shifted(whole(self.parent.shape), self.offset), window)
        if inner != window:
            yield from cut_blocks(self, bands, window, self.block_shape)
            return
        back = shifted(window, [-d for d in self.offset])
        for part, pixels in self.parent.blocks(bands, back):
            yield shifted(part, self.offset), pixels
