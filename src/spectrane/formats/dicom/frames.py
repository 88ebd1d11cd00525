"""Pixels of DICOM frames: plain samples of any width, and frames packed in items (PS3.5 8, A.4)."""

from __future__ import annotations

import struct
from collections.abc import Callable
from itertools import pairwise
from typing import Any

import imagecodecs
import numpy as np
from numpy.typing import NDArray

from spectrane.engine import cache
from spectrane.engine.byte_file import Range
from spectrane.engine.damage import REMEDY
from spectrane.engine.files import HeldFile
from spectrane.formats import jpeg, jpeg2000
from spectrane.formats.dicom.elements import ITEM, SEQUENCE_END
from spectrane.formats.dicom.head import DicomHead, DicomLayout
from spectrane.formats.jpeg_data import check_complete, decode_jpeg
from spectrane.model.errors import FormatError

Samples = NDArray[Any]
_MOST_RATIO, _ALWAYS = 64, 64 << 20
"""Samples per packed byte that are believed, beyond so many that always are."""
_MOST_FRAGMENTS = 1 << 20


class Frames:
    """The frames of one file as samples: (samples, rows, columns), colours as red, green, blue."""

    def __init__(self, head: DicomHead) -> None:
        self.head, self.layout = head, head.layout
        self._places: list[list[Range]] | None = None

    def read(self, frame: int, rows: tuple[int, int], columns: tuple[int, int]) -> Samples:
        """Return rows and columns (half-open) of a frame (from 0)."""
        start, stop = rows
        across = slice(*columns)
        if not self.head.encapsulated:
            return self._plain(frame, start, stop, across)
        key = (self.head.file.key, "dicom", frame)
        samples = cache.blocks.get(key)
        if samples is None:
            samples = self._unpacked(frame)
            cache.blocks.put(key, samples)
        return samples[:, start:stop, across]

    def __getstate__(self) -> dict[str, Any]:
        return {"head": self.head, "layout": self.layout, "_places": None}

    # Plain samples -------------------------------------------------------------------------

    def _plain(self, frame: int, start: int, stop: int, across: slice) -> Samples:
        layout = self.layout
        first = frame * layout.frame_bits
        planes = layout.samples if layout.planar else 1
        together = 2 if layout.halved else layout.samples // planes
        line = layout.columns * together * layout.allocated
        parts = []
        for plane in range(planes):
            begin = first + (plane * layout.rows + start) * line
            parts.append(self._numbers(begin, (stop - start) * layout.columns * together))
        shape = (stop - start, layout.columns, together)
        if layout.halved:
            every = _doubled(parts[0].reshape(shape), layout.columns)
            return _rgb(every[:, :, across], layout.photometric)
        cleaned = [_cleaned(part.reshape(shape)[:, across], layout) for part in parts]
        found = np.concatenate([part.transpose(2, 0, 1) for part in cleaned])
        return _rgb(found, layout.photometric)

    def _numbers(self, first_bit: int, count: int) -> Samples:
        """Return so many samples from a bit of the pixel data on, as unsigned numbers."""
        layout, bits = self.layout, self.layout.allocated
        begin, end = first_bit // 8, -(-(first_bit + count * bits) // 8)
        raw = self._bytes(begin, end)
        if bits in (8, 16, 32, 64):
            order = self.head.data.order if layout.floating else "<"
            return np.frombuffer(raw, f"{order}{'f' if layout.floating else 'u'}{bits // 8}")
        return _bit_fields(raw, first_bit - begin * 8, bits, count)

    def _bytes(self, begin: int, end: int) -> bytes:
        """Return pixel data in little-endian order; words of big-endian files are turned round."""
        head, pixels = self.head, self.head.pixels
        if head.data.order == "<" or self.layout.floating or (
            pixels.representation == "OB" and self.layout.allocated <= 8
        ):  # fmt: skip
            return head.file.read(pixels.offset + begin, end - begin)
        first, last = begin & ~1, min(end + 1 & ~1, pixels.length)
        raw = head.file.read(pixels.offset + first, last - first)
        turned = np.frombuffer(raw[: len(raw) & ~1], ">u2").astype("<u2").tobytes()
        return turned[begin - first : end - first]

    # Packed frames -------------------------------------------------------------------------

    def _unpacked(self, frame: int) -> Samples:
        head, layout = self.head, self.layout
        data = b"".join(map(bytes, head.file.read_ranges(self._fragments()[frame])))
        if not data:
            raise FormatError(f"{head.name}: frame {frame + 1} is missing; the file is cut short")
        claimed = layout.rows * layout.columns * layout.samples
        if claimed > max(_ALWAYS, _MOST_RATIO * len(data)):
            raise FormatError(f"{head.name}: frame {frame + 1} claims {claimed} samples, which its "
                              f"{len(data)} bytes cannot hold")  # fmt: skip
        try:
            unpack = next(way for start, way in _UNPACKING if head.packing.startswith(start))
            found = unpack(data, layout)
        except FormatError as error:
            raise FormatError(f"{head.name}: frame {frame + 1}: {error}") from error
        except (RuntimeError, ValueError, IndexError, struct.error, TypeError) as error:
            raise FormatError(
                f"{head.name}: frame {frame + 1}: {head.packing} data: {error}; "
                f"the file is damaged there{REMEDY}"
            ) from error
        samples = _cleaned(found, layout)
        restored = layout.photometric in ("YBR_ICT", "YBR_RCT")  # JPEG 2000 undoes its own
        return samples if restored else _rgb(samples, layout.photometric)

    def _fragments(self) -> list[list[Range]]:
        """Return where each frame's fragments lie."""
        if self._places is None:
            self._places = _frames_of(self.head)
        return self._places


