"""From a block's bytes to planes of numbers."""

from __future__ import annotations

import zlib
from collections.abc import Callable
from functools import cached_property
from typing import Any

import imagecodecs
import numpy as np
from numpy.typing import NDArray

from spectrane.engine.damage import REMEDY
from spectrane.formats.deflate_data import inflate_into
from spectrane.formats.jpeg_data import decode_jpeg
from spectrane.formats.tiff import tags
from spectrane.formats.tiff.layout import TiffLayout
from spectrane.formats.tiff.tags import Tag
from spectrane.kernels import prediction
from spectrane.model.errors import FormatError

Bytes = NDArray[np.uint8]
_codecs: Any = imagecodecs  # its stubs do not know that ``out`` may be an array
_SLACK = 256
"""PackBits may write a run beyond the end of a block."""


class BlockDecoder:
    """Decodes the blocks of one image with buffers of its own; one per thread."""

    def __init__(self, layout: TiffLayout, samples: list[int], undo: Callable[..., Any]) -> None:
        self.layout = layout
        self.samples = samples
        self._wanted = layout.block_bytes
        self._buffer = np.empty(self._wanted + _SLACK, np.uint8)
        self._undo = undo
        self._native = layout.dtype.newbyteorder("=")
        self._unsigned = np.dtype(f"u{self._native.itemsize}")
        self._reversed_bits = layout.reversed_bits

    def decode(
        self, data: memoryview, offset: int, window: tuple[slice, slice], out: NDArray[Any]
    ) -> None:
        """Put the wanted samples of a window of the block into ``out`` (samples, rows, columns)."""
        layout = self.layout
        if layout.compression in tags.PICTURES:
            self._copy(self._picture(data, offset), window, out)
            return
        raw = self._inflated(data, offset)
        if layout.packed:
            cube = self._cube(_unpacked(raw, layout))
        elif layout.predictor == 3:
            lines = raw.reshape(layout.block[0], -1)[window[0]]
            joined = prediction.undo_float_differences(
                lines, layout.samples_per_block, self._native
            )
            self._copy(self._cube(joined), (slice(None), window[1]), out)
            return
        else:
            cube = self._numbers
        if layout.predictor == 2:
            self._summed(cube, window, out)
        else:
            self._copy(cube, window, out)

    @cached_property
    def _numbers(self) -> NDArray[Any]:
        """The buffer that blocks are decoded into, as (rows, columns, samples)."""
        layout = self.layout
        raw = self._buffer[: self._wanted]
        return self._cube(raw.view(layout.dtype.newbyteorder(layout.byte_order)))

    def _cube(self, numbers: NDArray[Any]) -> NDArray[Any]:
        return numbers.reshape(-1, self.layout.block[1], self.layout.samples_per_block)

    def _copy(self, cube: NDArray[Any], window: tuple[slice, slice], out: NDArray[Any]) -> None:
        for sample, plane in zip(self.samples, out, strict=True):
            plane[...] = cube[(*window, sample)]

    def _summed(self, cube: NDArray[Any], window: tuple[slice, slice], out: NDArray[Any]) -> None:
        # Differences are sums of unsigned numbers, whatever they stand for.
        unsigned = cube.view(self._unsigned.newbyteorder(cube.dtype.byteorder))
        if not unsigned.dtype.isnative:
            unsigned = unsigned.astype(self._unsigned)
        if self._undo is prediction.undo_differences_reference and unsigned.flags.c_contiguous:
            # The codec library's loop is faster than NumPy's running sum.
            part = unsigned[window[0]]
            _codecs.delta_decode(part, axis=1, out=part)
            self._copy(part.view(self._native), (slice(None), window[1]), out)
            return
        self._undo(unsigned, window, self.samples, out.view(self._unsigned))

    def _picture(self, data: memoryview, offset: int) -> NDArray[Any]:
        """Decode a block that is a JPEG or JPEG 2000 picture to (rows, columns, samples)."""
        layout = self.layout
        try:
            pixels = np.asarray(self._decoded_picture(bytes(data)))
        except (RuntimeError, ValueError, TypeError) as error:
            raise self._broken(offset, str(error)) from error
        cube = pixels.reshape(*pixels.shape[:2], -1)
        rows, columns = layout.block
        least = rows if layout.tiled else min(rows, layout.rows % rows or rows)
        fits = cube.shape[0] >= least and cube.shape[1] >= columns
        if not fits or cube.shape[2] != layout.samples_per_block:
            raise self._broken(offset, f"is a picture of {cube.shape}; expected {layout.block}")
        return cube[:rows, :columns].astype(self._native, copy=False)

    def _decoded_picture(self, data: bytes) -> Any:
        layout = self.layout
        if layout.compression != tags.JPEG:
            return _codecs.jpeg2k_decode(data, planar=False)
        directory = layout.directory
        photometric = directory.integer(Tag.PhotometricInterpretation, 1)
        tables = directory.raw(Tag.JPEGTables) if Tag.JPEGTables in directory else None
        colour = photometric == 6 and layout.samples_per_block == 3
        return decode_jpeg(data, layout.samples_per_block, tables=tables, transform=int(colour))

    def _fax(self, data: memoryview, offset: int) -> Bytes:
        """Decode black and white, and pack it again: other bilevel data come packed as well."""
        rows, columns = self.layout.block
        options = self.layout.directory.integer(Tag.T4Options, 0)
        decode = {
            tags.RUN_LENGTH: _codecs.ccittrle_decode,
            tags.FAX3: lambda d, **size: _codecs.ccittfax3_decode(d, t4options=options, **size),
            tags.FAX4: _codecs.ccittfax4_decode,
        }[self.layout.compression]
        try:
            found = np.asarray(decode(bytes(data), height=rows, width=columns))
        except (RuntimeError, ValueError) as error:
            raise self._broken(offset, str(error)) from error
        pixels = np.zeros((rows, columns), np.uint8)
        part = found.reshape(-1, columns)[:rows]
        if len(part) < rows and not self._short_last_strip(len(part) * self.layout.row_bytes):
            raise self._broken(offset, f"holds {len(part)} of {rows} rows")
        pixels[: len(part)] = part != 0
        return np.packbits(pixels, axis=1).ravel()

    def _inflated(self, data: memoryview, offset: int) -> Bytes:
        """Return a block's bytes, in the buffer but for faxes."""
        wanted, compression = self._wanted, self.layout.compression
        if self._reversed_bits:
            data = memoryview(_codecs.bitorder_decode(bytes(data)))
        if compression in tags.FAX:
            return self._fax(data, offset)
        if compression == tags.NONE:
            self._buffer[: len(data)] = np.frombuffer(data, np.uint8)[:wanted]
            return self._buffer[:wanted]
        try:
            content = _CODECS[compression](data, self._buffer, wanted)
        except (RuntimeError, ValueError, zlib.error) as error:
            raise self._broken(offset, str(error)) from error
        if content < wanted and not self._short_last_strip(content):
            raise self._broken(offset, f"holds {content} of {wanted} bytes")
        return self._buffer[:wanted]

    def _short_last_strip(self, found: int) -> bool:
        # The last strip of an image holds only the rows that are left.
        layout = self.layout
        rest = layout.rows % layout.block[0]
        return not layout.tiled and rest > 0 and found >= rest * layout.row_bytes

    def _broken(self, offset: int, problem: str) -> FormatError:
        name = tags.COMPRESSION_NAMES[self.layout.compression]
        return FormatError(
            f"{self.layout.directory.head.file.name}: {name} block at byte {offset}: {problem}; "
            f"the file is damaged there{REMEDY}"
        )


