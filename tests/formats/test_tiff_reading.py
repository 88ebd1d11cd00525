"""TIFF reading, against files made by code that shares nothing with the reader."""

from __future__ import annotations

import pickle

import numpy as np
import pytest
from tests.conftest import DTYPES, natural
from tests.tiff_builder import DEFLATE, LZW, OLD_DEFLATE, PACKBITS, ZSTD, image, tiff

from spectrane.engine.files import LocalFile
from spectrane.formats.registry import open_source
from spectrane.model.errors import BandError, ChangedFile, DataWarning, FormatError, GridMismatch
from spectrane.model.window import whole


def opened(tmp_path, data, name="a.tif"):
    path = tmp_path / name
    path.write_bytes(data)
    return open_source(path)


def everything(source):
    return source.read(range(len(source.bands)), whole(source.shape))


@pytest.mark.parametrize("order", "<>")
@pytest.mark.parametrize("dtype", DTYPES)
def test_types_orders_and_layouts(tmp_path, rng, dtype, order, form):
    array = natural(rng, (3, 37, 53), dtype)
    layouts = [
        {"strip_rows": 10}, {"strip_rows": 10, "separate": True}, {"tile": (16, 32)},
        {"tile": (16, 32), "separate": True},
    ]  # fmt: skip
    predictors = (1, 2, 3) if array.dtype.kind == "f" else (1, 2)
    for number, layout in enumerate(layouts):
        for predictor in predictors:
            big = (number + predictor) % 2 == 0
            made = image(array, order=order, compression=DEFLATE, predictor=predictor, **layout)
            source = opened(tmp_path, tiff(made, order=order, big=big))
            pixels = everything(source)
            assert pixels.values.dtype == array.dtype
            np.testing.assert_array_equal(pixels.values, array)
            part = source.read([2, 0], ((5, 30), (17, 40)))
            np.testing.assert_array_equal(part.values, array[[2, 0], 5:30, 17:40])


@pytest.mark.parametrize("compression", [1, LZW, DEFLATE, OLD_DEFLATE, PACKBITS, ZSTD])
@pytest.mark.parametrize("tile", [None, (16, 16)])
def test_compressions(tmp_path, rng, compression, tile):
    array = natural(rng, (2, 41, 33), "u2")
    made = image(array, compression=compression, tile=tile, strip_rows=None if tile else 7)
    pixels = everything(opened(tmp_path, tiff(made)))
    np.testing.assert_array_equal(pixels.values, array)


def test_predictor_on_separate_and_contiguous_band_choice(tmp_path, rng, form):
    array = natural(rng, (4, 40, 48), "u2")
    for separate in (False, True):
        made = image(array, tile=(16, 16), separate=separate, compression=LZW, predictor=2)
        source = opened(tmp_path, tiff(made))
        for bands in ([0, 1, 2, 3], [3], [1, 1], [2, 0, 3]):
            got = source.read(bands, ((3, 39), (0, 47))).values
            np.testing.assert_array_equal(got, array[bands, 3:39, 0:47])


@pytest.mark.parametrize(("bits", "dtype"), [(1, "u1")])
def test_single_bits(tmp_path, rng, bits, dtype):
    array = rng.integers(0, 2, (21, 19)).astype(dtype)
    pixels = everything(opened(tmp_path, tiff(image(array, bits=bits, strip_rows=4))))
    np.testing.assert_array_equal(pixels.values[0], array)


@pytest.mark.parametrize(
    ("nodata", "filled", "valid"), [(b"7\0", 7, False), (b"-9999 \0", 0, True), (None, 0, True)]
)
@pytest.mark.filterwarnings("ignore:.*cannot occur")
def test_missing_blocks_are_nodata_or_zero(tmp_path, nodata, filled, valid):
    array = np.full((32, 32), 50, np.uint8)
    extra = [(42113, "s", nodata)] if nodata else []
    made = image(array, tile=(16, 16), missing={2}, extra=extra, compression=DEFLATE)
    pixels = everything(opened(tmp_path, tiff(made)))
    assert (pixels.values[0, 16:, :16] == filled).all()
    assert (pixels.values[0, :16] == 50).all()
    assert np.broadcast_to(pixels.valid, pixels.values.shape)[0, 20, 3] == valid


