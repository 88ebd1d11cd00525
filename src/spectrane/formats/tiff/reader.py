"""Opening a TIFF file: which directories belong to one image, and what its samples mean."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np

from spectrane.engine.byte_file import ByteFile
from spectrane.formats.tiff import tags, xmp
from spectrane.formats.tiff.georeference import georeferenced_grid, named_keys, read_keys
from spectrane.formats.tiff.layout import TiffLayout, tiff_layout
from spectrane.formats.tiff.source import Resolution, TiffPlane, TiffSource
from spectrane.formats.tiff.structure import (
    Directory,
    Taken,
    read_directories,
    read_directories_at,
)
from spectrane.formats.tiff.tags import Tag
from spectrane.model.band import Band, numbered
from spectrane.model.errors import FormatError, SpectraneError
from spectrane.model.look import Class, Look
from spectrane.model.member import Member, find_member
from spectrane.model.nodata import NoDataRule, NoDataValue
from spectrane.model.said import with_given
from spectrane.model.telling import warn_caller

if TYPE_CHECKING:
    from spectrane.formats.table import Probe

_MOST_METADATA = 1 << 20
"""Values longer than this are not copied into ``metadata``."""


class TiffReader:
    """TIFF and BigTIFF; every full-resolution image is a member."""

    def matches(self, probe: Probe) -> bool:
        """Tell whether the first bytes are a TIFF header."""
        return probe.head[:4] in (b"II*\0", b"MM\0*", b"II+\0", b"MM\0+")

    def members(self, file: ByteFile) -> list[Member]:
        """List the full-resolution images; one that cannot be read is told by its reason."""
        _, images = _pages(file, Taken(file))
        listed = []
        for number, directory in enumerate(images, 1):
            texts = (directory.text(tag) for tag in (Tag.PageName, Tag.DocumentName,
                                                     Tag.ImageDescription))  # fmt: skip
            name = next((text for text in texts if text and text.strip()), "")
            layout = tiff_layout(directory)
            bands = layout.samples - len(_alphas(directory, layout))
            kind = layout.dtype.newbyteorder("=").name
            line = name.splitlines()[0][:60] if name.strip() else ""
            listed.append(Member(number, line, layout.rows, layout.columns, bands, kind))
        return listed

    def open(self, file: ByteFile, member: int | str | None = None) -> TiffSource:
        """Open a file; ``member`` counts its full-resolution images from 1."""
        if isinstance(member, str) and not member.isdecimal():
            member = find_member(self.members(file), member, file.name).number
        return open_tiff(file, int(member or 1))


def _pages(file: ByteFile, taken: Taken) -> tuple[list[Directory], list[Directory]]:
    """Return all directories, and those of full-resolution images."""
    directories = read_directories(file, taken)
    images = [d for d in directories if not kind_bits(d) & (tags.REDUCED | tags.MASK)]
    return directories, images or directories[:1]


def open_tiff(file: ByteFile, member: int = 1) -> TiffSource:
    """Open one image of a TIFF file. Raises FormatError on what is broken or unsupported."""
    taken = Taken(file)
    directories, images = _pages(file, taken)
    if not 1 <= member <= len(images):
        raise FormatError(f"{file.name}: no image {member}; it holds {len(images)}")
    source = TiffSource(file, open_tiff)
    source.member, source.members = member, len(images)
    main = images[member - 1]
    _set_samples(source, main)
    _set_levels(source, main, _family(directories, main, taken))
    said = tiff_metadata(main) | ({"notes": source.notes} if source.notes else {})
    source.metadata = with_given(said, source.given)
    orientation = main.integer(Tag.Orientation, 1)
    source.orientation = orientation if 1 <= orientation <= 8 else 1
    main.head.forget()
    return source


def kind_bits(directory: Directory) -> int:
    """Return NewSubfileType's bits, or what the older SubfileType says in them."""
    if Tag.NewSubfileType in directory:
        return directory.integer(Tag.NewSubfileType)
    return tags.REDUCED if directory.integer(Tag.SubfileType, 1) == 2 else 0


def _family(directories: list[Directory], main: Directory, taken: Taken) -> list[Directory]:
    """Return the reduced images and masks of a main image, in the chain and in its SubIFDs."""
    place = directories.index(main)
    following = directories[place + 1 :]
    ends = (k for k, d in enumerate(following) if not kind_bits(d) & (tags.REDUCED | tags.MASK))
    family = following[: next(ends, len(following))]
    if Tag.SubIFDs in main:
        offsets = [int(o) for o in main.numbers(Tag.SubIFDs, most=4096).tolist() if o]
        family = read_directories_at(main, offsets, taken) + family
    return family


