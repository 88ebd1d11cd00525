"""Tile-compressed FITS images, made here from the standard's words and read back."""

from __future__ import annotations

import gzip

import imagecodecs
import numpy as np
import pytest
from tests.conftest import natural
from tests.formats import fits_builder as made

import spectrane as sp
from spectrane.formats.fits.compressed import dither
from spectrane.formats.fits.hcompress import unpacked
from spectrane.kernels import choice
from spectrane.model.errors import FormatError


def rows_of(array):
    return [np.ascontiguousarray(row) for row in array.reshape(-1, array.shape[-1])]


def rice(row):
    return bytes(imagecodecs.rcomp_encode(row, nblock=32))


def gzipped(row):
    return gzip.compress(row.astype(row.dtype.newbyteorder(">")).tobytes())


def shuffled(row):
    raw = row.astype(row.dtype.newbyteorder(">")).tobytes()
    planes = np.frombuffer(raw, np.uint8).reshape(len(row), row.dtype.itemsize).T
    return gzip.compress(np.ascontiguousarray(planes).tobytes())


def opened(tmp_path, unit):
    (tmp_path / "a.fits").write_bytes(made.empty() + unit)
    return sp.open(tmp_path / "a.fits")


PACK = {"RICE_1": rice, "GZIP_1": gzipped, "GZIP_2": shuffled}


@pytest.mark.parametrize("method", PACK)
@pytest.mark.parametrize(("code", "bits"), [("u1", 8), ("i2", 16), ("i4", 32)])
@pytest.mark.parametrize("shape", [(9, 40), (3, 5, 33)])
def test_integers_row_by_row(tmp_path, rng, method, code, bits, shape):
    array = natural(rng, shape, code)
    cells = [PACK[method](row) for row in rows_of(array)]
    extra = [("ZCMPTYPE", method), ("ZNAME1", "BYTEPIX"), ("ZVAL1", array.itemsize)]
    raster = opened(tmp_path, made.table(cells, shape, bits, extra=extra))
    assert raster.dtype == np.dtype(code)
    np.testing.assert_array_equal(raster.pixels(), array.reshape(-1, *shape[-2:]))
    part = raster.pixels(rows=(2, 4), columns=(7, 30))
    np.testing.assert_array_equal(part, array.reshape(-1, *shape[-2:])[:, 2:4, 7:30])
    assert raster.metadata["compression"] == method


def test_tiles_with_short_ones_at_the_edge(tmp_path, rng):
    array = natural(rng, (10, 25), "i2")
    cells = [gzipped(array[r : r + 4, c : c + 10].ravel()) for r in (0, 4, 8) for c in (0, 10, 20)]
    unit = made.table(cells, (10, 25), 16, tile=(4, 10), extra=[("ZCMPTYPE", "GZIP_1")])
    np.testing.assert_array_equal(opened(tmp_path, unit).pixels()[0], array)


def test_unsigned_by_convention(tmp_path):
    array = np.array([[0, 1, 65535, 40000]], "u2")
    stored = (array.astype("i4") - 32768).astype("i2")
    extra = [("ZCMPTYPE", "RICE_1"), ("ZNAME1", "BYTEPIX"), ("ZVAL1", 2), ("BZERO", 32768.0)]
    raster = opened(tmp_path, made.table([rice(stored[0])], (1, 4), 16, extra=extra))
    assert raster.dtype == np.uint16
    np.testing.assert_array_equal(raster.pixels()[0], array)


@pytest.mark.parametrize("method", ["NO_DITHER", "SUBTRACTIVE_DITHER_1", "SUBTRACTIVE_DITHER_2"])
def test_quantised_floats(tmp_path, rng, method):
    wanted = rng.normal(50, 9, (6, 700)).astype("f4")
    wanted[2, 5] = 0.0
    scale, zero, seed = 0.25, 12.0, 37
    cells, scales, zeros = [], [], []
    for number, row in enumerate(wanted):
        noise = dither(number, seed, 700) - 0.5 if method != "NO_DITHER" else 0
        stored = np.round((row - zero) / scale + noise).astype("i4")
        stored[9] = -(2**31) + 1
        if method.endswith("2"):
            stored[row == 0] = -(2**31) + 2
        cells.append(rice(stored))
        scales.append(np.array(scale, ">f8").tobytes())
        zeros.append(np.array(zero, ">f8").tobytes())
    unit = made.table(
        cells, (6, 700), -32, columns=[("ZSCALE", "1D", scales), ("ZZERO", "1D", zeros)],
        extra=[("ZCMPTYPE", "RICE_1"), ("ZQUANTIZ", method), ("ZDITHER0", seed)],
    )  # fmt: skip
    got = opened(tmp_path, unit).pixels()[0]
    assert got.mask[:, 9].all()
    assert got.mask.sum() == 6
    assert np.abs(got - wanted).max() <= scale / 2 + 1e-5
    if method.endswith("2"):
        assert got[2, 5] == 0.0


