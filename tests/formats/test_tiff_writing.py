"""TIFF writing: read back equal, laid out at the front, streamed, atomic."""

from __future__ import annotations

import io
import struct
import threading

import numpy as np
import pytest
from PIL import Image
from tests.conftest import DTYPES, natural

from spectrane.engine.cache import BlockCache
from spectrane.engine.memory import ArraySource
from spectrane.formats.registry import open_source
from spectrane.formats.tiff import strips
from spectrane.formats.tiff.writer import write_tiff
from spectrane.model.band import Band
from spectrane.model.errors import AccessError, ExistingFile, FormatError
from spectrane.model.grid import Grid
from spectrane.model.look import Look
from spectrane.model.pixels import Pixels
from spectrane.model.source import Source
from spectrane.model.window import extent, whole


def everything(source):
    return source.read(range(len(source.bands)), whole(source.shape))


def round_trip(source, path, **options):
    write_tiff(source, path, overwrite=True, **options)
    return open_source(path)


@pytest.mark.parametrize("planes", ["chunky", "planar"])
@pytest.mark.parametrize("dtype", DTYPES)
def test_round_trip_of_every_type(tmp_path, rng, dtype, planes):
    array = natural(rng, (3, 300, 281), dtype)
    for compress in ("deflate", "zstd", "none", "lzw"):
        back = round_trip(ArraySource(array), tmp_path / "a.tif", compress=compress, planes=planes)
        pixels = everything(back)
        assert pixels.values.dtype == array.dtype
        np.testing.assert_array_equal(pixels.values, array)
        assert back.overviews == ((150, 141),)


@pytest.mark.parametrize(
    ("mode", "dtype", "bands"),
    [("L", "u1", 1), ("RGB", "u1", 3), ("I;16", "u2", 1), ("I", "i4", 1), ("F", "f4", 1)],
)
@pytest.mark.parametrize("compress", ["deflate", "none", "lzw", "zstd"])
def test_pillow_reads_what_is_written(tmp_path, rng, mode, dtype, bands, compress):
    array = natural(rng, (bands, 300, 281), dtype)
    named = [Band(n, role=n) for n in ("red", "green", "blue")] if bands == 3 else None
    round_trip(ArraySource(array, bands=named), tmp_path / "a.tif", compress=compress)
    with Image.open(tmp_path / "a.tif") as picture:
        assert picture.mode == mode
        seen = np.asarray(picture)
    np.testing.assert_array_equal(seen, array[0] if bands == 1 else np.moveaxis(array, 0, -1))


def test_overviews_are_means_of_what_is_valid(tmp_path, rng):
    array = rng.integers(1, 60000, (2, 601, 515)).astype("u2")
    array[0, 100:180, 50:333] = 0
    source = ArraySource(array, bands=[Band("a", nodata=0), Band("b", nodata=0)])
    back = round_trip(source, tmp_path / "a.tif")
    assert back.overviews == ((301, 258), (151, 129))
    for level, factor in ((1, 2), (2, 4)):
        rows, columns = back.overviews[level - 1]
        padded = np.full((2, rows * factor, columns * factor), np.nan)
        padded[:, :601, :515] = np.where(array == 0, np.nan, array)
        cells = padded.reshape(2, rows, factor, columns, factor).transpose(0, 1, 3, 2, 4)
        cells = cells.reshape(2, rows, columns, -1)
        inside = np.zeros((rows * factor, columns * factor))
        inside[:601, :515] = 1
        covered = inside.reshape(rows, factor, columns, factor).sum((1, 3))
        count = np.isfinite(cells).sum(-1)
        enough = count >= covered / 2
        means = np.where(enough, np.floor(np.nansum(cells, -1) / np.maximum(count, 1) + 0.5), 0)
        stored = back.levels[level].read([0, 1], whole(back.overviews[level - 1]))
        np.testing.assert_allclose(stored.values, means, atol=1)
        assert (stored.values != means).mean() < 0.001  # float32 sums at a half
        np.testing.assert_array_equal(stored.valid, enough)


