"""Arrays in memory as a source."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.engine.pyramid import Whole, cut_blocks, read_resized
from spectrane.model.band import Band, numbered
from spectrane.model.errors import BandError, GridMismatch, MetadataError
from spectrane.model.grid import Grid
from spectrane.model.look import Look
from spectrane.model.pixels import Pixels
from spectrane.model.source import Source, answer_size, check_answer
from spectrane.model.window import Window, extent, relative, whole

BLOCK = (512, 512)


class ArraySource(Source):
    """Bands held as an array (bands, rows, columns), with an optional mask and alpha.

    >>> source = ArraySource(np.arange(6).reshape(1, 2, 3))
    >>> source.read([0], ((0, 2), (1, 3))).values.tolist()
    [[[1, 2], [4, 5]]]
    """

    def __init__(
        self,
        values: NDArray[Any],
        *,
        grid: Grid | None = None,
        bands: Sequence[Band] | None = None,
        mask: NDArray[np.bool_] | None = None,
        alpha: NDArray[Any] | None = None,
        look: Look | None = None,
    ) -> None:
        if values.dtype.kind not in "biuf" or values.dtype.itemsize > 8:
            raise MetadataError(
                f"array: expected integers or floats up to 64 bits, not {values.dtype}"
            )
        if values.ndim != 3 or 0 in values.shape:
            raise MetadataError(
                f"array: expected (rows, columns) or (bands, rows, columns), none of them 0; "
                f"got {values.shape}"
            )
        self._values, self._mask, self._alpha = values, mask, alpha
        self.dtype = values.dtype.newbyteorder("=")
        self.grid = grid or Grid(values.shape[1:])
        self.bands = tuple(bands or numbered(len(values)))
        self.has_mask = mask is not None
        self.alpha = None if alpha is None else "straight"
        self.look = look
        self.block_shape = tuple(min(b, n) for b, n in zip(BLOCK, values.shape[1:], strict=True))
        if len(self.bands) != len(values):
            raise BandError(f"bands: {len(self.bands)} described, {len(values)} in the array")
        if self.grid.shape != values.shape[1:]:
            raise GridMismatch(
                f"grid: {self.grid.shape} rows and columns, array {values.shape[1:]}"
            )

    def read(
        self,
        bands: Sequence[int],
        window: Window,
        size: tuple[int, ...] | None = None,
        resample: str = "nearest",
    ) -> Pixels:
        """Answer from memory; views where nothing is resampled."""
        window = self.checked(window)
        self.check_bands(bands)
        wanted = answer_size(window, size)
        check_answer(len(bands), wanted, self.dtype)
        if wanted != extent(window):
            return read_resized([Whole.of(self)], bands, window, wanted, resample)
        whole_array = Pixels(
            self._values[list(bands)]
            if list(bands) != list(range(len(self.bands)))
            else self._values,
            mask=None
            if self._mask is None
            else self._mask[list(bands) if len(self._mask) > 1 else [0]],
            rules=[self.bands[index].rule for index in bands],
            alpha=self._alpha,
            when=self.nodata_when,
        )
        part = whole_array.cut(relative(window, whole(self.shape)))
        part.values = part.values.astype(self.dtype, copy=False)
        return part

    def blocks(self, bands: Sequence[int], window: Window) -> Iterator[tuple[Window, Pixels]]:
        """Walk blocks of 512 by 512."""
        return cut_blocks(self, bands, self.checked(window), self.block_shape)


def loaded(source: Source) -> ArraySource:
    """Return a source's pixels in memory, for work that comes back to them."""
    bands = range(len(source.bands))
    pixels = source.read(bands, whole(source.shape))
    held = ArraySource(
        pixels.values, grid=source.grid, bands=source.bands, mask=pixels.mask,
        alpha=pixels.alpha, look=source.look,
    )  # fmt: skip
    for name in ("nodata_when", "format", "name", "metadata", "alpha"):
        setattr(held, name, getattr(source, name))
    return held