def _bit_fields(raw: bytes, skip: int, bits: int, count: int) -> Samples:
    """Return numbers of any width, packed from the lowest bit of each byte on (PS3.5 annex D)."""
    found = np.unpackbits(np.frombuffer(raw, np.uint8), bitorder="little")
    fields = found[skip : skip + count * bits].reshape(count, bits)
    width = next(n for n in (8, 16, 32) if n >= bits)
    dtype = np.dtype(f"u{width // 8}")
    weights = np.left_shift(1, np.arange(bits, dtype=np.uint64)).astype(dtype)
    return np.asarray((fields * weights).sum(axis=1, dtype=dtype))


def _cleaned(raw: Samples, layout: DicomLayout) -> Samples:
    """Return the bits that are stored, signed where they are; others may hold anything."""
    if layout.floating:
        return raw.astype(layout.dtype, copy=False)
    bits = 8 * layout.dtype.itemsize
    raw = raw.astype(f"u{bits // 8}", copy=False)
    shift = layout.high + 1 - layout.stored
    if shift:
        raw = raw >> raw.dtype.type(shift)
    if not layout.signed:
        full = layout.stored == bits
        return raw if full else raw & raw.dtype.type((1 << layout.stored) - 1)
    left = bits - layout.stored
    number = (raw << raw.dtype.type(left) if left else raw).view(layout.dtype)
    return number >> layout.dtype.type(left) if left else number


