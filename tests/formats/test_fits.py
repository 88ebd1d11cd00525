"""FITS 4.0: images of every kind, their meaning, and files that lie."""

from __future__ import annotations

import pickle

import numpy as np
import pytest
from tests.conftest import natural
from tests.formats import fits_builder as made

import spectrane as sp
from spectrane.formats.fits.header import card, parse_cards
from spectrane.model.errors import DataWarning, FormatError


@pytest.fixture
def written(tmp_path):
    def write(*units, name="a.fits"):
        (tmp_path / name).write_bytes(b"".join(units))
        return tmp_path / name

    return write


@pytest.mark.parametrize("code", made.BITS)
def test_every_bitpix(written, rng, code):
    array = natural(rng, (3, 20, 31), code)
    raster = sp.open(written(made.image(array)))
    assert (raster.format, raster.dtype, raster.shape) == ("FITS", np.dtype(code), array.shape)
    np.testing.assert_array_equal(raster.pixels(), array)
    part = raster.pixels([3, 1], rows=(4, 9), columns=(30, 31))
    np.testing.assert_array_equal(part, array[[2, 0], 4:9, 30:31])
    again = pickle.loads(pickle.dumps(raster))
    np.testing.assert_array_equal(again.pixels(2)[0], array[1])


@pytest.mark.parametrize(
    ("code", "zero", "dtype"),
    [
        ("i2", 32768, "uint16"),
        ("i4", 2147483648, "uint32"),
        ("i8", 9223372036854775808, "uint64"),
        ("u1", -128, "int8"),
    ],
)
def test_the_sign_convention_is_exact(written, code, zero, dtype):
    limits = np.iinfo(code)
    stored = np.array([[limits.min, limits.min + 1, 0], [1, limits.max - 1, limits.max]], code)
    extra = [("BSCALE", 1.0), ("BZERO", float(zero)), ("BLANK", int(limits.min))]
    raster = sp.open(written(made.image(stored, extra=extra)))
    assert raster.dtype == dtype
    wanted = [[int(v) + zero for v in row] for row in stored.tolist()]
    assert raster.pixels().data[0].tolist() == wanted
    assert raster.pixels().mask[0].tolist() == [[True, False, stored[0, 0] == 0], [False] * 3]
    assert not raster.bands[0].scaled


def test_scale_blank_and_unit(written):
    stored = np.array([[-32768, 0], [100, 200]], "i2")
    extra = [("BSCALE", 0.5), ("BZERO", 10.0), ("BLANK", -32768), ("BUNIT", "K")]
    raster = sp.open(written(made.image(stored, extra=extra)))
    band = raster.bands[0]
    assert (band.scale, band.offset, band.nodata, band.unit) == (0.5, 10.0, -32768, "K")
    assert raster.pixels(physical=True)[0].tolist() == [[None, 10.0], [60.0, 110.0]]


def test_a_scale_of_0_is_passed_over(written):
    path = written(made.image(np.array([[1, 2]], "i2"), extra=[("BSCALE", 0.0)]))
    with pytest.warns(sp.DataWarning, match="scale 0 and offset 0 are passed over"):
        raster = sp.open(path)
    assert raster.statistics()["max"].tolist() == [2.0]


def test_images_are_members_and_tables_are_not(written, rng):
    first, second = natural(rng, (5, 6), "i2"), natural(rng, (7, 8), "f4")
    line = np.arange(9, dtype="f4")
    path = written(
        made.image(first), made.image(line, first=False),
        made.image(second, first=False, extra=[("EXTNAME", "WEIGHT")]),
    )  # fmt: skip
    table = sp.members(path)
    assert table["member"].tolist() == [1, 2]
    assert table["name"].tolist() == ["", "WEIGHT"]
    assert table[["rows", "columns", "type"]].values.tolist() == [
        [5, 6, "int16"],
        [7, 8, "float32"],
    ]
    for member in ("WEIGHT", 2, "2"):
        np.testing.assert_array_equal(sp.open(path, member=member).pixels()[0], second)
    np.testing.assert_array_equal(sp.open(path).pixels()[0], first)
    with pytest.raises(FormatError, match="no member 'WEIGTH'.*did you mean 'WEIGHT'"):
        sp.open(path, member="WEIGTH")


