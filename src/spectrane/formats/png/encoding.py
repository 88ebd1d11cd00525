"""Encoding PNG (ISO/IEC 15948): grey or colour, with or without alpha, 8 or 16 bits, with text."""

from __future__ import annotations

import itertools
import struct
import zlib
from collections.abc import Iterable, Mapping
from typing import Any

import numpy as np
from isal import isal_zlib
from numpy.typing import NDArray

from spectrane.engine.threads import in_parallel
from spectrane.model.errors import LookError
from spectrane.model.printing import whole_text

SIGNATURE = b"\x89PNG\r\n\x1a\n"
_UP = 2
_FAST = 2
"""A level of ISA-L's deflate, which takes a fifth of the time of zlib's quickest."""
_LONGEST = 1 << 30
"""Bytes of image data per chunk at most."""


def encode_png(
    pixels: NDArray[Any], text: Mapping[str, str], *, small: bool = False
) -> bytes:  # fmt: skip
    """Return a PNG file of (rows, columns, channels) uint8 or uint16, straight alpha.

    Channels: 1 grey, 2 grey and alpha, 3 colour, 4 colour and alpha. ``text`` maps keywords
    (Latin-1, at most 79 letters) to texts. ``small`` takes longer for a smaller file.
    """
    parts = _beginning(pixels, text)
    data = _deflated(_filtered(pixels), small)
    parts += [chunk(b"IDAT", data[k : k + _LONGEST]) for k in range(0, len(data), _LONGEST)]
    return b"".join([*parts, chunk(b"IEND", b"")])


def encode_animated_png(
    frames: Iterable[NDArray[Any]], count: int, text: Mapping[str, str], milliseconds: int
) -> bytes:
    """Return a PNG of ``count`` frames of one size that play over and over, each for some time.

    Programs that know no animation show the first. PNG Specification (Third Edition), 11.3.6:
    acTL says how many, an fcTL stands before each frame, fdAT holds those after the first.
    Raises LookError for frames of different size.
    """
    parts: list[bytes] = []
    shape: tuple[int, ...] = ()
    numbers = itertools.count()
    for index, pixels in enumerate(frames):
        if index == 0:
            shape = pixels.shape
            parts = [*_beginning(pixels, text), chunk(b"acTL", struct.pack(">LL", count, 0))]
        if pixels.shape != shape:
            raise LookError(f"frame {index + 1} is {pixels.shape}, the first {shape}")
        size = (pixels.shape[1], pixels.shape[0])
        control = struct.pack(">LLLLLHHBB", next(numbers), *size, 0, 0, milliseconds, 1000, 0, 0)
        parts.append(chunk(b"fcTL", control))
        data = _deflated(_filtered(pixels), False)
        for k in range(0, len(data), _LONGEST):
            part = data[k : k + _LONGEST]
            parts.append(chunk(b"fdAT", struct.pack(">L", next(numbers)) + part) if index
                         else chunk(b"IDAT", part))  # fmt: skip
    return b"".join([*parts, chunk(b"IEND", b"")])


def _beginning(pixels: NDArray[Any], text: Mapping[str, str]) -> list[bytes]:
    rows, columns, channels = pixels.shape
    bits = 8 * pixels.dtype.itemsize
    kind = {1: 0, 2: 4, 3: 2, 4: 6}[channels]
    header = struct.pack(">LLBBBBB", columns, rows, bits, kind, 0, 0, 0)
    said = [text_chunk(keyword, value) for keyword, value in text.items()]
    return [SIGNATURE, chunk(b"IHDR", header), *said]


def chunk(kind: bytes, data: bytes) -> bytes:
    """Return one chunk: length, kind, data, checksum."""
    check = zlib.crc32(data, zlib.crc32(kind))
    return b"".join([struct.pack(">L", len(data)), kind, data, struct.pack(">L", check)])


def text_chunk(keyword: str, value: str) -> bytes:
    """Return a text chunk: tEXt where Latin-1 will do, iTXt otherwise."""
    value = whole_text(value).replace("\0", "")
    try:
        return chunk(b"tEXt", f"{keyword}\0{value}".encode("latin-1"))
    except UnicodeEncodeError:
        return chunk(b"iTXt", f"{keyword}\0\0\0\0\0{value}".encode())


def _filtered(pixels: NDArray[Any]) -> NDArray[np.uint8]:
    """Return rows of bytes, each after its filter type: the difference to the row above."""
    rows = len(pixels)
    lines = np.ascontiguousarray(pixels.astype(pixels.dtype.newbyteorder(">"), copy=False))
    lines = lines.view(np.uint8).reshape(rows, -1)
    out = np.empty((rows, lines.shape[1] + 1), np.uint8)
    out[:, 0] = _UP
    out[0, 1:] = lines[0]
    np.subtract(lines[1:], lines[:-1], out=out[1:, 1:])
    return out


def _deflated(lines: NDArray[np.uint8], small: bool) -> bytes:
    """Compress in two halves on two threads: one zlib stream, since the first ends flushed."""
    middle = len(lines) // 2
    halves: list[bytes] = [b"", b""]

    def compress(which: int) -> None:
        part = lines[:middle] if which == 0 else lines[middle:]
        deflate = zlib.compressobj(6, zlib.DEFLATED, -15, 9, zlib.Z_FILTERED) if small else (
            isal_zlib.compressobj(_FAST, zlib.DEFLATED, -15))  # fmt: skip
        ending = zlib.Z_FULL_FLUSH if which == 0 else zlib.Z_FINISH
        halves[which] = deflate.compress(part.data) + deflate.flush(ending)

    in_parallel([0, 1], lambda: compress)
    return b"".join([b"\x78\x01", *halves, struct.pack(">L", isal_zlib.adler32(lines.data))])
