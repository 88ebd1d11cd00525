"""Arrays in memory as a source."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.engine import cache
from spectrane.engine.byte_file import ByteFile
from spectrane.engine.damage import Damaged
from spectrane.engine.derived import EVERYTHING
from spectrane.engine.full import FullSource
from spectrane.model.band import Band, numbered
from spectrane.model.errors import BandError, FormatError, GridMismatch, MetadataError
from spectrane.model.grid import Grid
from spectrane.model.look import Look
from spectrane.model.pixels import Pixels
from spectrane.model.regular_files import ReadingAs
from spectrane.model.source import Source, check_answer
from spectrane.model.window import Window, relative, whole

_LARGE = 16
"""An axis so long, before a last one of 3 or 4, is hardly one of bands."""
_STRIP = 1 << 22
"""Numbers of a band walked at a time."""
BLOCK = (512, 512)


def parts_first(values: NDArray[Any], axis: int | None, what: str, keyword: str) -> NDArray[Any]:
    """Return an array with the axis of its bands or frames first, as a view.

    Raises MetadataError where no axis is said and the last one looks like that of colours.

    >>> parts_first(np.zeros((600, 800, 3)), -1, "bands", "band_axis").shape
    (3, 600, 800)
    """
    if axis is not None:
        if not -values.ndim <= axis < values.ndim:
            raise MetadataError(f"{keyword} {axis}: the array has {values.ndim} axes, from 0")
        return np.moveaxis(values, axis, 0)
    if values.shape[-1] in (3, 4) and min(values.shape[:-1]) >= _LARGE:
        raise MetadataError(
            f"array: {' x '.join(map(str, values.shape))} would be {values.shape[0]} {what}, the "
            f"first axis; say {keyword}={values.ndim - 1} if the last one holds them, or "
            f"{keyword}=0 if it is meant so"
        )
    return values


class ArraySource(FullSource):
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

    @property
    def held_values(self) -> NDArray[Any]:
        """The array itself."""
        return self._values

    def read_native(self, bands: Sequence[int], window: Window) -> Pixels:
        """Answer from memory; views where nothing is resampled."""
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
        """Walk strips of whole rows: what lies in memory needs no smaller parts."""
        (start, stop), columns = self.checked(window)
        rows = max(1, _STRIP // (columns[1] - columns[0]))
        for first in range(start, stop, rows):
            part = ((first, min(first + rows, stop)), columns)
            yield part, self.read(bands, part)


def loaded(source: Source) -> ArraySource:
    """Return a source's pixels in memory, for work that comes back to them."""
    bands = range(len(source.bands))
    pixels = source.read(bands, whole(source.shape))
    held = ArraySource(
        pixels.values, grid=source.grid, bands=source.bands, mask=pixels.mask, alpha=pixels.alpha
    )
    for name in set(EVERYTHING) - {"grid", "block_shape", "bands", "dtype"}:
        setattr(held, name, getattr(source, name))
    return held


def shared_array(source: Source) -> NDArray[Any]:
    """Return the array (bands, axes…) that a loaded source holds, not copied.

    Raises BufferError for what is not in memory, and for what a mask says is invalid.
    """
    held = getattr(source, "held_values", None)
    if held is None:
        raise BufferError("not in memory as one array: load() it first")
    if source.has_mask or source.alpha is not None:
        raise BufferError("some numbers are invalid by a mask, which other libraries would not "
                          "see: take to_numpy(fill=VALUE)")  # fmt: skip
    values: NDArray[Any] = held
    return values


class DecodedSource(Source):
    """A file that gives up its pixels only as a whole: decoded once, at the first read.

    A subclass sets what a ``Source`` has, ``file``, ``key``, and answers ``decode``. Small pictures
    go to the process's cache; those too large for it are held until the source is closed.
    """

    file: ByteFile
    key: tuple[Any, ...]
    _held: ArraySource | None = None

    def decode(self) -> tuple[NDArray[Any], NDArray[Any] | None]:
        """Return all bands (bands, rows, columns) in native order, and alpha (rows, columns)."""
        raise NotImplementedError

    def planes(self, interleaved: NDArray[Any]) -> NDArray[Any]:
        """Return a codec's (rows, columns, bands) by band, if they are as many as the head says."""
        if interleaved.size != len(self.bands) * self.shape[0] * self.shape[1]:
            raise FormatError(f"{self.name}: {self.format} data hold {interleaved.shape} samples")
        cube = interleaved.reshape(*self.shape, len(self.bands))
        return np.ascontiguousarray(cube.transpose(2, 0, 1)).astype(self.dtype, copy=False)

    def _whole(self) -> ArraySource:
        values = cache.blocks.get(self.key)
        alpha = cache.blocks.get((*self.key, "alpha")) if self.alpha else None
        if values is None or (self.alpha and alpha is None):
            if self._held is not None:
                return self._held
            check_answer(len(self.bands), self.shape, self.dtype)
            try:
                with ReadingAs(self.name, FormatError, problem="broken data"):
                    values, alpha = self.decode()
            except FormatError:
                if not self.file.keeps_damaged:
                    raise
                self._held = self._nothing()
                return self._held
            cache.blocks.put(self.key, values)
            if alpha is not None:
                cache.blocks.put((*self.key, "alpha"), alpha)
        whole_array = ArraySource(values, grid=self.grid, bands=self.bands, alpha=alpha)
        whole_array.nodata_when = self.nodata_when
        if values.nbytes > cache.blocks.limit // 2:
            self._held = whole_array
        return whole_array

    def _nothing(self) -> ArraySource:
        """Return a picture without a valid pixel, which stands for one that is damaged."""
        damaged = Damaged(self.name, 1, "picture")
        damaged.attempt(self.key, self.decode)
        damaged.tell()
        values = np.zeros((len(self.bands), *self.shape), self.dtype)
        mask = np.zeros((1, *self.shape), bool)
        return ArraySource(values, grid=self.grid, bands=self.bands, mask=mask)

    def read(
        self,
        bands: Sequence[int],
        window: Window,
        size: tuple[int, ...] | None = None,
        resample: str = "nearest",
    ) -> Pixels:
        """Answer from the decoded picture."""
        return self._whole().read(bands, window, size, resample)

    def blocks(self, bands: Sequence[int], window: Window) -> Iterator[tuple[Window, Pixels]]:
        """Walk the decoded picture."""
        return self._whole().blocks(bands, window)

    def close(self) -> None:
        """Let go of what is held, and of the file."""
        self._held = None
        self.file.close()