@pytest.mark.parametrize(
    ("compression", "strips"), [(1, 7), (DEFLATE, 40), (LZW, 7), (PACKBITS, 9)]
)
def test_missing_byte_counts_are_inferred(tmp_path, rng, compression, strips):
    array = natural(rng, (40, 30), "u2")
    made = image(array, strip_rows=strips, compression=compression, counts=False)
    data = tiff(made)
    pixels = everything(opened(tmp_path, data))
    np.testing.assert_array_equal(pixels.values[0], array)


@pytest.mark.parametrize("below", [False, True], ids=["chain", "SubIFDs"])
def test_overviews_and_masks(tmp_path, below):
    array = np.arange(64 * 64, dtype=np.uint16).reshape(64, 64)
    half = np.full((32, 32), 500, np.uint16)
    quarter = np.full((16, 16), 900, np.uint16)
    mask, small = np.ones((64, 64), np.uint8), np.ones((32, 32), np.uint8)
    mask[:, :20], small[:, :10] = 0, 0
    reduced = [image(half, kind=1), image(quarter, kind=1)]
    masks = [
        image(mask, kind=4, bits=1, photometric=4),
        image(small, kind=5, bits=1, photometric=4),
    ]
    for with_masks in (False, True):
        rest = reduced + (masks if with_masks else [])
        data = tiff(image(array), subs=rest) if below else tiff(image(array), *rest)
        source = opened(tmp_path, data)
        # With a mask, an overview that has none would show what is hidden.
        assert source.overviews == (((32, 32),) if with_masks else ((32, 32), (16, 16)))
        assert source.has_mask == with_masks
        valid = everything(source).valid
        assert not with_masks or (~valid[0, :, :20]).all()
        shrunk = source.read([0], whole(source.shape), (32, 32), "area")
        assert (shrunk.values == 500).all()
        assert (shrunk.values.shape, shrunk.valid.all()) == ((1, 32, 32), not with_masks)
        # nearest never reads overviews, which hold no pixel's own number
        nearest = source.read([0], whole(source.shape), (16, 16), "nearest")
        np.testing.assert_array_equal(nearest.values[0], array[2::4, 2::4])


@pytest.mark.parametrize(("kind", "name"), [(1, "premultiplied"), (2, "straight")])
def test_alpha_is_no_band(tmp_path, rng, kind, name):
    array = natural(rng, (4, 20, 20), "u1")
    array[3, :5], array[3, 5:] = 0, 90
    made = image(array, photometric=2, extra=[(338, "H", [kind])])
    source = opened(tmp_path, tiff(made))
    assert [band.name for band in source.bands] == ["red", "green", "blue"]
    assert source.alpha == name
    pixels = everything(source)
    np.testing.assert_array_equal(pixels.alpha, array[3])
    valid = np.broadcast_to(pixels.valid, pixels.values.shape)
    assert not valid[:, :5].any()
    assert valid[:, 5:].all()


def test_unspecified_extra_sample_is_a_band(tmp_path, rng):
    made = image(natural(rng, (4, 9, 9), "u1"), photometric=2, extra=[(338, "H", [0])])
    assert len(opened(tmp_path, tiff(made)).bands) == 4


@pytest.mark.parametrize(
    ("dtype", "text", "value", "hits"),
    [
        ("u1", b"0\0", 0, 1), ("i2", b"-9999\0", -9999, 1), ("f4", b"-3.4028234663852886e+38\0",
         -3.4028234663852886e38, 1), ("f4", b"0.1\0", 0.1, 1), ("f8", b"nan\0", float("nan"), 1),
        ("u2", b" 65535  \0\0", 65535, 1), ("f4", b"-9999.0", -9999.0, 1),
        ("i8", b"-9223372036854775808\0", -(2**63), 1),
    ],
)  # fmt: skip
def test_nodata_text(tmp_path, dtype, text, value, hits):
    array = np.ones((4, 5), dtype)
    array[2, 3] = value
    source = opened(tmp_path, tiff(image(array, extra=[(42113, "s", text)])))
    assert source.bands[0].nodata == pytest.approx(value, nan_ok=True)
    assert (~everything(source).valid).sum() == hits


@pytest.mark.parametrize(
    ("dtype", "text", "match"),
    [("u1", b"-9999\0", "cannot occur in uint8"), ("f4", b"none\0", "not a number")],
)
def test_nodata_that_cannot_be_is_told(tmp_path, dtype, text, match):
    with pytest.warns(DataWarning, match=match):
        opened(tmp_path, tiff(image(np.ones((4, 5), dtype), extra=[(42113, "s", text)])))


