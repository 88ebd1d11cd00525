"""TIFF blocks that are pictures, faxes or packed samples; pages and orientation."""

from __future__ import annotations

import io

import imagecodecs
import numpy as np
import pytest
from PIL import Image
from tests.tiff_builder import image, tiff

import spectrane as sp
from spectrane.model.errors import FormatError
from spectrane.model.source import source_of


@pytest.fixture
def opened(tmp_path):
    def write(data, **options):
        (tmp_path / "a.tif").write_bytes(data)
        return sp.open(tmp_path / "a.tif", **options)

    return write


def saved(picture, **options):
    file = io.BytesIO()
    picture.save(file, "TIFF", **options)
    return file.getvalue()


def single(rows, columns, data, *fields, samples=1, bits=8, compression=1, photometric=1):
    """Return a TIFF of one strip whose bytes are given."""
    made, _ = image(np.zeros((samples, rows, columns), "u1"), photometric=photometric)
    made |= {258: ("H", [bits] * samples), 259: ("H", [compression])}
    made |= {tag: (code, values) for tag, code, values in fields}
    return tiff((made, [data]))


@pytest.fixture
def smooth():
    y, x = np.mgrid[:40, :64]
    return np.stack([x * 4, y * 6, (x + y) * 2], axis=-1).clip(0, 255).astype("u1")


@pytest.mark.parametrize("mode", ["L", "RGB", "YCbCr"])
@pytest.mark.parametrize("quality", [75, 95])
def test_jpeg_with_shared_tables(opened, smooth, mode, quality):
    picture = Image.fromarray(smooth).convert(mode)
    data = saved(picture, compression="jpeg", quality=quality)
    raster = opened(data)
    with Image.open(io.BytesIO(data)) as back:
        wanted = np.atleast_3d(np.asarray(back.convert("RGB") if mode == "YCbCr" else back))
    assert raster.metadata["compression"] == "JPEG"
    got = raster.pixels().transpose(1, 2, 0).astype(int)
    assert np.abs(got - wanted.astype(int)).max() <= 3
    if mode != "L":
        assert [band.role for band in raster.bands] == ["red", "green", "blue"]


def test_jpeg_tables_of_their_own_tag(opened, smooth):
    whole = imagecodecs.jpeg8_encode(np.ascontiguousarray(smooth[..., 0]), level=90)
    # Cut the stream into tables and image, as TIFF Technical Note 2 has it.
    place, tables, rest = 2, b"", b""
    while whole[place + 1] != 0xDA:
        length = int.from_bytes(whole[place + 2 : place + 4], "big") + 2
        segment = whole[place : place + length]
        if whole[place + 1] in (0xDB, 0xC4):
            tables += segment
        else:
            rest += segment
        place += length
    tables = b"\xff\xd8" + tables + b"\xff\xd9"
    data = b"\xff\xd8" + rest + whole[place:]
    raster = opened(single(40, 64, data, (347, "s", tables), compression=7))
    np.testing.assert_array_equal(raster.pixels()[0], imagecodecs.jpeg8_decode(whole))


def test_old_jpeg_is_refused_with_a_reason(opened):
    with pytest.raises(FormatError, match=r"6 \(old-style JPEG\).*Technical Note 2"):
        opened(single(4, 4, b"x", compression=6))


@pytest.mark.parametrize("code", [33003, 33005, 34712])
def test_jpeg_2000(opened, rng, code):
    array = rng.integers(0, 65535, (20, 30)).astype("u2")
    data = imagecodecs.jpeg2k_encode(array, codecformat="j2k", reversible=True, level=0)
    raster = opened(single(20, 30, data, bits=16, compression=code))
    np.testing.assert_array_equal(raster.pixels()[0], array)


@pytest.mark.parametrize("compression", ["group3", "group4", "tiff_ccitt"])
@pytest.mark.parametrize("columns", [64, 50])
def test_faxes_as_pillow_reads_them(opened, rng, compression, columns):
    bits = np.repeat(np.repeat(rng.random((20, 16)) > 0.5, 2, axis=0), 4, axis=1)[:, :columns]
    data = saved(Image.fromarray(bits), compression=compression)
    raster = opened(data)
    photometric = raster.metadata["PhotometricInterpretation"]
    shown = raster.pixels()[0] > 0
    np.testing.assert_array_equal(shown if photometric == 1 else ~shown, bits)
    drawn = sp.render(raster).rgba[..., 0] > 127
    np.testing.assert_array_equal(drawn, bits)