def _doubled(pairs: Samples, columns: int) -> Samples:
    """Return Y, Cb, Cr of every pixel from Y1 Y2 Cb Cr of each two (PS3.3 C.7.6.3.1.2)."""
    four = pairs.reshape(len(pairs), columns // 2, 4)
    luma = four[..., :2].reshape(len(pairs), columns)
    return np.stack([luma, *(np.repeat(four[..., k], 2, axis=1) for k in (2, 3))])


def _rgb(samples: Samples, photometric: str) -> Samples:
    """Return red, green and blue of YBR samples of 8 bits; others as they are."""
    if not photometric.startswith("YBR"):
        return samples
    luma, blue, red = samples.astype(np.float32)
    blue, red = blue - 128, red - 128
    if photometric.startswith("YBR_PARTIAL"):  # ITU-R BT.601, 16 to 235 and 240
        luma = (luma - 16) * np.float32(255 / 219)
        blue, red = blue * np.float32(255 / 224), red * np.float32(255 / 224)
    colors = np.stack([luma + np.float32(1.402) * red,
                      luma - np.float32(0.344136) * blue - np.float32(0.714136) * red,
                      luma + np.float32(1.772) * blue])  # fmt: skip
    return np.clip(np.floor(colors + np.float32(0.5)), 0, 255).astype(np.uint8)


def _frames_of(head: DicomHead) -> list[list[Range]]:
    """Return each frame's fragments, by the offset tables or by what the fragments begin with."""
    fragments, offsets = _items(head)
    count = head.layout.frames
    extended = head.data.elements.get(0x7FE00001)
    if extended is not None and extended.data:
        offsets = np.frombuffer(extended.data, "<u8").tolist()
    if count == 1:
        return [fragments]
    if len(fragments) == count:
        return [[fragment] for fragment in fragments]
    if len(fragments) < count and head.file.keeps_damaged:  # a frame each, and the rest is missing
        return [[fragment] for fragment in fragments] + [[]] * (count - len(fragments))
    starts = [place - fragments[0][0] for place, _ in fragments] if fragments else []
    if len(offsets) == count and set(offsets) <= set(starts):
        at = [*(starts.index(offset) for offset in offsets), len(fragments)]
    else:
        marks = [head.file.read(place, min(4, n))[:2] for place, n in fragments]
        at = [k for k, mark in enumerate(marks) if mark in (b"\xff\xd8", b"\xff\x4f")]
        at.append(len(fragments))
    if len(at) != count + 1 or sorted(set(at)) != at:
        raise FormatError(
            f"{head.name}: {len(fragments)} fragments of pixel data make no {count} frames, and "
            "there is no offset table to tell"
        )
    return [fragments[a:b] for a, b in pairwise(at)]


def _items(head: DicomHead) -> tuple[list[Range], list[int]]:
    """Return the fragments' places and the basic offset table."""
    place, end = head.pixels.offset, head.file.size
    ranges: list[Range] = []
    while place + 8 <= end and len(ranges) < _MOST_FRAGMENTS:
        group, number, length = struct.unpack("<HHI", head.file.read(place, 8))
        tag = group << 16 | number
        if tag == SEQUENCE_END:
            break
        if tag != ITEM or length > end - place - 8:
            if head.file.keeps_damaged and len(ranges) > 1:
                break
            raise FormatError(
                f"{head.name}: byte {place}: expected a fragment of pixel data inside the file, "
                f"found ({group:04X},{number:04X}) of {length} bytes; it may be cut short"
            )
        ranges.append((place + 8, length))
        place += 8 + length
    if len(ranges) < 2:
        raise FormatError(f"{head.name}: pixel data hold no fragment")
    table = head.file.read(*ranges[0]) if ranges[0][1] <= 4 * _MOST_FRAGMENTS else b""
    return ranges[1:], np.frombuffer(table[: len(table) & ~3], "<u4").tolist()


def _rle(data: bytes, layout: DicomLayout) -> Samples:
    """Unpack run lengths (PS3.5 annex G): a segment per byte of a sample, the highest first."""
    size = layout.allocated // 8
    count, *starts = struct.unpack("<16I", data[:64])
    if layout.allocated % 8 or count != layout.samples * size:
        raise FormatError(f"RLE of {count} segments for {layout.samples} samples of "
                          f"{layout.allocated} bits")  # fmt: skip
    plane = layout.rows * layout.columns
    out = np.empty((layout.samples, plane, size), np.uint8)
    ends = [*starts[1:count], len(data)]
    for number, (start, end) in enumerate(zip(starts[:count], ends, strict=True)):
        if not 64 <= start <= end <= len(data):
            raise FormatError(f"RLE segment {number + 1} lies at {start} to {end}")
        run = np.frombuffer(imagecodecs.packbits_decode(data[start:end]), np.uint8)
        if len(run) < plane:
            raise FormatError(f"RLE segment {number + 1} holds {len(run)} of {plane} bytes")
        out[number // size, :, size - 1 - number % size] = run[:plane]
    numbers = out.reshape(layout.samples, plane * size).view(f"<u{size}")
    return numbers.reshape(layout.samples, layout.rows, layout.columns)


def _jpeg(data: bytes, layout: DicomLayout) -> Samples:
    head = jpeg.read_jpeg_head(HeldFile("JPEG", data))
    _check_size(layout, head.rows, head.columns, head.components)
    if head.frame == "JPEG-LS":
        check_complete(data)
        return _channels(imagecodecs.jpegls_decode(data))
    # The components are left as they are; see _rgb.
    return _channels(decode_jpeg(data, layout.samples, transform=0))


def _jpeg2000(data: bytes, layout: DicomLayout) -> Samples:
    head = jpeg2000.read_jp2_head(HeldFile("JPEG 2000", data))
    _check_size(layout, head.rows, head.columns, head.components)
    return _channels(imagecodecs.jpeg2k_decode(data, planar=False))


def _check_size(layout: DicomLayout, rows: int, columns: int, components: int) -> None:
    if (rows, columns, components) != (layout.rows, layout.columns, layout.samples):
        raise FormatError(
            f"packed {columns} x {rows} x {components}; Columns, Rows and SamplesPerPixel say "
            f"{layout.columns} x {layout.rows} x {layout.samples}"
        )


def _channels(found: Any) -> Samples:
    """Bring what a decoder returns to (samples, rows, columns)."""
    values = np.asarray(found)
    cube = values[..., np.newaxis] if values.ndim == 2 else values
    return cube.transpose(2, 0, 1)


def _encapsulated_plain(data: bytes, layout: DicomLayout) -> Samples:
    """Return a frame that lies in an item as it is."""
    raw = np.frombuffer(data, f"<u{layout.allocated // 8}")
    cube = raw[: layout.rows * layout.columns * layout.samples]
    if layout.planar:
        return cube.reshape(layout.samples, layout.rows, layout.columns)
    return cube.reshape(layout.rows, layout.columns, layout.samples).transpose(2, 0, 1)


_UNPACKING: tuple[tuple[str, Callable[[bytes, DicomLayout], Samples]], ...] = (
    ("RLE", _rle), ("JPEG 2000", _jpeg2000), ("High-Throughput", _jpeg2000), ("JPEG", _jpeg),
    ("none", _encapsulated_plain),
)  # fmt: skip
"""How a packing's name begins -> what unpacks it; the first that fits."""
