"""Corrections inside a TIFF: a new directory at the end, and then one pointer moved to it.

The pixels and the old directory stay where they are. Until the pointer at the start of the file
is written, the file is the old one; after it, the new one.
"""

from __future__ import annotations

import base64
import os
import struct
from typing import Any

import numpy as np

from spectrane.engine.files import open_bytes
from spectrane.formats.tiff import xmp
from spectrane.formats.tiff.georeference import geo_fields
from spectrane.formats.tiff.plan import spoken_nodata
from spectrane.formats.tiff.structure import Directory, Taken, read_directories
from spectrane.formats.tiff.tags import Tag
from spectrane.model.errors import FormatError
from spectrane.model.source import Source

_CODES = {"u1": 1, "S": 2, "u2": 3, "u4": 4, "f8": 12, "B": 1}
_GEO = (Tag.ModelPixelScale, Tag.ModelTiepoint, Tag.ModelTransformation, Tag.GeoKeyDirectory,
        Tag.GeoDoubleParams, Tag.GeoAsciiParams)  # fmt: skip
Entry = tuple[int, int, bytes]
"""Field type, count, value."""


def amend_tiff(path: str, changed: Source, table: dict[str, Any]) -> dict[str, Any]:
    """Write tag 42113, the XMP packet and the geo keys anew; return how to undo it."""
    file = open_bytes(path)
    directories = read_directories(file, Taken(file))
    main = directories[0]
    following = directories[1].offset if len(directories) > 1 else 0
    big = len(file.head()) > 2 and file.head()[2:4] in (b"+\0", b"\0+")
    size = file.size
    entries = {
        tag: (field.kind, field.count, file.read(field.offset, field.length))
        for tag, field in main.fields.items()
    }
    _change(entries, main, changed, table)
    file.close()
    start = size + size % 2
    added = b"\0" * (size % 2) + _packed(entries, main.order, big, following, start)
    if not big and start + len(added) > 2**32 - 2:
        raise FormatError(f"{path}: has no room below 4 GB; leave the correction in the sidecar")
    return _appended(path, size, added, main.order, big, _directory_place(start, entries, big))


def _change(
    entries: dict[int, Entry], main: Directory, changed: Source, table: dict[str, Any]
) -> None:
    order = main.order
    values = [band.nodata for band in changed.bands]
    if "nodata" in table or any("nodata" in band for band in table.get("bands", [])):
        entries.pop(Tag.NoData, None)
        first = values[0]
        if len({repr(v) for v in values}) == 1 and isinstance(first, int | float):
            entries[Tag.NoData] = _entry("S", spoken_nodata(first), order)
    if "grid" in table:
        for tag in _GEO:
            entries.pop(tag, None)
        entries.update({tag: _entry(code, v, order) for tag, code, v in geo_fields(changed.grid)})
    # Overviews were averaged under the old rule: they mix what is invalid now into the rest.
    stale = "nodata" in table
    packet = xmp.packet(
        changed.bands, changed.look, changed.nodata_when, notes=table.get("notes"),
        stale_overviews=stale, always=True,
    )  # fmt: skip
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


def _directory_place(start: int, entries: dict[int, Entry], big: bool) -> int:
    """Return where the directory begins: after the values that do not fit in it."""
    inline = 8 if big else 4
    longer = [raw for _, _, raw in entries.values() if len(raw) > inline]
    return start + sum(len(raw) + len(raw) % 2 for raw in longer)


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


def _appended(
    path: str, size: int, added: bytes, order: str, big: bool, directory: int
) -> dict[str, Any]:
    place, code = (8, "Q") if big else (4, "L")
    length = struct.calcsize(code)
    with open(path, "r+b") as file:
        file.seek(place)
        old = file.read(length)
        file.seek(size)
        file.write(added)
        file.flush()
        os.fsync(file.fileno())  # the new directory is on disk before anything points to it
        file.seek(place)
        file.write(struct.pack(order + code, directory))
        file.flush()
        os.fsync(file.fileno())
    return {
        "kind": "patch", "start": place, "old": base64.b64encode(old).decode(),
        "size_before": size, "size_after": size + len(added),
    }  # fmt: skip
