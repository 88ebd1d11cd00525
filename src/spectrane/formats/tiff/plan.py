"""What a TIFF file will hold, laid out before the first pixel is written.

The header, all directories and the room for their tables of offsets stand at the front, the
small values first, then the tables from the smallest overview to the full image: whoever opens
the file needs one range, and nothing is written twice. Tiles follow in the order they are made.
"""

from __future__ import annotations

import struct
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import Any, Literal

import numpy as np

from spectrane.formats.tiff import tags, xmp
from spectrane.formats.tiff.georeference import geo_fields
from spectrane.formats.tiff.tags import Tag
from spectrane.formats.validity import single_nodata
from spectrane.kernels.records import record
from spectrane.model.band import Band
from spectrane.model.colors import parse_color
from spectrane.model.errors import FormatError
from spectrane.model.marks import RESCALED
from spectrane.model.said import GIVEN
from spectrane.model.source import Source

TiffField = tuple[Tag, str, Any]
"""A tag, the NumPy type code of its values (or "S" for text, "B" for bytes), and the values."""

COMPRESSIONS = {"deflate": tags.DEFLATE, "zstd": tags.ZSTD, "lzw": tags.LZW, "none": tags.NONE}
_CLASSIC_LIMIT = 2**32 - 2**16
_FIELD_CODES = {"u1": 1, "S": 2, "u2": 3, "u4": 4, "f8": 12, "u8": 16, "B": 1}