def test_palette_becomes_classes(tmp_path):
    ramp = np.arange(256) * 257
    table = np.concatenate([ramp, ramp[::-1], np.zeros(256, int)]).tolist()
    made = image(np.ones((4, 4), np.uint8), photometric=3, extra=[(320, "H", table)])
    source = opened(tmp_path, tiff(made))
    assert source.look.classes[1.0] == ("#01fe00", "")
    assert (everything(source).values == 1).all()


class Counting(LocalFile):
    """A file that remembers what was asked of it."""

    def __init__(self, path):
        self.asked = []
        super().__init__(path)

    def fetch(self, ranges):
        self.asked += ranges
        return super().fetch(ranges)


def test_a_window_reads_only_its_tiles(tmp_path, rng):
    from spectrane.formats.tiff.reader import open_tiff

    array = rng.integers(0, 65536, (512, 512)).astype("u2")
    path = tmp_path / "a.tif"
    path.write_bytes(tiff(image(array, tile=(64, 64))))
    file = Counting(path)
    source = open_tiff(file)
    file.asked.clear()
    source.read([0], ((64, 128), (60, 250)))  # tiles 0 to 3 of the second row
    block = 64 * 64 * 2
    # The two tables in one range, and the neighbouring tiles in another.
    assert [length for _, length in file.asked] == [2 * 64 * 4, 4 * block]
    file.asked.clear()
    source.read([0], ((70, 80), (70, 80)))
    assert file.asked == []  # from the cache of decoded blocks


def test_uncompressed_strip_is_read_in_part(tmp_path, rng):
    from spectrane.formats.tiff.reader import open_tiff

    array = rng.integers(0, 65536, (3000, 1000)).astype("u2")  # one strip of 6 MB
    path = tmp_path / "a.tif"
    path.write_bytes(tiff(image(array)))
    file = Counting(path)
    source = open_tiff(file)
    file.asked.clear()
    np.testing.assert_array_equal(source.read([0], ((1500, 1510), (3, 9))).values[0],
                                  array[1500:1510, 3:9])  # fmt: skip
    assert sum(length for _, length in file.asked) <= 2 << 20


def test_a_changed_file_is_an_error(tmp_path, rng):
    source = opened(tmp_path, tiff(image(natural(rng, (64, 64), "u2"))))
    (tmp_path / "a.tif").write_bytes(tiff(image(natural(rng, (70, 64), "u2"))))
    with pytest.raises(ChangedFile, match="changed after it was opened"):
        everything(source)


def test_pickled_and_closed_sources_open_again(tmp_path, rng):
    array = natural(rng, (64, 64), "u2")
    source = opened(tmp_path, tiff(image(array)))
    source.close()
    for one in (source, pickle.loads(pickle.dumps(source))):
        np.testing.assert_array_equal(everything(one).values[0], array)


def test_members_are_the_full_images(tmp_path):
    first, second = np.zeros((8, 8), np.uint8), np.ones((9, 7), np.uint8)
    path = tmp_path / "a.tif"
    path.write_bytes(tiff(image(first), image(first[:4, :4], kind=1), image(second)))
    assert open_source(path).overviews == ((4, 4),)
    assert open_source(path, member=2).shape == (9, 7)
    with pytest.raises(FormatError, match="no image 3; it holds 2"):
        open_source(path, member=3)


def test_windows_and_bands_outside_are_refused(tmp_path):
    source = opened(tmp_path, tiff(image(np.zeros((8, 9), np.uint8))))
    with pytest.raises(GridMismatch, match="rows 0 to 9"):
        source.read([0], ((0, 9), (0, 9)))
    with pytest.raises(BandError, match="no band 2"):
        source.read([1], whole(source.shape))


def test_a_trailing_or_short_stream(tmp_path):
    """Streams may run past their block; the last strip may be stored at full height."""
    array = np.arange(100, dtype=np.uint8).reshape(10, 10)
    fields, packed = image(array, strip_rows=4, compression=DEFLATE)
    full = np.vstack([array[8:], array[8:]])
    packed[2] = bytes(image(full, strip_rows=4, compression=DEFLATE)[1][0])
    np.testing.assert_array_equal(everything(opened(tmp_path, tiff((fields, packed)))).values[0],
                                  array)  # fmt: skip
    wider = bytes(image(np.vstack([array[:4], array[:4]]), compression=DEFLATE)[1][0])
    fields, packed = image(array, strip_rows=4, compression=DEFLATE)
    packed[0] = wider
    np.testing.assert_array_equal(everything(opened(tmp_path, tiff((fields, packed)))).values[0],
                                  array)  # fmt: skip
