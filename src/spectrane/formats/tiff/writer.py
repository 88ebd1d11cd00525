"""Writing TIFF: tiled, compressed, with overviews, from a source of any size."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator
from typing import Any, BinaryIO

import imagecodecs
import numpy as np
from numpy.typing import NDArray

from spectrane.engine.files import written_whole
from spectrane.engine.threads import Progress, in_parallel, no_progress
from spectrane.formats.tiff import tags
from spectrane.formats.tiff.plan import Image, Plan, make_plan
from spectrane.formats.tiff.reducing import (
    MeanLevel,
    first_halves,
    halved,
    majority_of_four,
)
from spectrane.kernels import prediction
from spectrane.model.errors import FormatError
from spectrane.model.pixels import Pixels
from spectrane.model.source import Source

_STRIP_BYTES = 48 << 20
"""A row of 512-tiles larger than this is written in 256-tiles instead."""
_ENCODERS: dict[int, Callable[[bytes], bytes]] = {
    tags.DEFLATE: lambda data: bytes(imagecodecs.deflate_encode(data, level=5)),
    tags.ZSTD: lambda data: bytes(imagecodecs.zstd_encode(data, level=3)),
    tags.LZW: lambda data: bytes(imagecodecs.lzw_encode(data)),
    tags.NONE: lambda data: data,
}


def write_tiff(
    source: Source,
    target: str | os.PathLike[str],
    *,
    compress: str = "deflate",
    overviews: bool | None = None,
    tile: int | None = None,
    interleave: str = "pixel",
    overwrite: bool = False,
    progress: Progress = no_progress,
) -> None:
    """Write a source as a tiled TIFF with overviews, in bounded memory.

    ``compress`` is ``deflate``, ``zstd``, ``lzw`` or ``none``; the predictor follows the type.
    ``tile`` is 256 or 512 (None: by size); ``interleave`` is ``pixel`` or ``band`` (separate
    planes). ``overviews`` None makes them where the image is larger than a tile. BigTIFF is
    written where 4 GB may not do. Invalid pixels get the bands' no-data value, NaN in float data
    without one, and a mask image otherwise. ``progress`` counts rows of tiles.

    Raises ExistingFile, AccessError, and FormatError for what TIFF cannot hold; whatever
    happens, the target is the old file or the whole new one.
    """
    size = tile or _tile_size(source)
    if size not in (256, 512):
        raise FormatError(f"tile {tile}: expected 256 or 512")
    if interleave not in ("pixel", "band"):
        raise FormatError(f"interleave {interleave!r}: expected pixel or band")
    nodata, fills = _fills(source)
    with_mask = source.has_mask and fills is None
    plan = make_plan(
        source, tile=size, compress=compress, separate=interleave == "band",
        overviews=overviews is not False, with_mask=with_mask, nodata=nodata,
    )  # fmt: skip
    with written_whole(target, overwrite=overwrite) as file:
        _Writing(source, plan, file, fills).run(progress)


def _tile_size(source: Source) -> int:
    samples = len(source.bands) + (source.alpha is not None)
    strip = 512 * source.shape[1] * samples * source.dtype.itemsize
    return 512 if max(source.shape) > 4096 and strip <= _STRIP_BYTES else 256


def _fills(source: Source) -> tuple[int | float | None, list[Any] | None]:
    """Return the value for tag 42113, and what to store per band where a pixel is invalid.

    None for the second: bands without a no-data value, so that a mask must tell.
    """
    values = [band.nodata for band in source.bands]
    first = values[0]
    same = len({repr(value) for value in values}) == 1 and not isinstance(first, tuple)
    told = first if same and not isinstance(first, tuple) else None
    singles = [_single(band.rule.matching(source.dtype)) for band in source.bands]
    if all(single is not None for single in singles):
        return told, singles
    if source.dtype.kind == "f" and first is None and same:
        nan = source.dtype.type(np.nan)
        return (float("nan") if source.has_mask else None), [nan] * len(values)
    return told, None


def _single(values: list[np.generic]) -> np.generic | None:
    return values[0] if values else None


class _Writing:
    """One file being written: tiles go out as rows of them are complete."""

    def __init__(self, source: Source, plan: Plan, file: BinaryIO, fills: list[Any] | None) -> None:
        self.source, self.plan, self.file, self.fills = source, plan, file, fills
        self.tile = plan.images[0].tile
        self.levels = [
            MeanLevel(plan.images[0].shape, image.shape, 2**number)
            for number, image in enumerate(plan.images)
        ]
        self.waiting = [_Waiting(level, self.tile) for level in self.levels]

    def run(self, progress: Progress) -> None:
        """Write everything: front, tiles of all levels as they come, then the tables."""
        self.file.write(self.plan.head)
        down = self.plan.images[0].down
        for row in range(down):
            self._take_strip(row, self._read_strip(row))  # no name: one strip is held at a time
            progress(row + 1, down)
        for place, table in self.plan.tables():
            self.file.seek(place)
            self.file.write(table)

    def _read_strip(self, row: int) -> Pixels:
        rows, columns = self.source.shape
        window = ((row * self.tile, min((row + 1) * self.tile, rows)), (0, columns))
        return self.source.read(range(len(self.source.bands)), window)

    def _take_strip(self, row: int, pixels: Pixels) -> None:
        values, alpha = pixels.values, pixels.alpha
        if values.dtype.kind == "b":
            values = values.view(np.uint8)
        # Alpha is written as a sample of its own; it must not count as no-data too.
        valid = Pixels(values, mask=pixels.mask, rules=pixels.rules).valid
        filled = self._filled(values, valid)
        self._write_row(0, row, self._with_alpha(filled, alpha))
        self._write_mask(0, row, valid, values.shape[1:])
        if len(self.plan.images) == 1:
            return
        if self.source.categories and alpha is None:
            self._down_majority(1, values, valid if valid.size > 1 else None)
        else:
            self._hand_down(1, *first_halves(values, valid, alpha))

    def _filled(self, values: NDArray[Any], valid: NDArray[np.bool_]) -> NDArray[Any]:
        if self.fills is None or valid.size == 1 or valid.all():
            return values
        full = np.broadcast_to(valid, values.shape)
        out = values.copy()
        for band, fill in enumerate(self.fills):
            out[band][~full[band]] = fill
        return out

    def _with_alpha(self, values: NDArray[Any], alpha: NDArray[Any] | None) -> NDArray[Any]:
        if alpha is None:
            return values
        if alpha.dtype != values.dtype:
            raise FormatError(
                f"alpha is {alpha.dtype} and the bands {values.dtype}; TIFF keeps them in one type"
            )
        return np.concatenate([values, alpha[np.newaxis]])

    def _hand_down(self, level: int, sums: Any, weights: Any) -> None:
        """Give rows of sums to an overview; when a row of tiles is complete, write it."""
        for number, part, kept in self.waiting[level].add(sums, weights):
            values, enough = self.levels[level].stored(part, kept, self.plan.images[level].dtype)
            self._write_level(level, number, values, enough)
            if level + 1 < len(self.plan.images):
                self._hand_down(level + 1, halved(part), None if kept is None else halved(kept))

    def _down_majority(self, level: int, values: Any, valid: Any) -> None:
        if level == len(self.plan.images):
            return
        for number, part, kept in self.waiting[level].add(*majority_of_four(values, valid)):
            enough = None if kept is None else kept > 0
            self._write_level(level, number, part, enough)
            self._down_majority(level + 1, part, enough)

    def _write_level(
        self, level: int, row: int, values: NDArray[Any], enough: NDArray[np.bool_] | None
    ) -> None:
        bands = len(self.source.bands)
        valid = np.ones((1, 1, 1), bool) if enough is None else enough[:bands]
        values[:bands] = self._filled(values[:bands], valid)
        self._write_row(level, row, values)
        self._write_mask(level, row, valid, values.shape[1:])

    def _write_row(self, level: int, row: int, values: NDArray[Any]) -> None:
        """Encode and write one row of tiles of an image; ``values`` (samples, rows, columns)."""
        image = self.plan.images[level]
        jobs = [(plane, column) for plane in range(image.planes) for column in range(image.across)]
        done: dict[tuple[int, int], bytes] = {}

        def encode(job: tuple[int, int]) -> None:
            plane, column = job
            samples = values[plane : plane + 1] if image.separate else values
            cut = samples[:, :, column * image.tile : (column + 1) * image.tile]
            done[job] = _encoded(_padded(cut, image.tile), image)

        in_parallel(jobs, lambda: encode)
        for plane, column in jobs:
            index = (plane * image.down + row) * image.across + column
            self._put(image, index, done[plane, column])

    def _write_mask(
        self, level: int, row: int, valid: NDArray[np.bool_], shape: tuple[int, ...]
    ) -> None:
        if not self.plan.masks:
            return
        image = self.plan.masks[level]
        # A mask image speaks for all samples: it hides what no band holds.
        shown = np.broadcast_to(valid.any(axis=0), shape)
        for column in range(image.across):
            cut = shown[np.newaxis, :, column * image.tile : (column + 1) * image.tile]
            bits = np.packbits(_padded(cut, image.tile)[0], axis=1)
            data = _ENCODERS[image.compression](bits.tobytes())
            self._put(image, row * image.across + column, data)

    def _put(self, image: Image, index: int, data: bytes) -> None:
        image.offsets[index], image.counts[index] = self.file.tell(), len(data)
        self.file.write(data)


class _Waiting:
    """Rows of a level that do not fill a row of tiles yet, in a buffer that is used again.

    Every level above hands down half a row of tiles at a time, so nothing reaches over the end.
    """

    def __init__(self, level: MeanLevel, tile: int) -> None:
        self.level, self.tile = level, tile
        self.values: Any = None
        self.weights: Any = None
        self.held = 0
        self.taken = 0

    def add(self, values: Any, weights: Any) -> Iterator[tuple[int, Any, Any]]:
        """Take rows; give back a complete row of tiles: its number, values and weights."""
        if self.values is None:
            self.values = np.empty((len(values), self.tile, values.shape[2]), values.dtype)
        rows = slice(self.held, self.held + values.shape[1])
        self.values[:, rows] = values
        if weights is not None and self.weights is None:
            self.weights = np.empty(self.values.shape, np.float32)
            self.weights[:, : self.held] = self.level.covered(self.taken, self.held)
        if self.weights is not None:
            # No weights: everything is valid, and weighs what it covers.
            full = self.level.covered(self.taken + self.held, values.shape[1])
            self.weights[:, rows] = full if weights is None else weights
        self.held = rows.stop
        if self.held < min(self.tile, self.level.shape[0] - self.taken):
            return
        number, count = self.taken // self.tile, self.held
        kept = None if self.weights is None else self.weights[:, :count]
        self.taken, self.held, self.weights = self.taken + count, 0, None
        yield number, self.values[:, :count], kept


def _padded(cut: NDArray[Any], tile: int) -> NDArray[Any]:
    """Fill a tile at the edge by repeating its last row and column, which compress well."""
    _, rows, columns = cut.shape
    if rows == tile and columns == tile:
        return cut
    return np.pad(cut, ((0, 0), (0, tile - rows), (0, tile - columns)), mode="edge")


def _encoded(cut: NDArray[Any], image: Image) -> bytes:
    """Return a tile's bytes: samples together, differences taken, compressed."""
    block = np.ascontiguousarray(cut.transpose(1, 2, 0))
    if image.predictor == 2:
        block = prediction.differences(block.view(f"u{block.dtype.itemsize}"))
    elif image.predictor == 3:
        block = prediction.float_differences(block)
    little = block.astype(block.dtype.newbyteorder("<"), copy=False)
    return _ENCODERS[image.compression](little.tobytes())