@pytest.mark.parametrize("bits", [1, 2, 4, 12])
@pytest.mark.parametrize("order", [1, 2])
def test_packed_samples(opened, rng, bits, order):
    values = rng.integers(0, 1 << bits, (7, 13))
    raw = b""
    for row in values:
        digits = "".join(f"{v:0{bits}b}" for v in row)
        digits += "0" * (-len(digits) % 8)
        line = int(digits, 2).to_bytes(len(digits) // 8, "big")
        raw += line if order == 1 else bytes(int(f"{b:08b}"[::-1], 2) for b in line)
    raster = opened(single(7, 13, raw, (266, "H", [order]), bits=bits))
    assert raster.dtype == (np.uint16 if bits == 12 else np.uint8)
    np.testing.assert_array_equal(raster.pixels()[0], values)
    assert f"({bits} bits used)" in str(raster.describe())
    top = (1 << bits) - 1
    wanted = np.floor(values / top * 255 + 0.5)
    np.testing.assert_array_equal(sp.render(raster).rgba[..., 0], wanted)


def test_white_is_zero_is_told_and_drawn(opened):
    raster = opened(single(1, 3, bytes([0, 100, 255]), photometric=0))
    assert raster.pixels()[0].tolist() == [[0, 100, 255]]
    assert raster.look.invert
    assert sp.render(raster).rgba[0, :, 0].tolist() == [255, 155, 0]


@pytest.mark.parametrize("factor", [256, 257])
def test_palettes_of_either_custom_are_the_same_colours(opened, factor):
    table = np.zeros((3, 256), "u2")
    table[:, :4] = np.array([[255, 0, 17, 128], [0, 255, 34, 128], [1, 2, 3, 128]]) * factor
    extra = (320, "H", table.ravel().tolist())
    raster = opened(single(1, 4, bytes([0, 1, 2, 3]), extra, photometric=3))
    assert raster.pixels()[0].tolist() == [[0, 1, 2, 3]]
    assert raster.look.classes[0.0] == ("#ff0001", "")
    wanted = (table[:, :4].T // factor).tolist()
    assert sp.render(raster).rgba[0, :, :3].tolist() == wanted


def test_pages_are_members(opened, rng):
    pages = [rng.integers(0, 255, (1, 5 + k, 6)).astype("u1") for k in range(3)]
    data = tiff(*(image(page, extra=[(269, "s", b"page %d\0" % k)])
                  for k, page in enumerate(pages)))  # fmt: skip
    raster = opened(data)
    assert raster.describe().facts["members"] == 3
    found = sp.members(raster.source)
    assert found["name"].tolist() == ["page 0", "page 1", "page 2"]
    assert found["rows"].tolist() == [5, 6, 7]
    for member in (3, "3", "page 2"):
        np.testing.assert_array_equal(opened(data, member=member).pixels()[0], pages[2][0])
    with pytest.raises(FormatError, match="no image 4; it holds 3"):
        opened(data, member=4)


TURNED = {
    1: lambda a: a, 2: lambda a: a[:, ::-1], 3: lambda a: a[::-1, ::-1], 4: lambda a: a[::-1],
    5: lambda a: a.T, 6: lambda a: np.rot90(a, -1), 7: lambda a: a[::-1, ::-1].T,
    8: lambda a: np.rot90(a),
}  # fmt: skip


@pytest.mark.parametrize("orientation", TURNED)
def test_orientation_is_applied_when_drawn(opened, rng, orientation):
    array = rng.integers(0, 255, (5, 8)).astype("u1")
    raster = opened(tiff(image(array, extra=[(274, "H", [orientation])])))
    np.testing.assert_array_equal(raster.pixels()[0], array)
    wanted = TURNED[orientation](array)
    upright = raster.upright()
    np.testing.assert_array_equal(upright.pixels()[0], wanted)
    np.testing.assert_array_equal(sp.render(raster).rgba[..., 0], wanted)
    part = upright.pixels(rows=(1, 4), columns=(2, 5))[0]
    np.testing.assert_array_equal(part, wanted[1:4, 2:5])
    gathered = np.zeros_like(wanted)
    source = source_of(upright)
    for window, pixels in source.blocks([0], ((0, wanted.shape[0]), (0, wanted.shape[1]))):
        gathered[tuple(slice(*pair) for pair in window)] = pixels.values[0]
    np.testing.assert_array_equal(gathered, wanted)


@pytest.mark.parametrize(
    ("data", "match"),
    [
        (single(9, 9, b"junk", compression=7), "JPEG block"),
        (single(9, 9, imagecodecs.jpeg8_encode(np.zeros((4, 4), "u1")), compression=7), "picture"),
        (single(9, 9, b"junk", compression=34712), "JPEG 2000 block"),
        (single(9, 9, b"x", compression=4), "CCITT holds 1 bit"),
        (single(9, 9, b"x", (266, "H", [3])), "FillOrder"),
        (single(9, 9, b"x", bits=16, compression=7), "JPEG block"),
    ],
)
def test_each_fault_is_named(opened, data, match):
    with pytest.raises(FormatError, match=match):
        opened(data).pixels()