def test_categories_get_majority_overviews_and_keep_names(tmp_path, rng):
    array = rng.integers(1, 4, (1, 300, 300)).astype("u1")
    classes = {1.0: ("#ff0000", "one & <only>"), 2.0: ("#00ff00", "two"), 3.0: ("#0000ff", "three")}
    source = ArraySource(array, bands=[Band("kind", nodata=0)], look=Look(classes=classes))
    back = round_trip(source, tmp_path / "a.tif")
    assert back.look.classes == classes
    assert back.categories
    stored = back.levels[1].read([0], whole((150, 150))).values[0]
    cells = array[0].reshape(150, 2, 150, 2).transpose(0, 2, 1, 3).reshape(150, 150, 4)
    votes = np.stack([(cells == value).sum(-1) for value in (1, 2, 3)], -1)
    np.testing.assert_array_equal(stored, votes.argmax(-1) + 1)  # argmax: ties to the lowest
    with Image.open(tmp_path / "a.tif") as picture:
        assert picture.convert("RGB").getpixel((0, 0)) == tuple(
            bytes.fromhex(classes[float(array[0, 0, 0])][0][1:])
        )


@pytest.mark.parametrize(
    "bands",
    [
        [Band("B2", "blue", 490.0, "W/m2", 1e-4, -0.1, 7, "x < y & z"), Band("B3", nodata=7)],
        [Band("a", nodata=0), Band("b", nodata=(1, (5, 9)))],
        [Band("a", nodata=(0, (250, 255))), Band("b", nodata=(0, (250, 255)))],
        [Band("a", nodata=3), Band("b")],
    ],
)
def test_bands_are_described_again(tmp_path, rng, bands):
    source = ArraySource(natural(rng, (2, 40, 40), "u1"), bands=bands)
    back = round_trip(source, tmp_path / "a.tif")
    assert back.bands == tuple(bands)
    np.testing.assert_array_equal(everything(back).valid, everything(source).valid)


@pytest.mark.parametrize("dtype", ["u1", "f4"])
def test_a_mask_without_nodata_survives(tmp_path, rng, dtype):
    array = natural(rng, (2, 300, 290), dtype)
    mask = rng.random((1, 300, 290)) > 0.3
    mask[:, :120, :100] = False
    back = round_trip(ArraySource(array, mask=mask), tmp_path / "a.tif")
    pixels = everything(back)
    valid = np.broadcast_to(pixels.valid, array.shape)
    np.testing.assert_array_equal(valid, np.broadcast_to(mask, array.shape))
    np.testing.assert_array_equal(pixels.values[valid], array[valid])
    shrunk = back.read([0], whole(back.shape), (150, 145), "area")
    assert not shrunk.valid[0, :60, :50].any()


def test_alpha_survives(tmp_path, rng):
    array, alpha = natural(rng, (3, 40, 40), "u1"), rng.integers(0, 256, (40, 40)).astype("u1")
    back = round_trip(ArraySource(array, alpha=alpha), tmp_path / "a.tif")
    pixels = everything(back)
    np.testing.assert_array_equal(pixels.values, array)
    np.testing.assert_array_equal(pixels.alpha, alpha)


@pytest.mark.parametrize(
    "grid",
    [
        Grid.from_corner((20, 30), x=480000.5, y=7360000, pixel_size=(10, 20), crs="EPSG:32727"),
        Grid((20, 30), ((0.01, 0, -21), (0, -0.01, -24), (0, 0, 1)), "EPSG:4326", True, True),
        Grid((20, 30), ((8, 3, 1e5), (3, -8, 2e5), (0, 0, 1)), "EPSG:32727", True, True),
        Grid((20, 30), ((8, 0, 1e5), (0, 8, 2e5), (0, 0, 1)), None, True, True),
        Grid((20, 30)),
    ],
    ids=["projected", "geographic", "rotated", "y grows with the row", "no place"],
)
def test_grids_survive(tmp_path, grid):
    back = round_trip(ArraySource(np.zeros((1, 20, 30), "u1"), grid=grid), tmp_path / "a.tif")
    assert back.grid.crs_text == grid.crs_text
    assert back.grid == grid