def _set_samples(source: TiffSource, main: Directory) -> None:
    layout = tiff_layout(main)
    alphas = _alphas(main, layout)
    source.alpha_sample = alphas[0][0] if alphas else None
    if alphas:
        source.alpha = "premultiplied" if alphas[0][1] == 1 else "straight"
    source.band_samples = [k for k in range(layout.samples) if k != source.alpha_sample]
    source.dtype = layout.dtype.newbyteorder("=")
    source.block_shape = layout.block
    source.grid = georeferenced_grid(main, (layout.rows, layout.columns))
    nodata = _nodata(main, layout)
    bands = tuple(replace(band, nodata=nodata) for band in _named(main, len(source.band_samples)))
    words = xmp.described(_xmp(main), bands, source.name)
    source.bands, source.nodata_when = words.bands, words.nodata_when
    source.notes, source.stale_overviews = words.notes, words.stale_overviews
    source.given = words.given
    source.coded = words.coded
    classes = words.classes or _palette_classes(main, layout)
    source.look = words.look
    if source.look is None and classes and len(source.bands) == 1:
        source.look = Look(classes=classes)
    if source.look is None:
        source.look = _grey_look(main, layout)


def _alphas(main: Directory, layout: TiffLayout) -> list[tuple[int, int]]:
    """Return (sample, kind) of the first alpha among the extra samples, if there is one."""
    extra = main.numbers(Tag.ExtraSamples, most=64).tolist() if Tag.ExtraSamples in main else []
    first = layout.samples - len(extra)
    alphas = [(first + k, kind) for k, kind in enumerate(extra) if kind in (1, 2) and first + k > 0]
    return alphas[:1]


def _grey_look(main: Directory, layout: TiffLayout) -> Look | None:
    """Return how greys of fewer bits than their type, or with white as zero, are meant."""
    inverted = main.integer(Tag.PhotometricInterpretation, 1) == 0
    limits = (0, (1 << layout.bits) - 1) if layout.packed else "auto"
    return Look(limits=limits, invert=inverted) if inverted or layout.packed else None


def _xmp(main: Directory) -> bytes:
    return main.raw(Tag.XMP) if Tag.XMP in main and main.fields[Tag.XMP].kind in (1, 2, 7) else b""


def _named(main: Directory, count: int) -> tuple[Band, ...]:
    """Name bands by what the photometric interpretation says they are."""
    photometric = main.integer(Tag.PhotometricInterpretation, 1)
    in_colour = main.integer(Tag.Compression, 1) in tags.PICTURES  # YCbCr is converted to RGB
    colour = ("red", "green", "blue")
    names = {
        2: colour, 5: ("cyan", "magenta", "yellow", "black"),
        6: colour if in_colour else ("Y", "Cb", "Cr"), 8: ("L*", "a*", "b*"),
    }.get(photometric, ())  # fmt: skip
    bands = list(numbered(count))
    for index, name in enumerate(names[:count]):
        bands[index] = Band(name, role=name if names[0] == "red" else None)
    return tuple(bands)


def _nodata(main: Directory, layout: TiffLayout) -> NoDataValue:
    """Read tag 42113: a number as text, with NULs or spaces around it."""
    if Tag.NoData not in main:
        return None
    text = (main.text(Tag.NoData) or "").replace("\0", " ").strip()
    if not text:
        return None
    try:
        value: int | float = int(text)
    except ValueError:
        try:
            value = float(text.replace(",", "."))
        except ValueError:
            _warn(main, f"no-data {text[:40]!r} is not a number and was left out")
            return None
    nothing = not NoDataRule((value,)).matching(layout.dtype.newbyteorder("="))
    if nothing and value == value:
        _warn(main, f"no-data {text} cannot occur in {layout.dtype.name} data, so no pixel is "
              "left out; say which value is meant")  # fmt: skip
    return value