def test_floats_without_loss(tmp_path, rng):
    wanted = rng.normal(0, 1, (3, 20)).astype("f4")
    empty = [b""] * 3
    packed = [gzipped(row) for row in wanted]
    # A second variable-length column whose heap lies after nothing: put the data there.
    rows, heap = [], b""
    for cell in packed:
        rows.append(np.array([len(cell), len(heap)], ">i4").tobytes())
        heap += cell
    unit = made.table(
        empty, (3, 20), -32, columns=[("GZIP_COMPRESSED_DATA", "1PB(999)", rows)],
        extra=[("ZCMPTYPE", "GZIP_1")],
    )  # fmt: skip
    body = unit[: len(unit) // 2880 * 2880]
    start = body.index(b"END".ljust(80)) // 2880 * 2880 + 2880
    table = b"".join(np.array([0, 0], ">i4").tobytes() + row for row in rows)
    head = body[:start].replace(
        made.line("PCOUNT", 0).encode(), made.line("PCOUNT", len(heap)).encode()
    )
    raster = opened(tmp_path, head + made.data(table + heap))
    np.testing.assert_array_equal(raster.pixels()[0], wanted)


def test_the_dither_is_the_standards():
    first = dither(0, 1, 3)
    np.testing.assert_allclose(
        first, [0.0, 0, 0], atol=1
    )  # numbers of 0 to 1; the generator checks its own last seed (appendix I)
    assert len(dither(3, 1, 25000)) == 25000
    assert (dither(0, 2, 10) == dither(1, 1, 10)).all()


GOOD_ROW = np.arange(40, dtype="i2")


@pytest.mark.parametrize(
    ("unit", "match"),
    [
        (made.table([b"x"], (1, 40), 16, extra=[("ZCMPTYPE", "PLIO_1")]), "PLIO_1: not supported"),
        (made.table([b"junk"], (1, 40), 16, extra=[("ZCMPTYPE", "GZIP_1")]), "tile 1"),
        (made.table([b""], (1, 40), 16, extra=[("ZCMPTYPE", "GZIP_1")]), "has no data"),
        (made.table([gzipped(GOOD_ROW[:9])], (1, 40), 16, extra=[("ZCMPTYPE", "GZIP_1")]), "holds"),
        (made.table([b"x"], (1, 40), 16, tile=(1, 10**10), extra=[("ZCMPTYPE", "GZIP_1")]),
         "claims tiles"),
        (made.table([gzipped(GOOD_ROW)], (1, 40), 16, extra=[("ZCMPTYPE", "GZIP_1")])[:-2880],
         "cut short"),
        (made.table([b"x"], (1, 40), 17, extra=[("ZCMPTYPE", "GZIP_1")]), "ZBITPIX"),
    ],
)  # fmt: skip
def test_each_fault_is_named(tmp_path, unit, match):
    with pytest.raises(FormatError, match=match):
        opened(tmp_path, unit).pixels()


@pytest.mark.parametrize("form", ["numpy", "loop"])
@pytest.mark.parametrize("shape", [(4, 4), (5, 7), (16, 10), (7, 33), (1, 9)])
def test_hcompress_is_exact(shape, form, rng):
    choice.force(form)
    for low, high in ((0, 100), (-5000, 5000), (0, 2)):
        array = rng.integers(low, high, shape)
        for direct in ((), (0, 2), range(30)):
            packed = made.hcompressed(array, direct=direct)
            np.testing.assert_array_equal(unpacked(packed, array.size).reshape(shape), array)


def test_hcompress_tiles_of_a_file(tmp_path, rng):
    array = np.add.outer(np.arange(32) * 90, np.arange(40) * 25) + rng.integers(0, 9, (32, 40))
    for scale, off in ((1, 0), (8, 8)):
        cells = [made.hcompressed(array[k : k + 16], scale) for k in (0, 16)]
        extra = [("ZCMPTYPE", "HCOMPRESS_1"), ("ZNAME1", "SCALE"), ("ZVAL1", scale)]
        path = tmp_path / f"{scale}.fits"
        path.write_bytes(made.empty() + made.table(cells, array.shape, 16, tile=(16, 40),
                                                   extra=extra))  # fmt: skip
        found = sp.open(path).pixels()[0].astype(int)
        assert np.abs(found - array).max() <= off
    for cut in (b"", cells[0][:30], b"\0" * 90):
        path.write_bytes(made.empty() + made.table([cut, cells[1]], array.shape, 16, tile=(16, 40),
                                                   extra=extra))  # fmt: skip
        with pytest.raises(sp.FormatError, match="compressed tile 1"):
            sp.open(path).pixels()