def test_an_empty_primary_and_four_axes(written, rng):
    array = natural(rng, (2, 3, 5, 6), "i2")
    raster = sp.open(written(made.empty(), made.image(array, first=False)))
    assert raster.shape == (6, 5, 6)
    np.testing.assert_array_equal(raster.pixels(), array.reshape(6, 5, 6))


def test_planes_are_named_by_a_linear_axis(written, rng):
    extra = [("CTYPE3", "FREQ"), ("CUNIT3", "MHz"), ("CRVAL3", 100.0), ("CDELT3", 0.5),
             ("CRPIX3", 2.0)]  # fmt: skip
    raster = sp.open(written(made.image(natural(rng, (3, 4, 4), "i2"), extra=extra)))
    assert [b.name for b in raster.bands] == ["FREQ 99.5 MHz", "FREQ 100 MHz", "FREQ 100.5 MHz"]


def test_the_first_row_is_the_lowest(written):
    array = np.array([[0.0, 0.1], [0.9, 1.0]], "f4")
    raster = sp.open(written(made.image(array)))
    assert raster.grid.y_up
    picture = sp.render(raster, sp.Look(limits=(0, 1)))
    assert picture.rgba[0, 0, 0] > picture.rgba[1, 0, 0]
    np.testing.assert_array_equal(raster.pixels()[0], array)


def test_celestial_axes_are_told(written):
    extra = [("CTYPE1", "RA---TAN"), ("CRVAL1", 83.25), ("CRPIX1", 1.0), ("CDELT1", -0.001)]
    extra += [("CTYPE2", "DEC--TAN"), ("CRVAL2", -21.5), ("CRPIX2", 1.0), ("CDELT2", 0.001)]
    raster = sp.open(written(made.image(np.zeros((2, 2), "i2"), extra=extra)))
    text = str(raster.describe())
    assert "right ascension (RA---TAN), 83.25 deg at pixel 1" in text
    assert "step 0.001 deg = 3.6 arcsec" in text
    assert raster.grid.crs is None


AXES = {
    "no kind": ([("CRVAL1", 2.0), ("CDELT1", 0.5), ("CUNIT1", "mm")],
                "axis 1: linear, 2 mm at pixel 0, step 0.5 mm"),
    "its sign": ([("CTYPE1", "WAVE"), ("CRVAL1", 2.0), ("CDELT1", -0.5)], "at pixel 0, step -0.5"),
    "PC times CDELT": (
        [("CTYPE1", "RA---TAN"), ("CTYPE2", "DEC--TAN"), ("CRVAL1", 8.0), ("CRVAL2", -2.0),
         ("CDELT1", -0.002), ("CDELT2", 0.001), ("PC1_1", 0.6), ("PC1_2", -0.8), ("PC2_1", 0.8),
         ("PC2_2", 0.6)],
        # hypot(-0.002 * 0.6, 0.001 * 0.8)
        "axis 1: right ascension (RA---TAN), 8 deg at pixel 0, step 0.00144222 deg"),
    "a CD matrix": ([("CTYPE1", "RA---TAN"), ("CRVAL1", 8.0), ("CD1_1", 0.003), ("CD2_1", 0.004)],
                    "step 0.005 deg"),
}  # fmt: skip


@pytest.mark.parametrize("name", AXES)
def test_axes_are_told_by_what_stands_in_their_cards(written, name):
    extra, wanted = AXES[name]
    raster = sp.open(written(made.image(np.zeros((2, 2), "i2"), extra=extra)))
    assert wanted in str(raster.describe())


CARDS = [
    (["A       = 'it''s ok  '"], {"A": "it's ok"}),
    (["A       = 'long &'", "CONTINUE  'er&'", "CONTINUE  ' still' / note"],
     {"A": "long er still"}),
    (["A       =                1.5D3"], {"A": 1500.0}),
    (["A       =                    T / yes"], {"A": True}),
    (["A       =                  -7"], {"A": -7}),
    (["A       = "], {"A": None}),
    (["COMMENT one", "COMMENT two"], {"COMMENT": ["one", "two"]}),
    (["HIERARCH OUR OWN KEY = 4"], {"OUR OWN KEY": 4}),
]  # fmt: skip


