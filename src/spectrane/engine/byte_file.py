"""A file as bytes by range, wherever it lies."""

from __future__ import annotations

import io
from collections import OrderedDict
from collections.abc import Mapping, Sequence
from typing import Any

from spectrane.model.errors import AccessError, FormatError

HEAD = 128 << 10
"""Bytes fetched at opening."""
NEAR = 512
"""Ranges with a gap of at most so many bytes between them are fetched together."""
LONGEST = 8 << 20
"""Ranges are not joined beyond so many bytes, so that memory stays bounded."""

Range = tuple[int, int]
"""Offset and length in bytes."""


class NotAllowed(AccessError):
    """A file that is there, maybe, and is not shown to everybody."""


class ByteFile:
    """A file of known size that answers byte ranges; picklable, opened again when needed."""

    name: str
    """What the caller said, for messages and what is kept beside it."""
    size: int
    fetch_size: int = 1 << 20
    """About how many bytes a thread fetches at a time: little, where fetching is quick."""
    on_disk: bool = False
    """Whether libraries that want a path may open ``place``."""
    is_folder: bool = False
    options: Mapping[str, Any] | None = None
    """Those of the storage that an address names."""
    keeps_damaged: bool = False
    """Whether readers go on without what is damaged: it is invalid then, and told."""

    _head: bytes | None = None

    def fetch(self, ranges: Sequence[Range]) -> list[bytes]:
        """Return the bytes of ranges inside the file; a subclass says how."""
        raise NotImplementedError

    @property
    def place(self) -> str:
        """Where it is, also from another folder: the path in full, or the address."""
        return self.name

    @property
    def key(self) -> tuple[Any, ...]:
        """What tells this state of this file from any other."""
        raise NotImplementedError

    def lasting_key(self) -> tuple[Any, ...] | None:
        """Return the key for what outlasts this process; None where it cannot be told quickly."""
        return self.key

    def read(self, offset: int, length: int) -> bytes:
        """Return exactly ``length`` bytes; FormatError where the file ends before."""
        self.check_range(offset, length)
        return self._fetched([(offset, length)])[0]

    def head(self) -> bytes:
        """Return the first 128 kB, fetched once: a file is known, and often opened, by them."""
        if self._head is None:
            self._head = self.read(0, min(HEAD, self.size))
        return self._head

    def mapped(self) -> memoryview | None:
        """Return the whole file mapped into memory, or None where it cannot be."""
        return None

    def read_ranges(self, ranges: Sequence[Range]) -> list[memoryview]:
        """Return several ranges as views; neighbours are fetched together, and not copied."""
        for offset, length in ranges:
            self.check_range(offset, length)
        joined, places = _joined(ranges)
        views = [memoryview(piece) for piece in self._fetched(joined)]
        return [
            views[which][start : start + length]
            for (which, start), (_, length) in zip(places, ranges, strict=True)
        ]

    def _fetched(self, ranges: Sequence[Range]) -> list[bytes]:
        """Return ranges; those that the first request brought are not asked for again."""
        known = len(self._head or b"")
        asked = [(offset, length) for offset, length in ranges if offset + length > known]
        fetched = iter(self.fetch(asked) if asked else ())
        pieces = [next(fetched) if offset + length > known else
                  (self._head or b"")[offset : offset + length]
                  for offset, length in ranges]  # fmt: skip
        for (offset, length), piece in zip(ranges, pieces, strict=True):
            if len(piece) != length:
                raise AccessError(
                    f"{self.name}: asked for {length} bytes at {offset} and got {len(piece)}; "
                    "the file is being changed, or its server does not answer byte ranges"
                )
        return pieces

    def check_range(self, offset: int, length: int) -> None:
        """Raise FormatError where bytes lie outside the file."""
        if offset < 0 or length < 0 or offset + length > self.size:
            raise FormatError(
                f"{self.name}: {length} bytes at {offset} lie past the end of the file "
                f"({self.size} bytes); the file may be cut short"
            )

    def close(self) -> None:
        """Let go of the file."""


def _joined(ranges: Sequence[Range]) -> tuple[list[Range], list[tuple[int, int]]]:
    order = sorted(range(len(ranges)), key=lambda index: ranges[index])
    joined: list[Range] = []
    places: list[tuple[int, int]] = [(0, 0)] * len(ranges)
    for index in order:
        offset, length = ranges[index]
        if joined:
            start, held = joined[-1]
            gap = offset - (start + held)
            if gap <= NEAR and offset + length - start <= max(LONGEST, held):
                joined[-1] = (start, max(held, offset + length - start))
                places[index] = (len(joined) - 1, offset - start)
                continue
        joined.append((offset, length))
        places[index] = (len(joined) - 1, 0)
    return joined, places


class Seekable(io.RawIOBase):
    """A ``ByteFile`` as Python's files are, for libraries that read one; blocks are kept.

    >>> class Few(ByteFile):
    ...     name, size = "few", 5
    ...     def fetch(self, ranges):
    ...         return [b"01234"[offset : offset + length] for offset, length in ranges]
    >>> file = Seekable(Few())
    >>> file.seek(2), file.read(2)
    (2, b'23')
    """

    _BLOCK, _KEPT = 256 << 10, 64

    def __init__(self, file: ByteFile) -> None:
        super().__init__()
        self._file, self._at = file, 0
        self._blocks: OrderedDict[int, bytes] = OrderedDict()

    def readable(self) -> bool:
        """Tell that it can be read."""
        return True

    def seekable(self) -> bool:
        """Tell that any place of it can be read."""
        return True

    def seek(self, offset: int, whence: int = io.SEEK_SET) -> int:
        """Go to a place, and return it."""
        start = {io.SEEK_SET: 0, io.SEEK_CUR: self._at, io.SEEK_END: self._file.size}[whence]
        self._at = max(0, start + offset)
        return self._at

    def tell(self) -> int:
        """Return the place."""
        return self._at

    def readinto(self, buffer: Any) -> int:
        """Fill a buffer from the place on; return how many bytes there were."""
        number, skipped = divmod(self._at, self._BLOCK)
        part = self._block(number)[skipped : skipped + len(buffer)]
        buffer[: len(part)] = part
        self._at += len(part)
        return len(part)

    def _block(self, number: int) -> bytes:
        if number not in self._blocks:
            offset = number * self._BLOCK
            length = max(0, min(self._BLOCK, self._file.size - offset))
            self._blocks[number] = self._file.read(offset, length) if length else b""
            if len(self._blocks) > self._KEPT:
                self._blocks.popitem(last=False)
        self._blocks.move_to_end(number)
        return self._blocks[number]