def test_all_headers_stand_at_the_front(tmp_path, rng):
    path = tmp_path / "a.tif"
    write_tiff(ArraySource(rng.integers(0, 9, (2, 2000, 1500)).astype("u2")), path)
    source = open_source(path)
    front = max(
        field.offset + field.length
        for level in source.levels
        for field in level.samples.layout.directory.fields.values()
    )
    first = min(int(level.samples.layout.offsets.min()) for level in source.levels)
    assert front <= first
    assert front < 64 << 10


def test_bigtiff_where_four_gigabytes_may_not_do(tmp_path):
    class Endless(Source):
        """Claims a size, and gives one strip before it stops."""

        def __init__(self):
            self.grid, self.dtype = Grid((40000, 60000)), np.dtype("u2")
            self.bands, self.block_shape = (Band("a"),), (256, 256)

        def read(self, bands, window, size=None, resample="nearest"):
            if window[0][0]:
                raise FormatError("stop here")
            return Pixels(np.zeros((1, *extent(window)), "u2"))

        def blocks(self, bands, window):
            raise NotImplementedError

    seen = []

    def watch(done, total):
        seen.append((tmp_path / ".a.tif.partial").read_bytes()[:8])

    with pytest.raises(FormatError, match="stop here"):
        write_tiff(Endless(), tmp_path / "a.tif", overviews=False, progress=watch)
    assert struct.unpack("<2sHHH", seen[0]) == (b"II", 43, 8, 0)
    assert list(tmp_path.iterdir()) == []  # nothing half-written is left


class Failing(ArraySource):
    def read(self, bands, window, size=None, resample="nearest"):
        if window[0][0] > 0:
            raise KeyboardInterrupt
        return super().read(bands, window, size, resample)


def test_old_file_or_new_one(tmp_path):
    path = tmp_path / "a.tif"
    old = np.zeros((1, 600, 20), "u1")
    write_tiff(ArraySource(old), path)
    with pytest.raises(ExistingFile, match="exists already; overwrite"):
        write_tiff(ArraySource(old + 1), path)
    with pytest.raises(KeyboardInterrupt):
        write_tiff(Failing(old + 1), path, overwrite=True)
    assert not everything(open_source(path)).values.any()
    assert [p.name for p in tmp_path.iterdir()] == ["a.tif"]
    write_tiff(ArraySource(old + 1), path, overwrite=True)
    assert everything(open_source(path)).values.all()


def test_a_file_can_be_rewritten_from_itself(tmp_path, rng):
    path = tmp_path / "a.tif"
    array = natural(rng, (1, 700, 300), "u2")
    write_tiff(ArraySource(array), path, compress="none")
    write_tiff(open_source(path), path, overwrite=True, compress="zstd")
    np.testing.assert_array_equal(everything(open_source(path)).values, array)


def test_two_writers_do_not_mix(tmp_path):
    started, go = threading.Event(), threading.Event()

    def hold(done, total):
        started.set()
        go.wait(10)

    array = np.zeros((1, 600, 20), "u1")
    first = threading.Thread(
        target=write_tiff, args=(ArraySource(array), tmp_path / "a.tif"), kwargs={"progress": hold}
    )
    first.start()
    started.wait(10)
    with pytest.raises(AccessError, match="another process is writing it"):
        write_tiff(ArraySource(array + 1), tmp_path / "a.tif")
    go.set()
    first.join()
    assert not everything(open_source(tmp_path / "a.tif")).values.any()


@pytest.mark.parametrize(
    ("options", "match"),
    [
        ({"compress": "gzip"}, "expected one of deflate, zstd, lzw, none"),
        ({"tile": 100}, "expected 256 or 512"),
        ({"planes": "line"}, "expected chunky or planar"),
    ],
)
def test_wrong_options(tmp_path, options, match):
    with pytest.raises(FormatError, match=match):
        write_tiff(ArraySource(np.zeros((1, 4, 4), "u1")), tmp_path / "a.tif", **options)
    assert list(tmp_path.iterdir()) == []