@pytest.mark.parametrize(("lines", "wanted"), CARDS)
def test_cards(lines, wanted):
    assert parse_cards([one.ljust(80).encode() for one in lines])[0] == wanted


@pytest.mark.parametrize(
    "value", ["short", "it's", "x" * 67, "y" * 68, "z'" * 60, "w" * 500, 3, -2.5, True]
)
def test_cards_come_back(value):
    lines = card("KEY", value)
    assert all(len(one) == 80 for one in lines)
    found, _ = parse_cards([one.encode() for one in lines])
    assert found["KEY"] == value


@pytest.mark.parametrize("code", ["u1", "u2", "u4", "u8", "i1", "i2", "i4", "i8", "f4", "f8", "?"])
def test_what_is_written_is_read_back(tmp_path, rng, code):
    array = natural(rng, (2, 15, 12), "u1" if code == "?" else code).astype(code)
    with pytest.warns(DataWarning, match="upside down"):
        sp.from_array(array).save(tmp_path / "a.fits")
    raster = sp.open(tmp_path / "a.fits")
    assert raster.dtype == (np.dtype("u1") if code == "?" else np.dtype(code))
    np.testing.assert_array_equal(raster.pixels(), array)
    assert len((tmp_path / "a.fits").read_bytes()) % 2880 == 0


@pytest.mark.filterwarnings("ignore::spectrane.DataWarning")
def test_meaning_is_written_and_read_back(tmp_path):
    bands = [sp.Band("red", unit="K", scale=0.01, offset=2.0, nodata=-5),
             sp.Band("nir", unit="K", scale=0.01, offset=2.0, nodata=-5)]  # fmt: skip
    array = np.arange(-6, 6, dtype="i2").reshape(2, 2, 3)
    sp.from_array(array, bands=bands).save(tmp_path / "a.fits")
    back = sp.open(tmp_path / "a.fits")
    assert [(b.name, b.unit, b.scale, b.offset, b.nodata) for b in back.bands] == [
        ("red", "K", 0.01, 2.0, -5), ("nir", "K", 0.01, 2.0, -5)
    ]  # fmt: skip
    assert "written by Spectrane" in " ".join(back.metadata["HISTORY"])
    masked = np.ma.masked_less(np.array([[0.5, -1]], "f4"), 0)
    sp.from_array(masked).save(tmp_path / "b.fits")
    assert sp.open(tmp_path / "b.fits").pixels()[0].tolist() == [[0.5, None]]


def test_a_placed_raster_is_written_upright_and_its_loss_told(tmp_path, utm):
    array = np.arange(70 * 90, dtype="i4").reshape(1, 70, 90)
    with pytest.warns(DataWarning, match="place and coordinate system"):
        sp.from_array(array, grid=utm).save(tmp_path / "a.fits")
    np.testing.assert_array_equal(sp.open(tmp_path / "a.fits").pixels()[0], array[0, ::-1])


GOOD = made.image(np.arange(12, dtype="i2").reshape(3, 4))


def swapped(old, new):
    return GOOD.replace(old.ljust(80).encode(), new.ljust(80).encode())


BROKEN = {
    "cut": (GOOD[:2890], "may be cut short"),
    "no end": (GOOD.replace(b"END ", b"ENT ")[:2880], "past the end|no END"),
    "bitpix": (swapped(made.line("BITPIX", 16), made.line("BITPIX", 17)), "BITPIX: is 17"),
    "negative": (swapped(made.line("NAXIS1", 4), made.line("NAXIS1", -4)), "negative length"),
    "terabytes": (swapped(made.line("NAXIS1", 4), made.line("NAXIS1", 4 * 10**12)), "cut short"),
    "too much": (swapped(made.line("NAXIS1", 4), made.line("NAXIS1", 10**19)), "claims"),
    "axes": (swapped(made.line("NAXIS", 2), made.line("NAXIS", 1000)), "0 to 999"),
    "text for a number": (
        swapped(made.line("NAXIS1", 4), made.line("NAXIS1", "x")),
        "whole number",
    ),
    "no image": (made.empty(), "holds no image"),
}


@pytest.mark.parametrize("name", BROKEN)
def test_each_fault_is_named(written, name):
    data, match = BROKEN[name]
    with pytest.raises(FormatError, match=match):
        sp.open(written(data))
