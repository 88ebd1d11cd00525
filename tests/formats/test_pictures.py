"""JPEG and JPEG 2000, against the codecs that made them."""

from __future__ import annotations

import pickle

import imagecodecs
import numpy as np
import pytest
from PIL import Image

import spectrane as sp
from spectrane.model.errors import DataWarning, FormatError


@pytest.fixture
def smooth():
    y, x = np.mgrid[:40, :60]
    return np.stack([x * 4, y * 6, (x + y) * 2], axis=-1).clip(0, 255).astype("u1")


@pytest.mark.parametrize("mode", ["L", "RGB", "CMYK"])
def test_jpeg_as_pillow_reads_it(tmp_path, smooth, mode):
    Image.fromarray(smooth).convert(mode).save(tmp_path / "a.jpg", quality=90)
    raster = sp.open(tmp_path / "a.jpg")
    with Image.open(tmp_path / "a.jpg") as picture:
        wanted = np.atleast_3d(np.asarray(picture)).transpose(2, 0, 1)
    if mode == "CMYK":
        wanted = 255 - wanted  # Adobe's way: stored as what is left of the paper
    assert (raster.format, raster.shape) == ("JPEG", wanted.shape)
    assert np.abs(raster.pixels().astype(int) - wanted.astype(int)).max() <= 2
    assert raster.metadata["compression"] == "JPEG baseline"
    if mode == "RGB":
        assert [b.role for b in raster.bands] == ["red", "green", "blue"]
    assert pickle.loads(pickle.dumps(raster)).shape == raster.shape


def test_orientation_is_told_and_applied_when_drawn(tmp_path, smooth):
    exif = Image.Exif()
    exif[274] = 6
    Image.fromarray(smooth).save(tmp_path / "a.jpg", exif=exif, quality=95)
    raster = sp.open(tmp_path / "a.jpg")
    assert "turned upright" in str(raster.describe())
    assert raster.shape == (3, 40, 60)  # pixels are as stored
    drawn = sp.render(raster, sp.Look(limits="type")).rgba
    wanted = np.rot90(raster.pixels().data.transpose(1, 2, 0), -1)
    np.testing.assert_array_equal(drawn[..., :3], wanted)
    assert raster.upright().shape == (3, 60, 40)


def test_jpeg_is_written_and_says_what_it_loses(tmp_path, smooth, utm):
    array = smooth.transpose(2, 0, 1)
    with pytest.warns(DataWarning, match="the exact numbers"):
        sp.from_array(array).save(tmp_path / "a.jpg", quality=95)
    back = sp.open(tmp_path / "a.jpg").pixels()
    assert np.abs(back.astype(int) - array.astype(int)).max() < 12
    with pytest.raises(FormatError, match="quality 101"):
        sp.from_array(array).save(tmp_path / "b.jpg", quality=101)
    with pytest.raises(FormatError, match="JPEG holds uint8, not uint16"):
        sp.from_array(array.astype("u2")).save(tmp_path / "b.jpg")
    with pytest.raises(FormatError, match="compress means nothing for this format"):
        sp.from_array(array).save(tmp_path / "b.jpg", compress="lzw")


JPEG = imagecodecs.jpeg8_encode(np.zeros((16, 16), "u1"))


@pytest.mark.parametrize(
    ("data", "match"),
    [
        (JPEG[:30], "past the end|frame header"),
        (JPEG[:-40] if len(JPEG) > 400 else JPEG[: len(JPEG) // 2], "damaged|past the end"),
        (b"\xff\xd8\xff\xda" + b"\0\2" * 30, "frame header"),
        (JPEG.replace(b"\xff\xc0\0\x0b\x08\0\x10\0\x10", b"\xff\xc0\0\x0b\x08\xff\xff\xff\xff"),
         "damaged|cannot hold"),
        (b"\xff\xd8\xff\xe0\0\0" + JPEG[6:], "expected a JPEG marker"),
    ],
)  # fmt: skip
def test_each_jpeg_fault_is_named(tmp_path, data, match):
    (tmp_path / "a.jpg").write_bytes(data)
    with pytest.raises(FormatError, match=match):
        sp.open(tmp_path / "a.jpg").pixels()


@pytest.mark.parametrize("container", ["jp2", "j2k"])
@pytest.mark.parametrize(("dtype", "channels"), [("u1", 1), ("u1", 3), ("u2", 1), ("i2", 1)])
def test_jpeg_2000_without_loss(tmp_path, rng, container, dtype, channels):
    low, high = (-2000, 2000) if dtype == "i2" else (0, np.iinfo(dtype).max)
    array = rng.integers(low, high, (32, 48, channels)).astype(dtype)
    plain = array[..., 0] if channels == 1 else array
    data = imagecodecs.jpeg2k_encode(plain, codecformat=container, reversible=True, level=0)
    (tmp_path / "a").write_bytes(data)
    raster = sp.open(tmp_path / "a")
    assert (raster.format, raster.dtype, raster.shape) == ("JPEG 2000", dtype, (channels, 32, 48))
    np.testing.assert_array_equal(raster.pixels(), array.transpose(2, 0, 1))
    assert sp.members(tmp_path / "a")["bands"].tolist() == [channels]


JP2 = imagecodecs.jpeg2k_encode(np.zeros((8, 8), "u1"), codecformat="j2k", level=0)


@pytest.mark.parametrize(
    ("data", "match"),
    [
        (JP2[:20], "codestream"),
        (JP2[:8] + b"\xff\xff\xff\xff" + JP2[12:], "cannot hold"),
        (b"\0\0\0\x0cjP  \r\n\x87\n" + b"\0\0\0\x08abcd" * 3, "past the end|jp2c"),
        (JP2[: len(JP2) // 2], "JPEG 2000 data|codestream"),
    ],
)
def test_each_jpeg_2000_fault_is_named(tmp_path, data, match):
    (tmp_path / "a").write_bytes(data)
    with pytest.raises(FormatError, match=match):
        sp.open(tmp_path / "a").pixels()
