"""The bones of a TIFF file: header, directories, fields. Nothing here knows of images."""

from __future__ import annotations

import struct
from collections.abc import Iterator, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.engine.byte_file import ByteFile, Range
from spectrane.engine.files import LocalFile
from spectrane.formats.tiff import tags
from spectrane.formats.tiff.tags import Tag
from spectrane.kernels.records import record
from spectrane.model.errors import FormatError

_MOST_FIELD = 256 << 20
"""A single field's value larger than this is refused."""


class TiffHead:
    """The beginning of a file, held; what lies elsewhere is fetched when asked for."""

    def __init__(self, file: ByteFile) -> None:
        self.file = file
        self._held = file.head()

    def forget(self) -> None:
        """Hold nothing more of a local file: hundreds may be open, and each is near."""
        if isinstance(self.file, LocalFile):
            self._held = b""

    def read(self, offset: int, length: int) -> bytes:
        """Return bytes, from what is held where it covers them."""
        return bytes(self.read_ranges([(offset, length)])[0])

    def read_ranges(self, ranges: Sequence[Range]) -> list[bytes | memoryview]:
        """Return several ranges; what is not held is fetched together."""
        missing = [r for r in ranges if r[0] < 0 or r[0] + r[1] > len(self._held)]
        fetched = dict(zip(missing, self.file.read_ranges(missing), strict=True))
        return [fetched[r] if r in fetched else self._held[r[0] : r[0] + r[1]] for r in ranges]


@record(frozen=True)
class Field:
    """One entry of a directory: where its value lies, not yet read."""

    kind: int
    count: int
    offset: int

    @property
    def length(self) -> int:
        """Bytes of the value."""
        return self.count * tags.FIELD_TYPES[self.kind][1]


class Directory:
    """One image file directory (IFD), its values read when asked for."""

    def __init__(
        self, head: TiffHead, order: str, offset: int, fields: dict[int, Field], end: int
    ) -> None:
        self.head, self.order, self.offset, self.fields, self.end = head, order, offset, fields, end

    def __contains__(self, tag: int) -> bool:
        return tag in self.fields

    def fail(self, tag: int, problem: str) -> FormatError:
        """Return the error for a field of this directory."""
        name = Tag(tag).name if tag in Tag._value2member_map_ else "private"
        return FormatError(
            f"{self.head.file.name}: tag {tag} ({name}) in the directory at byte "
            f"{self.offset}: {problem}"
        )

    def raw(self, tag: int) -> bytes:
        """Return a field's bytes."""
        field = self.fields[tag]
        if field.length > _MOST_FIELD:
            raise self.fail(tag, f"claims a value of {field.length} bytes")
        return self.head.read(field.offset, field.length)

    def numbers(
        self, tag: int, most: int | None = None, given: bytes | memoryview | None = None
    ) -> NDArray[Any]:
        """Return a field's numbers (at most ``most``) in native order; rationals as floats.

        ``given`` are the field's bytes where they have been read already.
        """
        field = self.fields[tag]
        if field.kind in tags.TEXTS:
            raise self.fail(tag, "expected numbers, found text")
        count = field.count if most is None else min(field.count, most)
        code, size = tags.FIELD_TYPES[field.kind]
        if count * size > _MOST_FIELD:
            raise self.fail(tag, f"claims {count} values")
        raw = self.head.read(field.offset, count * size) if given is None else given
        array = np.frombuffer(raw, self.order + code)
        if field.kind in tags.RATIONALS:
            pairs = array.reshape(-1, 2).astype(np.float64)
            return pairs[:, 0] / np.where(pairs[:, 1] == 0, np.nan, pairs[:, 1])
        return array.astype(array.dtype.newbyteorder("="))

    def integer(self, tag: int, default: int | None = None) -> int:
        """Return a field's first number; FormatError where it is missing without a default."""
        if tag not in self.fields:
            if default is None:
                raise self.fail(tag, "missing, and needed")
            return default
        values = self.numbers(tag, most=1)
        if not values.size or values.dtype.kind not in "iu":
            raise self.fail(tag, "expected a whole number")
        return int(values[0])

    def text(self, tag: int) -> str | None:
        """Return a field as text without its trailing NULs and spaces, or None."""
        if tag not in self.fields or self.fields[tag].kind not in tags.TEXTS:
            return None
        return self.raw(tag).rstrip(b"\0 ").decode("utf-8", "replace")


