"""The image data of JPEG (ISO/IEC 10918-1), wherever they lie; what is damaged is told.

Data of 8 bits (baseline, extended, progressive, lossless) are decoded by a library that tells of
every fault it meets; of others at least the end must be there.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any

import numpy as np
from numpy.typing import NDArray

_SCAN_END = re.compile(rb"\xff[\x80-\xcf\xd8-\xfe]")
"""The marker after a scan: not a stuffed byte (JPEG-LS stuffs bits), a restart or fill."""
_TOLD = (0xC0, 0xC1, 0xC2, 0xC3)
_SPACES = {1: "GRAY", 3: "RGB", 4: "CMYK"}


def decode_jpeg(
    data: bytes, components: int, *, tables: bytes | None = None, transform: int | None = None
) -> NDArray[Any]:
    """Return (rows, columns, components) of a JPEG stream. Raises ValueError where it is damaged.

    ``tables`` is an abbreviated stream whose tables go before (TIFF Technical Note 2).
    ``transform`` says what the components are, whatever the stream says itself: 0 as they are to
    be handed out, 1 YCbCr, which becomes red, green and blue (T.872, 6.5.3); None believes it.
    """
    import imagecodecs
    import simplejpeg

    frame, bits = _frame(data)
    if bits == 8 and frame in _TOLD and components in _SPACES:
        whole = _with(data, tables, transform if components > 1 else None)
        return np.asarray(simplejpeg.decode_jpeg(whole, _SPACES[components], strict=True))
    check_complete(data)
    space = {1: "GRAYSCALE", 3: "YCBCR" if transform == 1 else "RGB", 4: "CMYK"}.get(components)
    out = "RGB" if transform == 1 else space
    decode: Any = imagecodecs.jpeg8_decode
    known = {} if transform is None else {"colorspace": space, "outcolorspace": out}
    try:
        pixels = np.asarray(decode(data, tables=tables, **known))
    except RuntimeError as error:
        raise ValueError(str(error)) from error
    return pixels.reshape(*pixels.shape[:2], -1)


def check_complete(data: bytes) -> None:
    """Raise ValueError where a stream ends before its end-of-image marker."""
    for marker, _, _ in _segments(data):
        if marker == 0xD9:
            return
    raise ValueError(f"ends after {len(data)} bytes, before its end-of-image marker")


def _segments(data: bytes) -> Iterator[tuple[int, int, int]]:
    """Yield marker, start and end of each segment after the first, scans included."""
    place = 2
    while place + 2 <= len(data):
        if data[place] != 0xFF:
            raise ValueError(f"expected a marker at byte {place}, found {data[place]:#04x}")
        marker = data[place + 1]
        if marker == 0xFF:
            place += 1
            continue
        if marker == 0xD9:
            yield marker, place, place + 2
            return
        if place + 4 > len(data):
            return
        end = place + 2 + int.from_bytes(data[place + 2 : place + 4], "big")
        if marker == 0xDA:
            match = _SCAN_END.search(data, end)
            if match is None:
                return
            end = match.start()
        yield marker, place, end
        place = end


def _frame(data: bytes) -> tuple[int, int]:
    """Return the marker of the frame header and the bits of a sample; zeros without one."""
    for marker, start, _ in _segments(data):
        if 0xC0 <= marker <= 0xCF and marker not in (0xC4, 0xC8, 0xCC) and start + 5 <= len(data):
            return marker, data[start + 4]
    return 0, 0


def _with(data: bytes, tables: bytes | None, transform: int | None) -> bytes:
    """Return one stream of tables and data that says what its components are."""
    if tables is None and transform is None:
        return data
    parts = [b"\xff\xd8"]
    if transform is not None:
        parts.append(b"\xff\xee\0\x0eAdobe\0\x64\0\0\0\0" + bytes([transform]))
    if tables is not None:
        parts += [tables[start:end] for marker, start, end in _segments(tables) if marker != 0xD9]
    place = 2
    if transform is not None:  # what the stream says of its colours stands first, and goes
        for marker, _, end in _segments(data):
            if marker not in (0xE0, 0xEE):
                break
            place = end
    return b"".join([*parts, data[place:]])
