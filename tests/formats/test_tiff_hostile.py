"""Broken and hostile TIFFs: a raster or a SpectraneError, soon and within bounds."""

from __future__ import annotations

import struct

import numpy as np
import pytest
from tests.tiff_builder import DEFLATE, LZW, PACKBITS, ZSTD, image, tiff

from spectrane.formats.registry import open_source
from spectrane.model.errors import FormatError
from spectrane.model.window import whole

ARRAY = (np.arange(2 * 40 * 36).reshape(2, 40, 36) * 7 % 251).astype("u2")


def patched(data, offset, code, *values):
    raw = struct.pack(code, *values)
    return data[:offset] + raw + data[offset + len(raw) :]


def entry_offset(data, tag):
    """Return where the value of a tag's entry stands, in a little-endian classic TIFF."""
    (start,) = struct.unpack_from("<L", data, 4)
    (count,) = struct.unpack_from("<H", data, start)
    places = [start + 2 + 12 * k for k in range(count)]
    return next(p + 8 for p in places if struct.unpack_from("<H", data, p)[0] == tag)


GOOD = tiff(image(ARRAY, strip_rows=8, compression=DEFLATE))


def looped(data):
    (start,) = struct.unpack_from("<L", data, 4)
    (count,) = struct.unpack_from("<H", data, start)
    return patched(data, start + 2 + 12 * count, "<L", start)


CASES = {
    "empty": (b"", "is empty"),
    "other": (b"GARBAGE!" * 9, "which no known format does"),
    "header only": (b"II*\0", "TIFF header"),
    "no directory": (b"II*\0" + b"\0" * 8, "points to no directory"),
    "directory past the end": (b"II*\0\xff\xff\xff\x00" + b"\0" * 8, "past the end"),
    "loop": (looped(GOOD), "run in a loop"),
    "width of terabytes": (patched(GOOD, entry_offset(GOOD, 256), "<L", 2**32 - 1), "claims"),
    "height of terabytes": (patched(GOOD, entry_offset(GOOD, 257), "<L", 2**32 - 1), "claims"),
    "no width": (patched(GOOD, entry_offset(GOOD, 256), "<L", 0), "ImageWidth"),
    "LERC": (patched(GOOD, entry_offset(GOOD, 259), "<H", 34887), r"34887 \(LERC\) is not"),
    "unknown codec": (patched(GOOD, entry_offset(GOOD, 259), "<H", 999), r"999 \(unknown\)"),
    "33 bits": (tiff(image(ARRAY[:1], extra=[(258, "H", [33])])), "33 bits are not supported"),
    "mixed bits": (tiff(image(ARRAY, extra=[(258, "H", [16, 8])])), "only one value"),
    "complex": (tiff(image(ARRAY[:1], extra=[(339, "H", [6])])), "complex numbers"),
    "predictor 9": (
        tiff(image(ARRAY, compression=DEFLATE, extra=[(317, "H", [9])])), "Predictor.*is 9"),
    "float predictor on integers": (
        tiff(image(ARRAY, compression=DEFLATE, extra=[(317, "H", [3])])), "does not go with"),
    "planar 3": (tiff(image(ARRAY, extra=[(284, "H", [3])])), "expected 1 or 2"),
    "subsampled": (
        tiff(image(ARRAY[[0, 1, 0]].astype("u1"), photometric=6)), "without subsampling"),
    "tiles of no size": (
        tiff(image(ARRAY, tile=(16, 16), extra=[(322, "L", [0])])), "TileWidth"),
    "tiles of terabytes": (
        tiff(image(ARRAY, tile=(16, 16), compression=DEFLATE,
                   extra=[(322, "L", [2**31]), (323, "L", [2**20])])), "cannot hold"),
    "few offsets": (tiff(image(ARRAY, strip_rows=8, extra=[(273, "L", [8, 8])])), "has 2 entries"),
    "no offsets": (
        tiff(image(ARRAY, extra=[(273, "s", b"none")])), "expected offsets|found text|offsets"),
    "block past the end": (
        tiff(image(ARRAY, extra=[(273, "L", [10**9])])), "past the end of the file"),
    "short block": (tiff(image(ARRAY, extra=[(279, "L", [99])])), "may be cut short"),
    "cut short": (GOOD[: len(GOOD) // 2], "past the end"),
}  # fmt: skip


@pytest.mark.parametrize("name", CASES)
def test_each_fault_is_named(tmp_path, name):
    data, match = CASES[name]
    path = tmp_path / "a.tif"
    path.write_bytes(data)
    with pytest.raises(FormatError, match=match) as caught:
        source = open_source(path)
        source.read([0], whole(source.shape))
    assert str(path) in str(caught.value)


@pytest.mark.parametrize("compression", [LZW, DEFLATE, PACKBITS, ZSTD])
def test_damaged_blocks_are_named(tmp_path, compression):
    fields, packed = image(ARRAY, strip_rows=8, compression=compression)
    packed[2] = packed[2][: len(packed[2]) // 3]
    path = tmp_path / "a.tif"
    path.write_bytes(tiff((fields, packed)))
    source = open_source(path)
    source.read([0], ((0, 16), (0, 36)))  # the blocks before are well
    with pytest.raises(FormatError, match=r"block at byte \d+: .*damaged there; damaged='keep'"):
        source.read([0], ((16, 24), (0, 36)))


def test_overlapping_directories_are_refused(tmp_path):
    """A chain of directories that share their bytes would cost time without end."""
    count = 3000
    body = bytearray(b"II*\0" + struct.pack("<L", 8))
    for k in range(count):
        body += struct.pack("<H", 2000) + struct.pack("<L", 8 + 6 * (k + 1))
    body += b"\0" * 24100
    (tmp_path / "a.tif").write_bytes(bytes(body))
    with pytest.raises(FormatError):
        open_source(tmp_path / "a.tif")