def _zstd(data: memoryview, out: Bytes, wanted: int) -> int:
    return len(_codecs.zstd_decode(data, out=out)) if data else 0


_CODECS: dict[int, Callable[[memoryview, Bytes, int], int]] = {
    tags.LZW: lambda data, out, wanted: len(_codecs.lzw_decode(data, out=out)),
    tags.PACKBITS: lambda data, out, wanted: len(_codecs.packbits_decode(data, out=out)),
    tags.DEFLATE: inflate_into,
    tags.OLD_DEFLATE: inflate_into,
    tags.ZSTD: _zstd,
}


def _unpacked(raw: Bytes, layout: TiffLayout) -> NDArray[Any]:
    """Spread samples of 1, 2, 4 or 12 bits, most significant first, over whole bytes."""
    lines = raw.reshape(layout.block[0], layout.row_bytes)
    per_row = layout.block[1] * layout.samples_per_block
    single = np.unpackbits(lines, axis=1)
    if layout.bits == 1:
        return single[:, :per_row]
    used = single[:, : single.shape[1] // layout.bits * layout.bits]
    grouped = used.reshape(layout.block[0], -1, layout.bits)
    weights = (1 << np.arange(layout.bits - 1, -1, -1)).astype(layout.dtype.newbyteorder("="))
    return np.asarray((grouped @ weights)[:, :per_row], weights.dtype)
