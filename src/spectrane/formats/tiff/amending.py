"""Corrections inside a TIFF: a new directory at the end, and then one pointer moved to it.

The pixels and the old directory stay where they are. Until the pointer at the start of the file
is written, the file is the old one; after it, the new one.
"""

from __future__ import annotations

import base64
import os
import shutil
import struct
import tempfile
from typing import Any

import numpy as np

from spectrane.engine.byte_file import ByteFile
from spectrane.engine.files import open_bytes
from spectrane.formats.tiff import tags, xmp
from spectrane.formats.tiff.georeference import geo_fields
from spectrane.formats.tiff.overviews import Overviews, overviews_under
from spectrane.formats.tiff.plan import Image, spoken_nodata
from spectrane.formats.tiff.reader import kind_bits
from spectrane.formats.tiff.structure import Directory, Taken, read_directories
from spectrane.formats.tiff.tags import Tag
from spectrane.formats.undoing import noted
from spectrane.formats.validity import single_nodata
from spectrane.kernels.records import record
from spectrane.model.errors import FormatError
from spectrane.model.said import GIVEN, date_of
from spectrane.model.source import Source

_CODES = {"u1": 1, "S": 2, "u2": 3, "u4": 4, "f8": 12, "u8": 16, "B": 1}
_GEO = (Tag.ModelPixelScale, Tag.ModelTiepoint, Tag.ModelTransformation, Tag.GeoKeyDirectory,
        Tag.GeoDoubleParams, Tag.GeoAsciiParams)  # fmt: skip
Entry = tuple[int, int, bytes]
"""Field type, count, value."""


def amend_tiff(path: str, changed: Source, table: dict[str, Any]) -> dict[str, Any]:
    """Write tag 42113, the XMP packet and the geo keys anew; return how to undo it.

    Under another no-data rule the overviews are made anew, where it reaches any pixel.
    """
    file = open_bytes(path)
    try:
        directories = read_directories(file, Taken(file))
        main, size = directories[0], file.size
        entries = _entries(file, main)
        following = directories[1].offset if len(directories) > 1 else 0
        with tempfile.TemporaryFile(dir=os.path.dirname(path) or ".") as tail:
            overviews = Overviews(stay=True)
            if _speaks_of_nodata(table) or "overviews" in table:
                asked = "overviews" in table
                overviews = overviews_under(changed, file, main, tail, asked=asked)
                if asked and overviews.stale:
                    raise FormatError(f"{path}: its samples lie in a way that no overviews are "
                                      "made of inside; export it as another TIFF")  # fmt: skip
            _change(entries, main, changed, table, overviews.stale)
            chain = [entries]
            if not (overviews.stay or overviews.stale):
                entries.pop(Tag.SubIFDs, None)
                family, following = _rest_of_family(directories)
                base = size + size % 2
                new = [
                    _entries_of(image, main.order, _is_big(file), base)
                    for image in overviews.images
                ]
                chain += [*(_entries(file, one) for one in family), *new]
            return _appended(path, size, tail, _Chain(chain, main.order, _is_big(file), following))
    finally:
        file.close()


def _speaks_of_nodata(table: dict[str, Any]) -> bool:
    return "nodata" in table or any("nodata" in band for band in table.get("bands", []))


def _is_big(file: ByteFile) -> bool:
    return file.head()[2:4] in (b"+\0", b"\0+")


def _entries(file: ByteFile, directory: Directory) -> dict[int, Entry]:
    return {tag: (field.kind, field.count, file.read(field.offset, field.length))
            for tag, field in directory.fields.items()}  # fmt: skip


def _entries_of(image: Image, order: str, big: bool, base: int) -> dict[int, Entry]:
    """Return the entries of a new image, whose tiles will lie from ``base`` on."""
    image.offsets += np.uint64(base)
    return {tag: _entry(code, values, order) for tag, code, values in image.fields(big)}


def _rest_of_family(directories: list[Directory]) -> tuple[list[Directory], int]:
    """Return the masks of the first image's full size, and where the next image's directory is."""
    kept: list[Directory] = []
    for directory in directories[1:]:
        bits = kind_bits(directory)
        if not bits & (tags.REDUCED | tags.MASK):
            return kept, directory.offset
        if not bits & tags.REDUCED:
            kept.append(directory)
    return kept, 0


