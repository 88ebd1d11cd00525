"""One row of tiles of a TIFF being written: read, filled, encoded, and halved for the overview.

A strip is made from its number alone, so that any thread, process or machine may make it.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, BinaryIO

import imagecodecs
import numpy as np
from numpy.typing import NDArray

from spectrane.engine.threads import in_parallel
from spectrane.formats.tiff import tags
from spectrane.formats.tiff.plan import Image
from spectrane.formats.tiff.reducing import first_halves, halved, majority_of_four
from spectrane.formats.validity import MasksDifferError, masks_disagree
from spectrane.kernels import prediction
from spectrane.kernels.records import record
from spectrane.model.errors import FormatError
from spectrane.model.pixels import Pixels
from spectrane.model.source import Source

ENCODERS: dict[int, Callable[[bytes], bytes]] = {
    tags.DEFLATE: lambda data: bytes(imagecodecs.deflate_encode(data, level=5)),
    tags.ZSTD: lambda data: bytes(imagecodecs.zstd_encode(data, level=3)),
    tags.LZW: lambda data: bytes(imagecodecs.lzw_encode(data)),
    tags.NONE: lambda data: data,
}
_DECODERS: dict[int, Callable[[bytes], bytes]] = {
    tags.DEFLATE: lambda data: bytes(imagecodecs.deflate_decode(data)),
    tags.ZSTD: lambda data: bytes(imagecodecs.zstd_decode(data)),
    tags.LZW: lambda data: bytes(imagecodecs.lzw_decode(data)),
    tags.NONE: lambda data: data,
}
_PART_BYTES = 4 << 20
"""Wide rows of tiles are made in parts of about so many bytes."""
Tiles = list[tuple[int, bytes]]
"""(number of the tile in its image, its bytes)."""
Halves = tuple[NDArray[Any], NDArray[Any] | None]
"""What the first overview gets: sums and weights, or (of classes) values and validity."""


@record(frozen=True)
class Strip:
    """A row of tiles: of the image, of its mask, and what its overview is made from."""

    tiles: Tiles
    mask: Tiles
    halves: Halves | None


@record(frozen=True)
class StripMaker:
    """Makes a strip from its number, of a source whose numbers are written as they are.

    Without ``encoding`` only what its overview is made from.

    Raises MasksDifferError where the bands have different masks, which one mask cannot say.
    """

    source: Source
    image: Image
    mask: Image | None
    overviews: bool
    encoding: bool = True

    def __call__(self, row: int) -> Strip:
        """Read and encode one row of tiles, a part of a wide one at a time."""
        tiles: Tiles = []
        mask: Tiles = []
        halves = []
        for columns in self._parts():
            pixels = self._read(row, columns)
            values, alpha = pixels.values, pixels.alpha
            valid = pixels.valid
            first = columns[0] // self.image.tile
            if self.encoding:
                tiles += image_tiles(self.image, row, with_alpha(values, alpha), first)
            if self.encoding and self.mask is not None:
                if masks_disagree(pixels):
                    raise MasksDifferError
                mask += mask_tiles(self.mask, row, valid, values.shape[1:], first)
            if self.overviews:
                halves.append((self.halves(values, valid, alpha), values.shape[1:]))
        # In the file's order, whatever the parts were.
        return Strip(sorted(tiles), sorted(mask), _side_by_side(halves) if halves else None)

    def _parts(self) -> list[tuple[int, int]]:
        """Cut a row of tiles that is large into parts of whole tiles."""
        width, tile = self.source.shape[1], self.image.tile
        each = tile * self.image.samples * self.image.dtype.itemsize
        step = max(1, _PART_BYTES // (each * tile)) * tile
        return [(start, min(start + step, width)) for start in range(0, width, step)]

    def _read(self, row: int, columns: tuple[int, int]) -> Pixels:
        """Read a part; alpha is a sample of its own, and does not count as no-data too."""
        tile, rows = self.image.tile, self.source.shape[0]
        window = ((row * tile, min((row + 1) * tile, rows)), columns)
        pixels = self.source.read(range(len(self.source.bands)), window)
        values = pixels.values.view(np.uint8) if pixels.values.dtype.kind == "b" else pixels.values
        known = pixels.valid if pixels.alpha is None else None
        plain = Pixels(values, mask=pixels.mask, rules=pixels.rules, when=pixels.when, known=known)
        _ = plain.valid
        plain.alpha = pixels.alpha
        return plain

    def halves(
        self, values: NDArray[Any], valid: NDArray[np.bool_], alpha: NDArray[Any] | None
    ) -> Halves:
        """Return what the first overview is made from."""
        if not self.source.mixable and alpha is None:
            return majority_of_four(values, valid if valid.size > 1 else None)
        return first_halves(values, valid, alpha)

    def again(self, row: int, file: BinaryIO) -> Strip:
        """Return a strip that a file holds already, for the overviews alone."""
        samples = _decoded(self.image, row, file)
        bands = len(self.source.bands)
        values = samples[:bands]
        alpha = samples[bands] if len(samples) > bands else None
        mask = None
        if self.mask is not None:
            mask = _decoded_mask(self.mask, row, file)[np.newaxis]
        rules = [band.rule for band in self.source.bands]
        valid = Pixels(values, mask=mask, rules=rules, when=self.source.nodata_when).valid
        return Strip([], [], self.halves(values, valid, alpha) if self.overviews else None)


def _side_by_side(parts: list[tuple[Halves, tuple[int, ...]]]) -> Halves:
    """Return parts of a row of halves as one; where all is valid, weights are what is covered."""
    if len(parts) == 1:
        return parts[0][0]
    sums = np.concatenate([values for (values, _), _ in parts], axis=2)
    given = [weights for (_, weights), _ in parts]
    known = next((one for one in given if one is not None), None)
    if known is None:
        return sums, None
    full = [
        np.broadcast_to(halved(np.ones((1, *shape), np.float32)), values.shape)
        for (values, _), shape in parts
    ]
    each = [cover if one is None else one for cover, one in zip(full, given, strict=True)]
    # Of classes: validity.
    return sums, np.concatenate([one.astype(known.dtype) for one in each], axis=2)


def with_alpha(values: NDArray[Any], alpha: NDArray[Any] | None) -> NDArray[Any]:
    """Return the bands with alpha as the last sample."""
    if alpha is None:
        return values
    if alpha.dtype != values.dtype:
        raise FormatError(
            f"alpha is {alpha.dtype} and the bands {values.dtype}; TIFF keeps them in one type"
        )
    return np.concatenate([values, alpha[np.newaxis]])


def image_tiles(image: Image, row: int, values: NDArray[Any], first: int = 0) -> Tiles:
    """Encode tiles of a row from the ``first`` on; ``values`` (samples, rows, columns)."""
    across = -(-values.shape[2] // image.tile)
    jobs = [(plane, column) for plane in range(image.planes) for column in range(across)]
    done: dict[tuple[int, int], bytes] = {}

    def encode(job: tuple[int, int]) -> None:
        plane, column = job
        samples = values[plane : plane + 1] if image.separate else values
        cut = samples[:, :, column * image.tile : (column + 1) * image.tile]
        done[job] = _encoded(_padded(cut, image.tile), image)

    in_parallel(jobs, lambda: encode)
    return [((plane * image.down + row) * image.across + first + column, done[plane, column])
            for plane, column in jobs]  # fmt: skip


def mask_tiles(
    image: Image, row: int, valid: NDArray[np.bool_], shape: tuple[int, ...], first: int = 0
) -> Tiles:  # fmt: skip
    """Encode tiles of a row of a mask image; it hides what no band holds."""
    shown = np.broadcast_to(valid.any(axis=0), shape)
    found = []
    for column in range(-(-shape[1] // image.tile)):
        cut = shown[np.newaxis, :, column * image.tile : (column + 1) * image.tile]
        bits = np.packbits(_padded(cut, image.tile)[0], axis=1)
        data = ENCODERS[image.compression](bits.tobytes())
        found.append((row * image.across + first + column, data))
    return found


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
    ordered = block.astype(np.dtype(block.dtype.str[1:]).newbyteorder(image.order), copy=False)
    return ENCODERS[image.compression](ordered.tobytes())


def _tile_bytes(image: Image, index: int, file: BinaryIO) -> bytes:
    file.seek(int(image.offsets[index]))
    return _DECODERS[image.compression](file.read(int(image.counts[index])))


def _decoded(image: Image, row: int, file: BinaryIO) -> NDArray[Any]:
    """Return (samples, rows, columns) of a row of tiles that a file holds."""
    rows = min(image.tile, image.shape[0] - row * image.tile)
    out = np.empty((image.samples, image.tile, image.across * image.tile), image.dtype)
    each = image.samples // image.planes
    for plane in range(image.planes):
        for column in range(image.across):
            index = (plane * image.down + row) * image.across + column
            block = _undone(_tile_bytes(image, index, file), image, each)
            where = slice(column * image.tile, (column + 1) * image.tile)
            out[plane * each : (plane + 1) * each, :, where] = block.transpose(2, 0, 1)
    return out[:, :rows, : image.shape[1]]


def _undone(data: bytes, image: Image, samples: int) -> NDArray[Any]:
    """Return a tile (rows, columns, samples) without its predictor."""
    tile, dtype = image.tile, image.dtype
    if image.predictor == 3:
        raw = np.frombuffer(data, np.uint8).reshape(tile, -1).copy()
        whole = prediction.undo_float_differences(raw, samples, dtype)
        return whole.reshape(tile, tile, samples)
    block = np.frombuffer(data, dtype.newbyteorder("<")).reshape(tile, tile, samples).astype(dtype)
    if image.predictor == 2:
        unsigned = block.view(f"u{dtype.itemsize}")
        np.cumsum(unsigned, axis=1, dtype=unsigned.dtype, out=unsigned)
    return block


def _decoded_mask(image: Image, row: int, file: BinaryIO) -> NDArray[np.bool_]:
    rows = min(image.tile, image.shape[0] - row * image.tile)
    parts = []
    for column in range(image.across):
        data = _tile_bytes(image, row * image.across + column, file)
        bits = np.frombuffer(data, np.uint8).reshape(image.tile, -1)
        parts.append(np.unpackbits(bits, axis=1)[:, : image.tile])
    return np.concatenate(parts, axis=1)[:rows, : image.shape[1]].astype(bool)
