"""NumPy files: mapped arrays, archives, and headers that lie."""

from __future__ import annotations

import io
import pickle
import zipfile

import numpy as np
import pytest
from tests.conftest import DTYPES, natural

import spectrane as sp
from spectrane.model.errors import ChangedFile, FormatError


def saved(array, **options):
    file = io.BytesIO()
    np.save(file, array, **options)
    return file.getvalue()


@pytest.mark.parametrize("dtype", [*DTYPES, "?", ">u2", ">f4"])
@pytest.mark.parametrize("order", ["C", "F"])
def test_arrays_of_every_type(tmp_path, rng, dtype, order):
    array = natural(rng, (3, 20, 31), "u1" if dtype == "?" else np.dtype(dtype).newbyteorder("="))
    array = np.asarray(array.astype(dtype), order=order)
    np.save(tmp_path / "a.npy", array)
    raster = sp.open(tmp_path / "a.npy")
    assert raster.dtype == np.dtype(dtype).newbyteorder("=")
    np.testing.assert_array_equal(raster.pixels(), array)
    np.testing.assert_array_equal(
        raster.pixels([2], rows=(5, 8), columns=(1, 9)), array[1:2, 5:8, 1:9]
    )
    assert pickle.loads(pickle.dumps(raster)).shape == array.shape


def test_two_dimensions_are_one_band_and_one_is_none(tmp_path):
    np.save(tmp_path / "a.npy", np.zeros((4, 5)))
    assert sp.open(tmp_path / "a.npy").shape == (1, 4, 5)
    np.save(tmp_path / "b.npy", np.zeros(4))
    with pytest.raises(FormatError, match=r"shape \(4,\); expected \(rows, columns\)"):
        sp.open(tmp_path / "b.npy")


@pytest.mark.parametrize("save", [np.savez, np.savez_compressed])
def test_the_arrays_of_an_archive(tmp_path, rng, save):
    depth, cube = natural(rng, (6, 7), "f4"), natural(rng, (2, 3, 4), "u2")
    save(tmp_path / "a.npz", line=np.arange(3), depth=depth, cube=cube, text=np.array("x"))
    assert sp.members(tmp_path / "a.npz")["name"].tolist() == ["depth", "cube"]
    np.testing.assert_array_equal(sp.open(tmp_path / "a.npz").pixels()[0], depth)
    raster = sp.open(tmp_path / "a.npz", member="cube")
    np.testing.assert_array_equal(raster.pixels(), cube)
    np.testing.assert_array_equal(pickle.loads(pickle.dumps(raster)).pixels(), cube)


def test_what_is_written_is_read_back_with_its_meaning(tmp_path, utm):
    array = np.arange(2 * 70 * 90, dtype="f4").reshape(2, 70, 90)
    array[0, 0, 0] = np.nan
    bands = [sp.Band("depth", unit="m"), sp.Band("nir", wavelength=842.0)]
    sp.from_array(array, grid=utm, bands=bands).save(tmp_path / "a.npy")
    np.testing.assert_array_equal(np.load(tmp_path / "a.npy"), array)
    back = sp.open(tmp_path / "a.npy")
    assert (back.grid.bounds, back.grid.crs_text) == (utm.bounds, "EPSG:32727")
    assert [(b.name, b.unit, b.role) for b in back.bands] == [
        ("depth", "m", None), ("nir", None, "nir")
    ]  # fmt: skip


def test_masked_integers_get_their_no_data(tmp_path):
    masked = np.ma.masked_equal(np.array([[1, 2, 3]], "i2"), 2)
    sp.from_array(masked, nodata=-1).save(tmp_path / "a.npy")
    assert np.load(tmp_path / "a.npy").tolist() == [[[1, -1, 3]]]


def test_a_file_that_changes_is_an_error(tmp_path):
    np.save(tmp_path / "a.npy", np.zeros((4, 5)))
    raster = sp.open(tmp_path / "a.npy")
    np.save(tmp_path / "a.npy", np.zeros((4, 50)))
    with pytest.raises(ChangedFile, match="changed after it was opened"):
        raster.pixels()


GOOD = saved(np.arange(20.0).reshape(4, 5))


@pytest.mark.parametrize(
    ("data", "match"),
    [
        (GOOD[:-8], "cut short"),
        (GOOD[:40], "past the end"),
        (GOOD.replace(b"(4, 5)", b"(4, x)"), "cannot be read"),
        (GOOD.replace(b"(4, 5), ", b"(0, 5), "), "shape"),
        (GOOD.replace(b"'<f8'", b"'|O'  "), "an array of object"),
        (GOOD.replace(b"'<f8'", b"'<c16'"), "complex128|past the end"),
        (GOOD[:6] + b"\x09" + GOOD[7:], "NPY version 9"),
        (GOOD[:8] + b"\xff\xff" + GOOD[10:], "past the end"),
        (GOOD.replace(b"(4, 5)", b"__import__('os')")[:90], "past the end|cannot be read"),
    ],
)
def test_each_fault_is_named(tmp_path, data, match):
    (tmp_path / "a.npy").write_bytes(data)
    with pytest.raises(FormatError, match=match):
        sp.open(tmp_path / "a.npy").pixels()


def test_an_archive_that_claims_too_much(tmp_path):
    with zipfile.ZipFile(tmp_path / "a.npz", "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("a.npy", GOOD)
    data = (tmp_path / "a.npz").read_bytes()
    (tmp_path / "cut.npz").write_bytes(data[: len(data) - 30])
    with pytest.raises(FormatError, match=r"expected an \.npz"):
        sp.open(tmp_path / "cut.npz")
    wrong = data.replace(b"a.npy", b"b.txt")
    (tmp_path / "none.npz").write_bytes(wrong)
    with pytest.raises(FormatError, match="is an archive"):
        sp.open(tmp_path / "none.npz")


def test_pixels_of_elsewhere_come_by_rows(rng):
    import fsspec

    array = natural(rng, (2, 30, 40), ">u2")
    with fsspec.open("memory://flat.npy", "wb") as file:
        file.write(saved(array))
    raster = sp.open("memory://flat.npy")
    np.testing.assert_array_equal(raster.pixels(rows=(3, 9), columns=(5, 6)), array[:, 3:9, 5:6])
