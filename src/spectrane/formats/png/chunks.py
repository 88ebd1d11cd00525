"""The chunks of a PNG file: header, palette, transparency, text."""

from __future__ import annotations

import contextlib
import struct
import zlib
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

from spectrane.engine.byte_file import ByteFile
from spectrane.formats.exif import orientation_of
from spectrane.formats.png.encoding import SIGNATURE
from spectrane.model.errors import FormatError

_KINDS = {0: 1, 2: 3, 3: 1, 4: 2, 6: 4}
_DEPTHS = {0: (1, 2, 4, 8, 16), 2: (8, 16), 3: (1, 2, 4, 8), 4: (8, 16), 6: (8, 16)}
_LARGEST_TEXT = 4 << 20
_MOST_CHUNKS = 10000
SIDECAR_KEYWORD = "spectrane"
"""Text under this keyword is a sidecar kept inside the file."""


@dataclass
class PngHead:
    """What stands before the image data."""

    columns: int
    rows: int
    bits: int
    kind: int
    interlaced: bool
    palette: bytes = b""
    transparency: bytes = b""
    text: dict[str, str] = field(default_factory=dict)
    facts: dict[str, Any] = field(default_factory=dict)

    @property
    def channels(self) -> int:
        """Samples per pixel as stored: 1 for grey and palette indices."""
        return _KINDS[self.kind]


def chunk_places(file: ByteFile) -> Iterator[tuple[bytes, int, int]]:
    """Yield kind, offset and length of each chunk's data, in order."""
    place = len(SIGNATURE)
    for _ in range(_MOST_CHUNKS):
        if place + 8 > file.size:
            raise FormatError(f"{file.name}: ends at byte {file.size} without an IEND chunk")
        length, kind = struct.unpack(">L4s", file.read(place, 8))
        if place + 12 + length > file.size:
            if file.keeps_damaged and kind == b"IDAT":
                yield kind, place + 8, length  # whoever reads it is told
                return
            raise FormatError(
                f"{file.name}: the chunk {kind!r} at byte {place} claims {length} bytes, past the "
                f"end of the file ({file.size} bytes); it may be cut short"
            )
        yield kind, place + 8, length
        if kind == b"IEND":
            return
        place += 12 + length
    raise FormatError(f"{file.name}: more than {_MOST_CHUNKS} chunks")


def checked_chunk(file: ByteFile, kind: bytes, offset: int, length: int) -> bytes:
    """Return a chunk's data. Raises FormatError where its checksum does not agree."""
    data = file.read(offset, length + 4)
    (said,) = struct.unpack(">L", data[length:])
    if zlib.crc32(memoryview(data)[:length], zlib.crc32(kind)) != said:
        raise FormatError(
            f"{file.name}: the checksum of the chunk {kind!r} at byte {offset - 8} does not agree; "
            "the file is damaged there"
        )
    return data[:length]


def read_png_head(file: ByteFile) -> PngHead:
    """Read everything up to the image data. Raises FormatError on a broken header."""
    chunks = chunk_places(file)
    kind, offset, length = next(chunks)
    if kind != b"IHDR" or length != 13:
        raise FormatError(f"{file.name}: begins with {kind!r}; expected IHDR of 13 bytes")
    columns, rows, bits, colour, method, filtering, interlace = struct.unpack(
        ">LLBBBBB", file.read(offset, 13)
    )
    if bits not in _DEPTHS.get(colour, ()) or method or filtering or interlace > 1:
        raise FormatError(
            f"{file.name}: IHDR: {bits} bits of colour type {colour}, compression {method}, "
            f"filter {filtering}, interlace {interlace} is not PNG"
        )
    if not (0 < rows < 2**31 and 0 < columns < 2**31):
        raise FormatError(f"{file.name}: IHDR: claims {rows} x {columns} pixels")
    head = PngHead(columns, rows, bits, colour, bool(interlace))
    for kind, offset, length in chunks:
        if kind == b"IDAT":
            _take_what_follows(head, file, chunks)
            break
        if length <= _LARGEST_TEXT:
            _take(head, kind, lambda o=offset, n=length: file.read(o, n))
    if colour == 3 and not head.palette:
        raise FormatError(f"{file.name}: a palette image without a PLTE chunk")
    return head


def _take_what_follows(head: PngHead, file: ByteFile, chunks: Iterator[Any]) -> None:
    """Take text and Exif from behind the image data; of files elsewhere they are not fetched."""
    if "://" in file.name:
        return
    with contextlib.suppress(FormatError):  # what is cut off is told when the pixels are read
        for kind, offset, length in chunks:
            if kind != b"IDAT" and length <= _LARGEST_TEXT:
                _take(head, kind, lambda o=offset, n=length: file.read(o, n))


def _take(head: PngHead, kind: bytes, data: Any) -> None:
    if kind == b"PLTE":
        head.palette = data()
    elif kind == b"tRNS":
        head.transparency = data()
    elif kind in (b"tEXt", b"zTXt", b"iTXt"):
        found = _text(kind, data())
        if found is not None:
            head.text[found[0]] = found[1]
    elif kind == b"gAMA":
        head.facts["gamma"] = struct.unpack(">L", data()[:4])[0] / 100000
    elif kind == b"pHYs":
        x, y, unit = struct.unpack(">LLB", data()[:9])
        head.facts["pixels per metre" if unit == 1 else "pixel aspect"] = (x, y)
    elif kind == b"eXIf":
        head.facts["orientation"] = orientation_of(data())
    elif kind == b"sRGB":
        head.facts["colour space"] = "sRGB"


def _text(kind: bytes, data: bytes) -> tuple[str, str] | None:
    keyword, _, rest = data.partition(b"\0")
    name = keyword.decode("latin-1")
    if kind == b"tEXt":
        return name, rest.decode("latin-1")
    if kind == b"zTXt":
        raw = _inflated(rest[1:])
        return None if raw is None else (name, raw.decode("latin-1"))
    flag, _, rest = rest[:1], rest[1:2], rest[2:]
    _, _, rest = rest.partition(b"\0")
    _, _, body = rest.partition(b"\0")
    content = _inflated(body) if flag == b"\1" else body
    return None if content is None else (name, content.decode("utf-8", "replace"))


def _inflated(data: bytes) -> bytes | None:
    try:
        return zlib.decompressobj().decompress(data, _LARGEST_TEXT)
    except zlib.error:
        return None
