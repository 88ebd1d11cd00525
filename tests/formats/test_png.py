"""PNG: numbers exactly as stored, against Pillow and against bytes made by hand."""

from __future__ import annotations

import io
import pickle
import struct
import zlib

import numpy as np
import pytest
from PIL import Image, PngImagePlugin

import spectrane as sp
from spectrane.formats.png.encoding import chunk
from spectrane.model.errors import DataWarning, FormatError

MARK = b"\x89PNG\r\n\x1a\n"


def png(rows, columns, bits, kind, raw, *, extra=b"", interlace=0):
    head = struct.pack(">LLBBBBB", columns, rows, bits, kind, 0, 0, interlace)
    return b"".join([MARK, chunk(b"IHDR", head), extra, chunk(b"IDAT", zlib.compress(raw)),
                     chunk(b"IEND", b"")])  # fmt: skip


def packed(values, bits):
    """Return rows of small samples, most significant first, each after filter 0."""
    out = b""
    for row in values:
        digits = "".join(f"{v:0{bits}b}" for v in row)
        digits += "0" * (-len(digits) % 8)
        out += b"\0" + int(digits, 2).to_bytes(len(digits) // 8, "big")
    return out


@pytest.fixture
def opened(tmp_path):
    def write(data, name="a.png"):
        (tmp_path / name).write_bytes(data)
        return sp.open(tmp_path / name)

    return write


@pytest.mark.parametrize("bits", [1, 2, 4])
@pytest.mark.parametrize("kind", [0, 3])
def test_small_samples_are_not_stretched(opened, rng, bits, kind):
    values = rng.integers(0, 1 << bits, (9, 13))
    extra = chunk(b"PLTE", bytes(range(3 << bits))) if kind == 3 else b""
    raster = opened(png(9, 13, bits, kind, packed(values, bits), extra=extra))
    assert raster.dtype == np.uint8
    np.testing.assert_array_equal(raster.pixels()[0], values)


def test_a_palette_arrives_as_classes(opened):
    extra = chunk(b"PLTE", b"\xff\0\0\0\xff\0") + chunk(b"tRNS", b"\x80")
    raster = opened(png(1, 2, 8, 3, b"\0\0\1", extra=extra))
    assert raster.look.classes == {0.0: ("#ff000080", ""), 1.0: ("#00ff00", "")}
    assert sp.render(raster).rgba[0].tolist() == [[255, 0, 0, 128], [0, 255, 0, 255]]


@pytest.mark.parametrize("mode", ["L", "LA", "RGB", "RGBA", "I;16"])
def test_what_pillow_writes(opened, rng, mode):
    channels = {"L": 1, "LA": 2, "RGB": 3, "RGBA": 4, "I;16": 1}[mode]
    top = 65536 if mode == "I;16" else 256
    array = rng.integers(0, top, (20, 30, channels)).astype("u2" if top > 256 else "u1")
    file = io.BytesIO()
    Image.fromarray(array[..., 0] if channels == 1 else array).save(file, "PNG")
    raster = opened(file.getvalue())
    bands = channels - (mode.endswith("A"))
    assert raster.shape == (bands, 20, 30)
    np.testing.assert_array_equal(raster.pixels().data, array.transpose(2, 0, 1)[:bands])
    if mode.endswith("A"):
        np.testing.assert_array_equal(raster.pixels().mask[0], array[..., -1] == 0)


@pytest.mark.parametrize("channels", [1, 3])
@pytest.mark.parametrize("dtype", ["u1", "u2"])
def test_what_is_written_is_read_back(tmp_path, rng, channels, dtype):
    array = rng.integers(0, np.iinfo(dtype).max + 1, (channels, 17, 23)).astype(dtype)
    sp.from_array(array).save(tmp_path / "a.png")
    back = sp.open(tmp_path / "a.png")
    assert back.dtype == dtype
    np.testing.assert_array_equal(back.pixels(), array)
    assert pickle.loads(pickle.dumps(back)).shape == array.shape
    if dtype == "u1":
        with Image.open(tmp_path / "a.png") as picture:
            plain = np.asarray(picture).reshape(17, 23, channels)
            np.testing.assert_array_equal(plain.transpose(2, 0, 1), array)


def test_invalid_pixels_become_transparent_and_keep_their_number(tmp_path):
    sp.from_array(np.array([[0, 7]], "u1"), nodata=0).save(tmp_path / "a.png")
    back = sp.open(tmp_path / "a.png")
    assert back.pixels().tolist() == [[[None, 7]]]


def test_one_transparent_colour_hides_where_all_samples_match(opened):
    raw = b"\0" + bytes([1, 2, 3, 1, 2, 4])
    extra = chunk(b"tRNS", struct.pack(">HHH", 1, 2, 3))
    raster = opened(png(1, 2, 8, 2, raw, extra=extra))
    assert raster.pixels().mask[:, 0].tolist() == [[True, False]] * 3


@pytest.mark.parametrize(("alphas", "hidden"), [(b"\0\xff", [0]), (b"\0\x80\0\0", [0, 2])])
def test_clear_entries_of_a_palette_are_invalid(opened, alphas, hidden):
    extra = chunk(b"PLTE", bytes(range(9))) + chunk(b"tRNS", alphas)
    raster = opened(png(1, 3, 8, 3, b"\0\0\1\2", extra=extra))
    assert np.ma.getmaskarray(raster.pixels())[0, 0].tolist() == [k in hidden for k in range(3)]
    assert raster.histogram().counts[0].sum() == 3 - len(hidden)


@pytest.mark.parametrize("behind", [False, True])
def test_exif_orientation_is_applied_when_drawn_and_written(tmp_path, behind):
    array = np.arange(40 * 60 * 3, dtype="u4").reshape(40, 60, 3).astype("u1")
    exif = Image.Exif()
    exif[274] = 6
    Image.fromarray(array).save(tmp_path / "a.png", exif=exif)
    if behind:
        data = (tmp_path / "a.png").read_bytes()
        start = data.index(b"eXIf") - 4
        end = start + 12 + struct.unpack(">L", data[start : start + 4])[0]
        rest = data[:start] + data[end:]
        (tmp_path / "a.png").write_bytes(rest[:-12] + data[start:end] + rest[-12:])
    raster = sp.open(tmp_path / "a.png")
    assert raster.shape == (3, 40, 60)
    wanted = np.rot90(array, -1)
    drawn = sp.render(raster, sp.Look(limits="type")).rgba
    np.testing.assert_array_equal(drawn[..., :3], wanted)
    raster.save(tmp_path / "b.tif")
    back = sp.open(tmp_path / "b.tif").pixels().data
    np.testing.assert_array_equal(back.transpose(1, 2, 0), wanted)


def test_text_is_kept_and_names_come_back(tmp_path):
    info = PngImagePlugin.PngInfo()
    info.add_text("Title", "a plan")
    info.add_itxt("Author", "Åse", "no", "")
    info.add_text("Long", "x" * 5000, zip=True)
    Image.new("L", (2, 2)).save(tmp_path / "p.png", pnginfo=info)
    said = sp.open(tmp_path / "p.png").metadata
    assert (said["Title"], said["Author"], said["Long"]) == ("a plan", "Åse", "x" * 5000)
    band = sp.Band("pan", unit="m", scale=0.5, nodata=9)
    sp.from_array(np.array([[1, 9]], "u1"), bands=[band]).save(tmp_path / "b.png")
    back = sp.open(tmp_path / "b.png").bands[0]
    assert (back.name, back.unit, back.scale, back.nodata) == ("pan", "m", 0.5, 9)


def test_a_place_is_told_to_be_lost_to_others(tmp_path, utm):
    with pytest.warns(DataWarning, match="no field for the place"):
        sp.from_array(np.zeros((70, 90), "u1"), grid=utm).save(tmp_path / "a.png")
    assert sp.open(tmp_path / "a.png").grid.bounds == utm.bounds


@pytest.mark.parametrize(
    ("array", "match"),
    [
        (np.zeros((1, 2, 2), "f4"), "uint8 or uint16, not float32"),
        (np.zeros((2, 2, 2), "u1"), "1 or 3 bands, not 2"),
    ],
)
def test_what_png_cannot_hold(tmp_path, array, match):
    with pytest.raises(FormatError, match=match):
        sp.from_array(array).save(tmp_path / "a.png")
    assert list(tmp_path.iterdir()) == []


GOOD = png(4, 4, 8, 0, b"\0\1\2\3\4" * 4)


@pytest.mark.parametrize(
    ("data", "match"),
    [
        (GOOD[:40], "past the end|without an IEND"),
        (png(4, 4, 3, 0, b""), "3 bits of colour type 0"),
        (png(4, 4, 8, 3, b"\0" * 20), "without a PLTE"),
        (png(60000, 60000, 16, 6, b""), "cannot hold"),
        (png(4, 4, 8, 0, b"\0\1"), "damaged"),
        (png(0, 4, 8, 0, b""), "claims 0 x 4"),
        (MARK + chunk(b"IDAT", b""), "expected IHDR"),
    ],
)
def test_each_fault_is_named(opened, data, match):
    with pytest.raises(FormatError, match=match):
        opened(data).pixels()


def test_interlaced_small_samples(opened, rng):
    values = rng.integers(0, 4, (8, 8))
    passes = [(0, 0, 8, 8), (0, 4, 8, 8), (4, 0, 8, 4), (0, 2, 4, 4), (2, 0, 4, 2), (0, 1, 2, 2),
              (1, 0, 2, 1)]  # fmt: skip
    raw = b"".join(packed(values[r::dr, c::dc], 2) for r, c, dr, dc in passes)
    np.testing.assert_array_equal(opened(png(8, 8, 2, 0, raw, interlace=1)).pixels()[0], values)