class Taken:
    """Directories already read: none may be used twice, nor may they overlap."""

    def __init__(self, file: ByteFile) -> None:
        self.file = file
        self.offsets: set[int] = set()
        self.spent = 0

    def take(self, offset: int) -> None:
        """Note a directory's offset before it is read."""
        if offset in self.offsets:
            raise FormatError(f"{self.file.name}: the directories run in a loop at byte {offset}")
        self.offsets.add(offset)

    def spend(self, directory: Directory) -> None:
        """Note a directory's length: only overlapping ones add up to more than their file."""
        self.spent += directory.end - directory.offset
        if self.spent > self.file.size:
            raise FormatError(f"{self.file.name}: directories overlap at byte {directory.offset}")


def read_directories(file: ByteFile, taken: Taken) -> list[Directory]:
    """Return the directories of the main chain, in order. Raises FormatError on a broken one."""
    head = TiffHead(file)
    order, big = _byte_order(head)
    first = struct.unpack(order + ("8xQ" if big else "4xL"), head.read(0, 16 if big else 8))[0]
    if first == 0:
        raise FormatError(f"{file.name}: the TIFF header points to no directory")
    return list(_chain(head, order, big, first, taken))


def read_directories_at(parent: Directory, offsets: list[int], taken: Taken) -> list[Directory]:
    """Return the sub-directories at given offsets, each with its own chain."""
    order, big = _byte_order(parent.head)
    return [d for offset in offsets for d in _chain(parent.head, order, big, offset, taken)]


def _byte_order(head: TiffHead) -> tuple[str, bool]:
    name = head.file.name
    start = head.read(0, min(16, head.file.size))
    order = {b"II": "<", b"MM": ">"}.get(start[:2])
    if order is None or len(start) < 8:
        raise FormatError(f"{name}: not a TIFF header: {start[:8]!r}")
    version = struct.unpack(order + "H", start[2:4])[0]
    if version == 43:
        if len(start) < 16 or struct.unpack(order + "HH", start[4:8]) != (8, 0):
            raise FormatError(f"{name}: BigTIFF header without 8-byte offsets: {start!r}")
        return order, True
    if version != 42:
        raise FormatError(f"{name}: TIFF version {version}; expected 42, or 43 for BigTIFF")
    return order, False


def _chain(head: TiffHead, order: str, big: bool, offset: int, taken: Taken) -> Iterator[Directory]:
    while offset:
        taken.take(offset)
        directory, following = _directory(head, order, big, offset)
        taken.spend(directory)
        yield directory
        offset = following


def _directory(head: TiffHead, order: str, big: bool, offset: int) -> tuple[Directory, int]:
    count_code, entry_size, link_code = ("Q", 20, "Q") if big else ("H", 12, "L")
    count_size, link_size = (8, 8) if big else (2, 4)
    try:
        (count,) = struct.unpack(order + count_code, head.read(offset, count_size))
        if count > 65535:
            raise FormatError(
                f"{head.file.name}: directory at byte {offset} claims {count} entries"
            )
        body = head.read(offset + count_size, count * entry_size + link_size)
    except FormatError as error:
        raise FormatError(f"{head.file.name}: directory at byte {offset}: {error}") from error
    fields = dict(_fields(head, order, big, offset + count_size, body[: count * entry_size]))
    (following,) = struct.unpack(order + link_code, body[-link_size:])
    return Directory(head, order, offset, fields, offset + count_size + len(body)), following


def _fields(
    head: TiffHead, order: str, big: bool, start: int, entries: bytes
) -> Iterator[tuple[int, Field]]:
    layout, inline, place = ("HHQQ", 8, 12) if big else ("HHLL", 4, 8)
    size = struct.calcsize(order + layout)
    for position, (tag, kind, count, value) in enumerate(
        struct.iter_unpack(order + layout, entries)
    ):
        if kind not in tags.FIELD_TYPES:
            continue  # TIFF 6.0: readers skip fields of unexpected types
        length = count * tags.FIELD_TYPES[kind][1]
        offset = start + position * size + place if length <= inline else value
        yield tag, Field(kind, count, offset)
