"""Gzip files (RFC 1952) and bare deflate (RFC 1951) read anywhere, without inflating all twice.

While a file is inflated for the first time, the inflater's state is kept every few megabytes, in
memory; a later read goes on from the nearest one before it.
"""

from __future__ import annotations

import threading
import zlib
from collections.abc import Sequence
from typing import Any

from spectrane.engine.byte_file import ByteFile, Range
from spectrane.model.errors import FormatError

MAGIC = b"\x1f\x8b\x08"
GREATEST_RATIO = 1100
"""DEFLATE packs no more bytes than so many into one (1032 is what its codes allow)."""
_APART = 1 << 20
"""Inflated bytes between two restart points."""
_MOST_POINTS = 2048
_PIECE = 256 << 10
_LARGEST = 1 << 40


def inflated(data: bytes | memoryview, most: int, window_bits: int = 15) -> bytes:
    """Return up to ``most`` bytes of a packed stream, whose checksum must agree where it has one.

    ``window_bits`` are zlib's. Streams that go on, or end without their checksum, still hold what
    is wanted. Raises zlib.error for damage.

    >>> inflated(zlib.compress(b"abcdef"), 3)
    b'abc'
    """
    inflater = zlib.decompressobj(window_bits)
    data_out = inflater.decompress(data, most)
    while not inflater.eof and inflater.unconsumed_tail:
        inflater.decompress(inflater.unconsumed_tail, 1 << 20)  # up to its checksum
    return data_out


def begun(data: bytes, most: int) -> bytes:
    """Return the first bytes of what a gzip file holds, of which only the beginning is there.

    Its first members may be tiny. Raises zlib.error for what is none.

    >>> import gzip
    >>> begun(gzip.compress(b"a") + gzip.compress(b"bcd"), 3)
    b'abc'
    """
    found = b""
    while len(found) < most and data[:2] == MAGIC[:2]:
        inflater = zlib.decompressobj(31)
        found += inflater.decompress(data, most - len(found))
        data = inflater.unused_data.lstrip(b"\0")
    return found


class _Point:
    """The state of the inflater: where it stands in both files."""

    __slots__ = ("done", "inflater", "read")

    def __init__(self, done: int, read: int, inflater: Any) -> None:
        self.done, self.read, self.inflater = done, read, inflater


class InflatedFile(ByteFile):
    r"""What a gzip file holds, as a file of its own. Its size is known after one pass.

    >>> import gzip
    >>> from spectrane.engine.files import HeldFile
    >>> inside = InflatedFile(HeldFile("a.gz", gzip.compress(bytes(range(200)))))
    >>> inside.read(150, 2), inside.size
    (b'\x96\x97', 200)
    """

    def __init__(self, packed: ByteFile, *, start: int = 0, window_bits: int = 31) -> None:
        """Read from byte ``start``; ``window_bits`` are zlib's: 31 gzip, -15 deflate alone."""
        self.packed, self.name = packed, packed.name
        self.keeps_damaged = packed.keeps_damaged
        self._first_byte, self._window_bits = start, window_bits
        self._lock = threading.Lock()
        self._start()

    def _start(self) -> None:
        self._points = [_Point(0, self._first_byte, zlib.decompressobj(self._window_bits))]
        self._apart = _APART
        self._size: int | None = None
        self._first: bytes | None = None

    @property
    def key(self) -> tuple[Any, ...]:
        """That of the packed file."""
        return ("inflated", *self.packed.key)

    @property
    def size(self) -> int:  # type: ignore[override]
        """Bytes inside; found by inflating to the end once."""
        if self._size is None:
            with self._lock:
                self._take(_LARGEST, _LARGEST)
        assert self._size is not None
        return self._size

    def head(self) -> bytes:
        """Return the first bytes, without inflating the rest."""
        if self._first is None:
            with self._lock:
                self._first = self._take(0, 4096)
        return self._first

    def check_range(self, offset: int, length: int) -> None:
        """Raise FormatError for what no file can hold."""
        # Its size is not known beforehand: what is missing shows when it is read.
        if offset < 0 or length < 0 or offset + length > _LARGEST:
            raise FormatError(f"{self.name}: {length} bytes at {offset} make no sense")

    @property
    def marks(self) -> int:
        """How many places are kept from which inflating can go on."""
        return len(self._points)

    def fetch(self, ranges: Sequence[Range]) -> list[bytes]:
        """Return the bytes of ranges inside the file."""
        pieces = []
        with self._lock:
            for offset, length in ranges:
                data = self._take(offset, length)
                if len(data) < length:
                    raise FormatError(
                        f"{self.name}: {length} bytes at {offset} lie past the end of what it "
                        f"holds ({self._size} bytes); the file may be cut short"
                    )
                pieces.append(data)
        return pieces

    def _take(self, offset: int, length: int) -> bytes:
        """Inflate up to the end of a range, from the nearest state before it."""
        point = max(
            (point for point in self._points if point.done <= offset), key=lambda one: one.done
        )
        inflater, done, read = point.inflater.copy(), point.done, point.read
        parts: list[bytes] = []
        end = offset + length
        while done < end:
            waiting = inflater.unconsumed_tail
            if not waiting:
                waiting = self.packed.read(read, min(_PIECE, self.packed.size - read))
                read += len(waiting)
            try:
                data = inflater.decompress(waiting, min(_PIECE * 4, max(1, end - done)))
            except zlib.error as error:
                raise FormatError(f"{self.name}: broken packed data near byte {read}: {error}"
                                  ) from error  # fmt: skip
            begin = max(0, offset - done)
            parts.append(data[begin : begin + length - sum(map(len, parts))])
            done += len(data)
            if inflater.eof:
                following = self._next_member(inflater, read)
                if following is None:
                    self._size = done
                    break
                inflater, read = following
            elif not data and not inflater.unconsumed_tail and read >= self.packed.size:
                raise FormatError(
                    f"{self.name}: packed data end after {done} bytes inside, before their end "
                    "mark; the file is cut short"
                )
            self._keep(inflater, done, read)
        return b"".join(parts)

    def _next_member(self, inflater: Any, read: int) -> tuple[Any, int] | None:
        """Return the inflater of the member that follows, if one does (zeros are padding)."""
        rest = inflater.unused_data
        place = read - len(rest)
        packed = self._window_bits == 31 and self.packed.size - place >= 18
        if not packed or self.packed.read(place, 2) != MAGIC[:2]:
            return None
        return zlib.decompressobj(31), place

    def _keep(self, inflater: Any, done: int, read: int) -> None:
        if done < self._points[-1].done + self._apart or inflater.unconsumed_tail:
            return
        self._points.append(_Point(done, read, inflater.copy()))
        if len(self._points) > _MOST_POINTS:  # every other one, twice as far apart from now on
            self._points = self._points[::2]
            self._apart *= 2

    def close(self) -> None:
        """Let go of the file and of the states."""
        self.packed.close()

    def __getstate__(self) -> dict[str, Any]:
        kept = ("packed", "name", "_first_byte", "_window_bits")
        return {name: self.__dict__[name] for name in kept}

    def __setstate__(self, state: dict[str, Any]) -> None:
        self.__dict__.update(state)
        self._lock = threading.Lock()
        self._start()