@dataclass
class Image:
    """One directory: a resolution of the image, or of its mask."""

    shape: tuple[int, int]
    samples: int
    dtype: np.dtype[Any]
    tile: int
    separate: bool
    compression: int
    predictor: int
    kind: int = 0
    bits: int = 0
    order: Literal["<", ">"] = "<"
    extra: list[TiffField] = field(default_factory=list)
    offsets: np.ndarray[Any, np.dtype[np.uint64]] = field(init=False)
    counts: np.ndarray[Any, np.dtype[np.uint64]] = field(init=False)
    places: dict[Tag, int] = field(default_factory=dict)

    def __post_init__(self) -> None:
        """Make room for the tiles' offsets and lengths."""
        self.bits = self.bits or self.dtype.itemsize * 8
        self.offsets = np.zeros(self.tiles, np.uint64)
        self.counts = np.zeros(self.tiles, np.uint64)

    def bare(self) -> Image:
        """Return the same without its tiles' places, to hand to whoever encodes them."""
        return replace(self, extra=[], places={})

    @property
    def down(self) -> int:
        """Tiles below one another."""
        return -(-self.shape[0] // self.tile)

    @property
    def across(self) -> int:
        """Tiles side by side."""
        return -(-self.shape[1] // self.tile)

    @property
    def planes(self) -> int:
        """Separate planes."""
        return self.samples if self.separate else 1

    @property
    def tiles(self) -> int:
        """Tiles in all planes."""
        return self.down * self.across * self.planes

    @property
    def raw_bytes(self) -> int:
        """Bytes of all tiles before compression."""
        per_tile = self.tile * self.tile * self.bits // 8
        return self.tiles * per_tile * (self.samples // self.planes)

    def fields(self, big: bool) -> list[TiffField]:
        """Return this directory's fields, sorted by tag."""
        code = "u8" if big else "u4"
        listed_fields: list[TiffField] = [
            (Tag.NewSubfileType, "u4", [self.kind]),
            (Tag.ImageWidth, "u4", [self.shape[1]]),
            (Tag.ImageLength, "u4", [self.shape[0]]),
            (Tag.BitsPerSample, "u2", [self.bits] * self.samples),
            (Tag.Compression, "u2", [self.compression]),
            (Tag.SamplesPerPixel, "u2", [self.samples]),
            (Tag.PlanarConfiguration, "u2", [2 if self.separate else 1]),
            (Tag.TileWidth, "u4", [self.tile]),
            (Tag.TileLength, "u4", [self.tile]),
            (Tag.TileOffsets, code, self.offsets),
            (Tag.TileByteCounts, "u4", self.counts),
            *self.extra,
        ]
        if not self.kind & tags.MASK:
            sample = {"u": 1, "b": 1, "i": 2, "f": 3}[self.dtype.kind]
            listed_fields.append((Tag.SampleFormat, "u2", [sample] * self.samples))
        if self.predictor != 1:
            listed_fields.append((Tag.Predictor, "u2", [self.predictor]))
        return sorted(listed_fields, key=lambda item: item[0])


@record(frozen=True)
class Plan:
    """The images of a file in the order of their directories, and the bytes of its front."""

    images: list[Image]
    masks: list[Image]
    big: bool
    head: bytes

    def tables(self) -> list[tuple[int, bytes]]:
        """Return where in the file the tables of offsets and lengths go, and their bytes."""
        packed = []
        for image in self.images + self.masks:
            code = "<u8" if self.big else "<u4"
            packed.append((image.places[Tag.TileOffsets], image.offsets.astype(code).tobytes()))
            packed.append((image.places[Tag.TileByteCounts], image.counts.astype("<u4").tobytes()))
        return packed


def overview_sizes(shape: tuple[int, int], least: int) -> list[tuple[int, int]]:
    """Return the halved sizes down to the first that fits in ``least`` pixels a side.

    >>> overview_sizes((1000, 600), 256)
    [(500, 300), (250, 150)]
    """
    sizes = []
    rows, columns = shape
    while max(rows, columns) > least:
        rows, columns = -(-rows // 2), -(-columns // 2)
        sizes.append((rows, columns))
    return sizes


def make_plan(
    source: Source,
    *,
    tile: int,
    compress: str,
    separate: bool,
    overviews: bool,
    order: Literal["<", ">"] = "<",
) -> Plan:
    """Lay out a file for a source, with masks where it has one; ``order`` is that of its tiles.

    Raises FormatError for what TIFF cannot hold.
    """
    if compress not in COMPRESSIONS:
        raise FormatError(f"compress {compress!r}: expected one of {', '.join(COMPRESSIONS)}")
    rows, columns = source.shape
    compression = COMPRESSIONS[compress]
    samples = len(source.bands) + (source.alpha is not None)
    if samples > 65535:
        raise FormatError(f"{samples} bands: TIFF holds at most 65535")
    predictor = 1 if compress == "none" else 3 if source.dtype.kind == "f" else 2
    if source.dtype.kind == "b" or not source.mixable:
        predictor = 1  # class numbers of neighbours have no useful difference
    dtype = np.dtype(np.uint8) if source.dtype.kind == "b" else source.dtype

    def image(shape: tuple[int, int], kind: int) -> Image:
        extra = _meaning(source, samples, dtype)
        extra += _main_fields(source) if kind == 0 else []
        return Image(shape, samples, dtype, tile, separate and samples > 1, compression,
                     predictor, kind, order=order, extra=extra)  # fmt: skip

    smaller = overview_sizes((rows, columns), tile) if overviews else []
    images = [image((rows, columns), 0)] + [image(shape, tags.REDUCED) for shape in smaller]
    masks = [_mask_of(image, compression) for image in images] if source.has_mask else []
    longest = sum(one.raw_bytes * 9 // 8 for one in images + masks)
    big = longest + 65536 * len(images) > _CLASSIC_LIMIT
    return Plan(images, masks, big, _front(images + masks, big))


def _mask_of(image: Image, compression: int) -> Image:
    return Image(
        image.shape, 1, np.dtype(np.uint8), image.tile, False, compression, 1,
        image.kind | tags.MASK, bits=1, extra=[(Tag.PhotometricInterpretation, "u2", [4])],
    )  # fmt: skip


def _meaning(source: Source, samples: int, dtype: np.dtype[Any]) -> list[TiffField]:
    """Return the fields that say what samples are: colours, palette, alpha, no-data."""
    classes = source.look.classes if source.look else {}
    fields: list[TiffField] = []
    if classes and samples == 1 and dtype == np.uint8:
        photometric, colors = 3, 1
        table = np.zeros((3, 256), np.uint16)
        for value, (color, _) in classes.items():
            if 0 <= value < 256:
                table[:, int(value)] = np.array(parse_color(color)[:3]) * 257
        fields.append((Tag.ColorMap, "u2", table.ravel()))
    elif is_colour(source.bands):
        photometric, colors = 2, 3
    else:
        photometric, colors = 1, 1
    fields.append((Tag.PhotometricInterpretation, "u2", [photometric]))
    alpha = {None: [], "premultiplied": [1], "straight": [2]}[source.alpha]
    if samples > colors:
        fields.append((Tag.ExtraSamples, "u2", [0] * (samples - colors - len(alpha)) + alpha))
    nodata = single_nodata(source.bands)
    if isinstance(nodata, int | float):
        fields.append((Tag.NoData, "S", spoken_nodata(nodata)))
    return fields


def is_colour(bands: Sequence[Band]) -> bool:
    """Tell whether the bands are red, green and blue first, as TIFF's RGB wants them."""
    return [band.role for band in bands[:3]] == ["red", "green", "blue"]


def spoken_nodata(value: int | float) -> str:
    """Write a no-data value as tag 42113 has it.

    >>> spoken_nodata(-9999.0), spoken_nodata(float("nan"))
    ('-9999', 'nan')
    """
    whole = isinstance(value, float) and value.is_integer() and abs(value) < 2**53
    return str(int(value)) if whole else repr(value)


def _main_fields(source: Source) -> list[TiffField]:
    listed_fields: list[TiffField] = [(Tag.Software, "S", "Spectrane"), *geo_fields(source.grid)]
    history = [str(line) for line in source.metadata.get("provenance", ())]
    if source.metadata.get("display only"):
        history.insert(0, RESCALED)
    listed_fields += [(Tag.ImageDescription, "S", "\n".join(history))] if history else []
    described = xmp.packet(
        source.bands, source.look, source.nodata_when,
        coded=source.coded and not source.categories, given=source.metadata.get(GIVEN),
    )  # fmt: skip
    return listed_fields + ([(Tag.XMP, "B", described)] if described else [])


def _front(images: list[Image], big: bool) -> bytes:
    """Build header, directories, values and empty tables, and note where the tables are."""
    entry, link, start, inline = (20, 8, 16, 8) if big else (12, 4, 8, 4)
    count_size = 8 if big else 2
    lists = [image.fields(big) for image in images]
    offsets = [start]
    for fields in lists:
        offsets.append(_even(offsets[-1] + count_size + entry * len(fields) + link))
    place = offsets[-1]
    values: list[bytes] = []
    placed: dict[tuple[int, Tag], int] = {}
    for number, tag, data in _value_order(lists, inline):
        placed[number, tag] = place
        values.append(data + b"\0" * (_even(len(data)) - len(data)))
        place += len(values[-1])
    header = (
        struct.pack("<2sHHHQ", b"II", 43, 8, 0, start)
        if big
        else (struct.pack("<2sHL", b"II", 42, start))
    )
    parts = [header]
    for number, fields in enumerate(lists):
        following = offsets[number + 1] if number + 1 < len(lists) else 0
        parts.append(_directory(fields, number, placed, big, following))
        parts.append(b"\0" * (offsets[number + 1] - offsets[number] - len(parts[-1])))
        for position, (tag, _, _) in enumerate(fields):
            inside = offsets[number] + count_size + entry * position + entry - inline
            images[number].places[tag] = placed.get((number, tag), inside)
    return b"".join(parts + values)


def _value_order(lists: list[list[TiffField]], inline: int) -> list[tuple[int, Tag, bytes]]:
    """Return values too long for their entry: small ones first, then tables, smallest first."""
    tables = (Tag.TileOffsets, Tag.TileByteCounts)
    found = [
        (number, tag, _bytes(code, values))
        for number, fields in enumerate(lists)
        for tag, code, values in fields
    ]
    longer = [item for item in found if len(item[2]) > inline]
    small = [item for item in longer if item[1] not in tables]
    large = [item for item in longer if item[1] in tables]
    return small + sorted(large, key=lambda item: len(lists) - item[0])


def _directory(
    fields: list[TiffField], number: int, placed: dict[tuple[int, Tag], int], big: bool,
    following: int,
) -> bytes:  # fmt: skip
    count, entry, room, link = ("<Q", "<HHQ", 8, "<Q") if big else ("<H", "<HHL", 4, "<L")
    parts = [struct.pack(count, len(fields))]
    for tag, code, values in fields:
        data = _bytes(code, values)
        size = 1 if code in ("S", "B") else np.dtype(code).itemsize
        parts.append(struct.pack(entry, tag, _FIELD_CODES[code], len(data) // size))
        if (number, tag) in placed:
            parts.append(struct.pack("<Q" if big else "<L", placed[number, tag]))
        else:
            parts.append(data.ljust(room, b"\0"))
    return b"".join([*parts, struct.pack(link, following)])


def _bytes(code: str, values: Any) -> bytes:
    if code == "S":
        return str(values).encode() + b"\0"
    if code == "B":
        return bytes(values)
    return np.asarray(values).astype(f"<{code}").tobytes()


def _even(length: int) -> int:
    return length + length % 2
