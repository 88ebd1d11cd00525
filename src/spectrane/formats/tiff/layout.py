"""How one image of a TIFF file is cut into blocks, checked before anything is read."""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from spectrane.engine.byte_file import Range
from spectrane.formats.tiff import tags
from spectrane.formats.tiff.structure import Directory
from spectrane.formats.tiff.tags import Tag
from spectrane.kernels.ranks import distinct
from spectrane.kernels.records import record
from spectrane.model.errors import FormatError

_VIRTUAL_STRIP = 1 << 20
"""Uncompressed strips are read in pieces of about so many bytes."""
_MODEST = 16 << 20
_LARGEST_BLOCK = 2 << 30


@record(frozen=True)
class TiffLayout:
    """One image: its size, samples, and blocks.

    ``block`` is (rows, columns) of a tile, a strip, or a piece of a large uncompressed strip,
    of which any rows can be read alone. ``strip_rows`` are the rows of a strip as stored.
    """

    directory: Directory
    rows: int
    columns: int
    samples: int
    dtype: np.dtype[Any]
    bits: int
    separate: bool
    compression: int
    predictor: int
    block: tuple[int, int]
    tiled: bool
    strip_rows: int

    @property
    def samples_per_block(self) -> int:
        """Samples stored together in a block: all, or one where planes are separate."""
        return 1 if self.separate else self.samples

    @property
    def byte_order(self) -> Literal["<", ">"]:
        """The file's byte order."""
        return "<" if self.directory.order == "<" else ">"

    @property
    def packed(self) -> bool:
        """Whether samples are narrower than the type they are handed out in."""
        return self.bits < 8 * self.dtype.itemsize

    @property
    def reversed_bits(self) -> bool:
        """Whether the bits of each stored byte stand in reverse (FillOrder 2)."""
        own = self.compression in tags.PICTURES
        return not own and self.directory.integer(Tag.FillOrder, 1) == 2

    @property
    def row_bytes(self) -> int:
        """Bytes of one row of a block."""
        return (self.block[1] * self.samples_per_block * self.bits + 7) // 8

    @property
    def block_bytes(self) -> int:
        """Bytes of one decoded block."""
        return self.block[0] * self.row_bytes

    @property
    def blocks_across(self) -> int:
        """Blocks side by side."""
        return -(-self.columns // self.block[1])

    @property
    def stored_down(self) -> int:
        """Tiles or strips (as stored) below one another."""
        return -(-self.rows // (self.block[0] if self.tiled else self.strip_rows))

    @property
    def stored_blocks(self) -> int:
        """Tiles or strips in the file, over all planes."""
        return self.blocks_across * self.stored_down * (self.samples if self.separate else 1)

    @property
    def offsets(self) -> NDArray[np.int64]:
        """Where each stored block begins; 0 where it is missing."""
        return self._tables[0]

    @property
    def counts(self) -> NDArray[np.int64]:
        """How many bytes each stored block takes; inferred where the file does not say."""
        return self._tables[1]

    @cached_property
    def _tables(self) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
        """Both tables, read together when the first block is asked for."""
        places, lengths = (
            (Tag.TileOffsets, Tag.TileByteCounts)
            if self.tiled
            else (Tag.StripOffsets, Tag.StripByteCounts)
        )
        there = [places, *([lengths] if lengths in self.directory else [])]
        raw = self.directory.head.read_ranges([self._range_of(tag) for tag in there])
        tables = [self._per_block(tag, data) for tag, data in zip(there, raw, strict=True)]
        return tables[0], tables[1] if len(tables) == 2 else self._inferred_counts(tables[0])

    def _range_of(self, tag: Tag) -> Range:
        directory, wanted = self.directory, self.stored_blocks
        if tag not in directory:
            raise directory.fail(tag, "missing, and needed")
        field = directory.fields[tag]
        if field.count < wanted:
            raise directory.fail(tag, f"has {field.count} entries; the image has {wanted} blocks")
        return field.offset, field.length // field.count * wanted

    def _per_block(self, tag: Tag, raw: bytes | memoryview) -> NDArray[np.int64]:
        directory = self.directory
        found = directory.numbers(tag, most=self.stored_blocks, given=raw)
        if found.dtype.kind not in "iu" or (found.size and int(found.max()) > 2**62):
            raise directory.fail(tag, "expected offsets within the file")
        return found.astype(np.int64)

    def _inferred_counts(self, offsets: NDArray[np.int64]) -> NDArray[np.int64]:
        if self.compression == tags.NONE:
            index = np.arange(self.stored_blocks) // self.blocks_across % self.stored_down
            high = self.block[0] if self.tiled else self.strip_rows
            rows = high if self.tiled else np.minimum(self.rows - index * high, high)
            return np.asarray(np.broadcast_to(rows * self.row_bytes, index.shape), np.int64)
        ends = np.append(distinct(offsets), self.directory.head.file.size)
        following = ends[np.minimum(np.searchsorted(ends, offsets) + 1, len(ends) - 1)]
        return np.where(offsets > 0, following - offsets, 0)

    def block_range(self, position: Sequence[int], plane: int) -> Range | None:
        """Return offset and length of a reading block's bytes, or None where it is missing."""
        row, column = position
        pieces = 1 if self.tiled else -(-self.strip_rows // self.block[0])
        stored, piece = divmod(row, pieces)
        index = (plane * self.stored_down + stored) * self.blocks_across + column
        offset, count = int(self.offsets[index]), int(self.counts[index])
        if offset == 0 or count == 0:
            return None
        if self.compression != tags.NONE:
            self._check_ratio(count, offset)
            return offset, count
        rows = self.block[0] if self.tiled else min(self.block[0], self.rows - row * self.block[0])
        needed = rows * self.row_bytes
        skipped = piece * self.block_bytes
        if count < skipped + needed:
            raise FormatError(
                f"{self.directory.head.file.name}: block {index} at byte {offset} has {count} "
                f"bytes; {skipped + needed} are needed for {rows} rows; it may be cut short"
            )
        return offset + skipped, needed

    def _check_ratio(self, count: int, offset: int) -> None:
        size = self.block_bytes
        most = tags.GREATEST_RATIO[self.compression] * count
        if size > _MODEST and (size > most or size > _LARGEST_BLOCK):
            raise FormatError(
                f"{self.directory.head.file.name}: block at byte {offset}: {count} bytes cannot "
                f"hold the {size} bytes that the image's size claims"
            )


def tiff_layout(directory: Directory) -> TiffLayout:
    """Read and check an image's layout. Raises FormatError: the tag, and what was expected."""
    rows = _positive(directory, Tag.ImageLength)
    columns = _positive(directory, Tag.ImageWidth)
    samples = _positive(directory, Tag.SamplesPerPixel, 1)
    bits, dtype = _sample_type(directory, samples)
    compression = _compression(directory)
    planar = directory.integer(Tag.PlanarConfiguration, 1)
    if planar not in (1, 2):
        raise directory.fail(Tag.PlanarConfiguration, f"is {planar}; expected 1 or 2")
    separate = planar == 2 and samples > 1
    _check_subsampling(directory)
    tiled = Tag.TileWidth in directory or Tag.TileOffsets in directory
    strip_rows = rows
    if tiled:
        block = (_positive(directory, Tag.TileLength), _positive(directory, Tag.TileWidth))
    else:
        strip_rows = min(rows, _positive(directory, Tag.RowsPerStrip, rows))
        row_bytes = (columns * (1 if separate else samples) * bits + 7) // 8
        free = strip_rows == rows
        block = (_piece(strip_rows, row_bytes, compression, free), columns)
    _check_kind(directory, compression, bits, 1 if separate else samples)
    layout = TiffLayout(
        directory, rows, columns, samples, dtype, bits, separate, compression,
        _predictor(directory, dtype, bits), block, tiled, strip_rows,
    )  # fmt: skip
    _check_claim(layout)
    return layout


def _check_kind(directory: Directory, compression: int, bits: int, samples: int) -> None:
    """Raise FormatError where a compression cannot hold such samples."""
    if compression in tags.FAX and (bits, samples) != (1, 1):
        raise directory.fail(Tag.BitsPerSample, f"CCITT holds 1 bit of 1 sample, not {bits}")
    if compression == tags.JPEG and bits not in (8, 12, 16):
        raise directory.fail(Tag.BitsPerSample, f"JPEG holds 8 or 12 bits, not {bits}")


def _check_claim(layout: TiffLayout) -> None:
    """Raise FormatError where the file's bytes cannot hold what its header claims."""
    file = layout.directory.head.file
    most = tags.GREATEST_RATIO[layout.compression] * file.size + _MODEST
    whole = layout.stored_blocks * layout.block_bytes
    # Blocks that the file leaves out cost nothing: only those it has must fit.
    fits = layout.stored_blocks <= file.size and layout.block_bytes <= most
    if fits and (whole <= most or int((layout.counts > 0).sum()) * layout.block_bytes <= most):
        return
    raise FormatError(
        f"{file.name}: claims {layout.rows} x {layout.columns} pixels in {layout.stored_blocks} "
        f"blocks ({whole / 2**30:.3g} GB), which its {file.size} bytes cannot hold"
    )


def _piece(strip_rows: int, row_bytes: int, compression: int, free: bool) -> int:
    """Return rows per reading piece: about a megabyte of an uncompressed strip.

    Pieces must divide their strip, unless it is the only one (``free``).
    """
    if compression != tags.NONE or strip_rows * row_bytes <= 2 * _VIRTUAL_STRIP:
        return strip_rows
    wanted = max(1, _VIRTUAL_STRIP // row_bytes)
    near = range(wanted, wanted // 8, -1)
    return wanted if free else next((n for n in near if strip_rows % n == 0), strip_rows)


def _positive(directory: Directory, tag: Tag, default: int | None = None) -> int:
    value = directory.integer(tag, default)
    if not 1 <= value <= 2**32 - 1:
        raise directory.fail(tag, f"is {value}; expected 1 or more")
    return value


_KINDS = {1: "u", 2: "i", 3: "f", 4: "u"}


def _sample_type(directory: Directory, samples: int) -> tuple[int, np.dtype[Any]]:
    bits = _same(directory, Tag.BitsPerSample, samples, 1)
    kind = _same(directory, Tag.SampleFormat, samples, 1)
    if kind not in _KINDS:
        what = "complex numbers" if kind in (5, 6) else f"format {kind}"
        raise directory.fail(Tag.SampleFormat, f"{what} are not supported; expected 1, 2, 3 or 4")
    code = _KINDS[kind]
    if code == "u" and bits in (1, 2, 4, 12):
        return bits, np.dtype(np.uint16 if bits == 12 else np.uint8)
    if bits in ((16, 32, 64) if code == "f" else (8, 16, 32, 64)):
        return bits, np.dtype(f"{code}{bits // 8}")
    raise directory.fail(
        Tag.BitsPerSample,
        f"{bits} bits are not supported; expected 1, 2, 4, 8, 12, 16, 32 or 64 (floats 16, 32 or "
        "64)",
    )


def _same(directory: Directory, tag: Tag, samples: int, default: int) -> int:
    if tag not in directory:
        return default
    numbers = directory.numbers(tag, most=min(samples, 65536))
    distinct_numbers = sorted(set(numbers.tolist()))
    if len(distinct_numbers) != 1 or numbers.dtype.kind not in "iu":
        raise directory.fail(tag, f"is {distinct_numbers}; only one value for all samples works")
    return int(distinct_numbers[0])


def _compression(directory: Directory) -> int:
    value = directory.integer(Tag.Compression, tags.NONE)
    if value == tags.OLD_JPEG:
        raise directory.fail(
            Tag.Compression, "6 (old-style JPEG) is not supported: TIFF Technical Note 2 withdrew "
            "it, since its tables were never defined the same way twice; convert the file with "
            "the program that wrote it")  # fmt: skip
    if value not in tags.GREATEST_RATIO:
        name = tags.COMPRESSION_NAMES.get(value, "unknown")
        known = sorted({tags.COMPRESSION_NAMES[code] for code in tags.GREATEST_RATIO})
        raise directory.fail(
            Tag.Compression, f"{value} ({name}) is not supported; supported are {', '.join(known)}"
        )
    order = directory.integer(Tag.FillOrder, 1)
    if order not in (1, 2):
        raise directory.fail(Tag.FillOrder, f"is {order}; expected 1 or 2")
    return value


def _predictor(directory: Directory, dtype: np.dtype[Any], bits: int) -> int:
    value = directory.integer(Tag.Predictor, 1)
    compressed = directory.integer(Tag.Compression, 1) in (
        tags.LZW, tags.DEFLATE, tags.OLD_DEFLATE, tags.ZSTD
    )  # fmt: skip
    if value == 1 or not compressed:
        return 1
    if value == 2 and bits >= 8:
        return 2
    if value == 3 and dtype.kind == "f":
        return 3
    raise directory.fail(Tag.Predictor, f"is {value}, which does not go with {bits}-bit {dtype}")


def _check_subsampling(directory: Directory) -> None:
    compression = directory.integer(Tag.Compression, 1)
    if directory.integer(Tag.PhotometricInterpretation, 1) != 6 or compression in tags.PICTURES:
        return  # JPEG says itself how its colours are subsampled
    factors = [2, 2]  # TIFF 6.0's default
    if Tag.YCbCrSubSampling in directory:
        factors = directory.numbers(Tag.YCbCrSubSampling, most=2).tolist()
    if factors != [1, 1]:
        raise directory.fail(
            Tag.YCbCrSubSampling,
            f"is {factors}; only YCbCr without subsampling [1, 1] is supported",
        )