def _palette_classes(main: Directory, layout: TiffLayout) -> dict[float, Class]:
    """Return the colours of a palette as classes, one per index."""
    if main.integer(Tag.PhotometricInterpretation, 1) != 3 or Tag.ColorMap not in main:
        return {}
    count = 1 << min(layout.bits, 16)
    values = main.numbers(Tag.ColorMap, most=3 * count)
    if values.dtype.kind not in "iu" or len(values) != 3 * count:
        raise main.fail(Tag.ColorMap, f"has {len(values)} numbers; expected {3 * count}")
    wide = values.reshape(3, count).astype(np.int64)
    # 65535 is full (TIFF 6.0, section 5), and yet many write 8-bit colours times 256.
    shifted = bool((wide % 256 == 0).all()) and int(wide.max()) < 65535
    red, green, blue = (wide // 256 if shifted else (wide * 255 + 32767) // 65535).tolist()
    return {float(k): (f"#{r:02x}{g:02x}{b:02x}", "")
            for k, (r, g, b) in enumerate(zip(red, green, blue, strict=True))}  # fmt: skip


def _set_levels(source: TiffSource, main: Directory, family: list[Directory]) -> None:
    layout = tiff_layout(main)
    fill = _fill(source.bands[0].nodata, source.dtype) if source.bands else 0
    masks = {}
    reduced = [layout]
    for directory in family:
        if source.stale_overviews and not kind_bits(directory) & tags.MASK:
            continue
        try:
            found = tiff_layout(directory)
        except SpectraneError as error:
            _warn(main, f"a reduced image or mask cannot be used: {error}")
            continue
        if kind_bits(directory) & tags.MASK and found.samples == 1:
            masks[(found.rows, found.columns)] = TiffPlane(found, 0)
        elif kind_bits(directory) & tags.REDUCED and _is_overview(found, layout):
            reduced.append(found)
    reduced.sort(key=lambda one: -one.rows * one.columns)
    full = (layout.rows, layout.columns)
    masked = full in masks
    source.has_mask = masked or source.file.keeps_damaged
    for one in reduced:
        shape = (one.rows, one.columns)
        if masked and shape not in masks:
            continue  # an overview without its mask would show what is hidden
        mask = masks[shape] if masked else None
        source.levels.append(Resolution(source, TiffPlane(one, fill), mask, full))
    source.overviews = tuple(level.shape for level in source.levels[1:])


def _is_overview(layout: TiffLayout, main: TiffLayout) -> bool:
    same = (layout.samples, layout.dtype, layout.bits) == (main.samples, main.dtype, main.bits)
    return (
        same
        and layout.rows <= main.rows
        and layout.columns <= main.columns
        and (layout.rows * layout.columns < main.rows * main.columns)
    )


def _fill(nodata: Any, dtype: np.dtype[Any]) -> int | float:
    """Return the number that stands in a block the file does not hold."""
    values = [nodata] if isinstance(nodata, int | float) else []
    held = NoDataRule(tuple(values)).matching(dtype)
    return held[0].item() if held else 0


def tiff_metadata(directory: Directory) -> dict[str, Any]:
    """Return every field of a directory under a readable name, offsets and counts left out."""
    metadata: dict[str, Any] = {}
    for tag, field in sorted(directory.fields.items()):
        if tag in (Tag.TileOffsets, Tag.TileByteCounts, Tag.StripOffsets, Tag.StripByteCounts):
            continue
        name = Tag(tag).name if tag in Tag._value2member_map_ else f"tag {tag}"
        if field.length > _MOST_METADATA:
            metadata[name] = f"{field.length} bytes"
        elif tag == Tag.XMP:
            metadata[name] = directory.raw(tag).rstrip(b"\0").decode("utf-8", "replace")
        elif field.kind in tags.TEXTS:
            text = directory.raw(tag)
            metadata[name] = (
                text.rstrip(b"\0").decode("utf-8", "replace") if field.kind == 2 else text
            )
        else:
            values = directory.numbers(tag).tolist()
            metadata[name] = values[0] if len(values) == 1 else values
    if Tag.GeoKeyDirectory in directory:
        metadata["GeoKeys"] = named_keys(read_keys(directory))
    return metadata | _worded(directory)


def _worded(directory: Directory) -> dict[str, Any]:
    compression = directory.integer(Tag.Compression, 1)
    photometric = directory.integer(Tag.PhotometricInterpretation, 1)
    return {
        "compression": tags.COMPRESSION_NAMES.get(compression, str(compression)),
        "photometric": tags.PHOTOMETRIC_NAMES.get(photometric, str(photometric)),
    }


def _warn(directory: Directory, problem: str) -> None:
    warn_caller(f"{directory.head.file.name}: {problem}")