def test_a_missing_folder_is_told(tmp_path):
    with pytest.raises(AccessError, match="there is no folder"):
        write_tiff(ArraySource(np.zeros((1, 4, 4), "u1")), tmp_path / "no" / "a.tif")


MODES = {
    "1": lambda a: Image.fromarray(a[..., 0] > 128), "L": lambda a: Image.fromarray(a[..., 0]),
    "LA": lambda a: Image.frombytes("LA", (53, 37), a[..., :2].tobytes()),
    "P": lambda a: Image.fromarray(a[..., :3]).quantize(17),
    "RGB": lambda a: Image.fromarray(a[..., :3]), "RGBA": lambda a: Image.fromarray(a),
    "CMYK": lambda a: Image.frombytes("CMYK", (53, 37), a.tobytes()),
    "LAB": lambda a: Image.frombytes("LAB", (53, 37), a[..., :3].tobytes()),
    "I;16": lambda a: Image.fromarray(a[..., 0].astype("u2") * 200),
    "I": lambda a: Image.fromarray(a[..., 0].astype("i4") * -70000),
    "F": lambda a: Image.fromarray(a[..., 0].astype("f4") * 0.37),
}  # fmt: skip


@pytest.mark.parametrize(
    "compression", [None, "tiff_lzw", "tiff_adobe_deflate", "tiff_deflate", "packbits", "zstd"]
)
@pytest.mark.parametrize("mode", MODES)
def test_what_pillow_writes_is_read_equal(tmp_path, rng, mode, compression):
    made = MODES[mode](rng.integers(0, 256, (37, 53, 4), dtype=np.uint8))
    predictors = [{}] if compression in (None, "packbits") or mode == "1" else [{}, {317: 2}]
    for info in predictors:
        held = io.BytesIO()
        made.save(held, "TIFF", compression=compression, tiffinfo=info)
        (tmp_path / "a.tif").write_bytes(held.getvalue())
        pixels = everything(open_source(tmp_path / "a.tif"))
        seen = np.moveaxis(pixels.values, 0, -1)
        if pixels.alpha is not None:
            seen = np.concatenate([seen, pixels.alpha[..., np.newaxis]], -1)
        wanted = np.asarray(Image.open(held))
        np.testing.assert_array_equal(seen[..., 0] if wanted.ndim == 2 else seen, wanted)


@pytest.mark.parametrize("kind", ["plain", "holes", "classes", "separate"])
def test_wide_rows_made_in_parts_are_the_same_file(tmp_path, rng, monkeypatch, kind):
    values = natural(rng, (2, 600, 1300), "u2") + np.uint16(9)
    mask = None
    if kind == "holes":  # in one part alone, so that the others have no weights of their own
        mask = np.ones((1, 600, 1300), bool)
        mask[0, 100:300, 700:900] = False
    look = Look(classes={1.0: ("#112233", "one")}) if kind == "classes" else None
    source = ArraySource(values[:1] % 5 if look else values, mask=mask, look=look)
    planes = "planar" if kind == "separate" else "chunky"
    write_tiff(source, tmp_path / "whole.tif", tile=256, planes=planes)
    monkeypatch.setattr(strips, "_PART_BYTES", 1)
    write_tiff(source, tmp_path / "parts.tif", tile=256, planes=planes)
    assert (tmp_path / "parts.tif").read_bytes() == (tmp_path / "whole.tif").read_bytes()


def test_writing_holds_few_blocks_of_others():
    held = BlockCache(limit=1000)
    for k in range(9):
        held.put(k, np.zeros(100, "u1"))
    with held.narrowed(250):
        assert held.held == 200
        held.put("new", np.zeros(100, "u1"))
        assert held.held == 200
        assert held.get("new") is not None
    assert held.limit == 1000