def _change(
    entries: dict[int, Entry], main: Directory, changed: Source, table: dict[str, Any], stale: bool
) -> None:
    order = main.order
    if _speaks_of_nodata(table):
        entries.pop(Tag.NoData, None)
        value = single_nodata(changed.bands)
        if isinstance(value, int | float):
            entries[Tag.NoData] = _entry("S", spoken_nodata(value), order)
    if "grid" in table:
        for tag in _GEO:
            entries.pop(tag, None)
        entries.update({tag: _entry(code, v, order) for tag, code, v in geo_fields(changed.grid)})
    packet = xmp.packet(
        changed.bands, changed.look, changed.nodata_when, notes=changed.metadata.get("notes"),
        stale_overviews=stale, always=True, coded=changed.coded,
        given=changed.metadata.get(GIVEN),
    )  # fmt: skip
    date = date_of(changed.metadata) if "metadata" in table else None
    if date is not None:
        entries[Tag.DateTime] = _entry("S", date.strftime("%Y:%m:%d %H:%M:%S"), order)
    before = main.raw(Tag.XMP) if Tag.XMP in main else b""
    entries[Tag.XMP] = _entry("B", xmp.merged(before, packet), order)


def _entry(code: str, values: Any, order: str) -> Entry:
    if code == "S":
        raw = str(values).encode() + b"\0"
    elif code == "B":
        raw = bytes(values)
    else:
        raw = np.asarray(values).astype(f"{order}{code}").tobytes()
    size = 1 if code in "SB" else np.dtype(code).itemsize
    return _CODES[code], len(raw) // size, raw


@record(frozen=True)
class _Chain:
    """Directories one after another, as they are written; the last points to ``following``."""

    entries: list[dict[int, Entry]]
    order: str
    big: bool
    following: int

    def packed(self, start: int) -> tuple[bytes, int]:
        """Return values and directories as they will lie from ``start``, and where the first is."""
        inline = 8 if self.big else 4
        places, place = [], start
        for entry in self.entries:
            longer = (raw for _, _, raw in entry.values() if len(raw) > inline)
            places.append(place + sum(len(raw) + len(raw) % 2 for raw in longer))
            place = places[-1] + (16 + 20 * len(entry) if self.big else 6 + 12 * len(entry))
        parts, place = [], start
        for entry, following in zip(self.entries, [*places[1:], self.following], strict=True):
            parts.append(_packed(entry, self.order, self.big, following, place))
            place += len(parts[-1])
        return b"".join(parts), places[0]


def _packed(entries: dict[int, Entry], order: str, big: bool, following: int, start: int) -> bytes:
    """Return values and then the directory, as they will lie from ``start``."""
    count, entry, room, link = ("Q", "HHQ", 8, "Q") if big else ("H", "HHL", 4, "L")
    values, lines, place = [], [], start
    for tag, (kind, length, raw) in sorted(entries.items()):
        if len(raw) > room:
            values.append(raw + b"\0" * (len(raw) % 2))
            inside = struct.pack(order + link, place)
            place += len(values[-1])
        else:
            inside = raw.ljust(room, b"\0")
        lines.append(struct.pack(order + entry, tag, kind, length) + inside)
    head = struct.pack(order + count, len(lines))
    return b"".join([*values, head, *lines, struct.pack(order + link, following)])


def _appended(path: str, size: int, tail: Any, chain: _Chain) -> dict[str, Any]:
    """Append tiles and directories, and point to them; until then the file is the old one."""
    place, code = (8, "Q") if chain.big else (4, "L")
    base = size + size % 2
    tiles = tail.seek(0, os.SEEK_END)
    start = base + tiles + tiles % 2
    added, directory = chain.packed(start)
    if not chain.big and start + len(added) > 2**32 - 2:
        raise FormatError(f"{path}: has no room below 4 GB; leave the correction in the sidecar")
    with open(path, "r+b") as file:
        file.seek(place)
        old = file.read(struct.calcsize(code))
        try:
            file.seek(base)
            tail.seek(0)
            shutil.copyfileobj(tail, file, 8 << 20)
            file.seek(start)
            file.write(added)
            file.flush()
            os.fsync(file.fileno())  # the new directory is on disk before anything points to it
            step = {
                "kind": "patch", "start": place, "old": base64.b64encode(old).decode(),
                "size_before": size, "size_after": start + len(added),
            }  # fmt: skip
            noted(step)
        except BaseException:
            file.truncate(size)
            raise
        file.seek(place)
        file.write(struct.pack(chain.order + code, directory))
        file.flush()
        os.fsync(file.fileno())
    return step
