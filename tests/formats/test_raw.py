"""Headerless binaries: arithmetic, near layouts, guesses, and the sidecar that keeps them."""

from __future__ import annotations

import pickle

import numpy as np
import pytest
from tests.conftest import natural

import spectrane as sp
from spectrane.engine.files import open_bytes
from spectrane.formats import raw
from spectrane.formats.keeping import write_sidecar
from spectrane.formats.sidecar_schema import RawTable
from spectrane.model.errors import FormatError

TURNS = {"bsq": (0, 1, 2), "bil": (1, 0, 2), "bip": (1, 2, 0)}


def put(path, array, interleave="bsq", order="little", header=b""):
    little = array.astype(array.dtype.newbyteorder("<" if order == "little" else ">"))
    path.write_bytes(header + np.ascontiguousarray(little.transpose(TURNS[interleave])).tobytes())
    return path


def scene(shape=(3, 120, 170), dtype="u2"):
    """Hills with a little noise: smooth, and different in each band."""
    rng = np.random.default_rng(1)
    y, x = np.mgrid[: shape[1], : shape[2]] / 17.0
    bands = [np.sin(x + k) * np.cos(1.3 * y - k) + 0.3 * np.sin(2.1 * x * y / 7 + k)
             for k in range(shape[0])]  # fmt: skip
    top = 120 if np.dtype(dtype).itemsize == 1 else 9000
    return ((np.stack(bands) + 1.4) * top * 0.7 + rng.normal(0, top / 300, shape)).astype(dtype)


@pytest.mark.parametrize("interleave", TURNS)
@pytest.mark.parametrize("order", ["little", "big"])
@pytest.mark.parametrize("dtype", ["u1", "i2", "u4", "f4", "f8"])
def test_every_layout(tmp_path, rng, interleave, order, dtype):
    array = natural(rng, (3, 20, 31), dtype)
    path = put(tmp_path / "a.bin", array, interleave, order, b"header..")
    table = {"rows": 20, "columns": 31, "bands": 3, "type": np.dtype(dtype).name, "order": order,
             "header": 8, "interleave": interleave}  # fmt: skip
    write_sidecar(str(path), {"raw": table}, None)
    raster = sp.open(path)
    assert (raster.format, raster.dtype) == ("raw", np.dtype(dtype))
    np.testing.assert_array_equal(raster.pixels(), array)
    np.testing.assert_array_equal(
        raster.pixels([2], rows=(5, 8), columns=(3, 4)), array[1:2, 5:8, 3:4]
    )
    assert pickle.loads(pickle.dumps(raster)).shape == array.shape
    assert sp.members(path)["bands"].tolist() == [3]


SIZES = [
    ({"rows": 10, "columns": 30}, 200, "100 bytes too few", "10 rows x 20 columns"),
    ({"rows": 10, "columns": 20}, 400, "200 bytes too many", "x 2 bands"),
    ({"rows": 10, "columns": 20}, 400, "200 bytes too many", "of uint16"),
    ({"rows": 10, "columns": 20, "type": "uint16"}, 200, "200 bytes too few", "of uint8"),
    ({"rows": 10, "columns": 20}, 212, "12 bytes too many", "header of 12 bytes"),
    ({"rows": 7, "columns": 7}, 100, "51 bytes too many", "10 rows x 10 columns"),
]


@pytest.mark.parametrize(("said", "size", "off", "near"), SIZES)
def test_what_does_not_fit_is_told_with_what_would(said, size, off, near):
    with pytest.raises(FormatError, match=off) as caught:
        raw.check_size("a.bin", size, RawTable(**said))
    assert near in str(caught.value)


@pytest.mark.parametrize(
    ("shape", "dtype", "interleave", "order"),
    [
        ((1, 120, 170), "u1", "bsq", "little"),
        ((1, 120, 170), "u2", "bsq", "big"),
        ((3, 120, 170), "u2", "bip", "little"),
        ((3, 120, 170), "u2", "bil", "big"),
        ((4, 90, 160), "u1", "bip", "little"),
        ((1, 120, 170), "f4", "bsq", "little"),
    ],
)
def test_the_smoothest_layout_is_the_right_one(tmp_path, shape, dtype, interleave, order):
    path = put(tmp_path / "a.bin", scene(shape, dtype), interleave, order)
    best = raw.guesses(open_bytes(path), bands=shape[0], type=np.dtype(dtype).name)[0][1]
    assert (best.rows, best.columns) == shape[1:]
    if shape[0] > 1:
        assert best.interleave == interleave
    if np.dtype(dtype).itemsize > 1:
        assert best.order == order


FAULTS = [
    ({"rows": 170, "columns": 120}, ["rows and columns are swapped"]),
    ({"rows": 120, "columns": 170, "order": "big"}, ["the byte order is little, not big"]),
    ({"rows": 120, "columns": 170, "interleave": "bip"}, ["the interleave is bsq, not bip"]),
    ({"rows": 170, "columns": 120, "order": "big", "interleave": "bil"},
     ["rows and columns are swapped", "the byte order is little, not big",
      "the interleave is bsq, not bil"]),
    ({"rows": 120, "columns": 170}, []),
]  # fmt: skip


@pytest.mark.parametrize(("said", "faults"), FAULTS)
def test_each_fault_is_named(tmp_path, said, faults):
    path = put(tmp_path / "a.bin", scene())
    table = RawTable(bands=3, type="uint16", **said)
    found = raw.guesses(
        open_bytes(path), rows=table.rows, columns=table.columns, bands=3, type="uint16"
    )
    assert raw.named_faults(table, found[0][1]) == faults


@pytest.mark.parametrize("interleave", TURNS)
def test_what_is_written_is_read_back(tmp_path, rng, utm, interleave):
    array = natural(rng, (2, 70, 90), "i2")
    bands = [sp.Band("red", unit="1", nodata=-9), sp.Band("nir", nodata=-9)]
    raster = sp.from_array(array, grid=utm, bands=bands)
    raster.save(tmp_path / "a.raw", interleave=interleave, order="big")
    assert (tmp_path / "a.raw").stat().st_size == array.nbytes
    back = sp.open(tmp_path / "a.raw")
    np.testing.assert_array_equal(back.pixels(), array)
    assert back.grid == utm
    assert [b.name for b in back.bands] == ["red", "nir"]
    with pytest.raises(sp.MetadataError, match="interleave"):
        raster.save(tmp_path / "b.raw", interleave="diagonal")


def test_a_sidecar_that_no_longer_fits_is_told(tmp_path):
    path = put(tmp_path / "a.bin", scene((1, 10, 10), "u1"))
    write_sidecar(str(path), {"raw": {"rows": 10, "columns": 10}}, None)
    path.write_bytes(b"x" * 90)
    with pytest.raises(FormatError, match="10 bytes too few"):
        sp.open(path)


def test_an_unknown_file_says_how_to_go_on(tmp_path):
    put(tmp_path / "a.bin", scene((1, 10, 10), "u1"))
    with pytest.raises(FormatError, match="spectrane raw"):
        sp.open(tmp_path / "a.bin")
    (tmp_path / "empty").write_bytes(b"")
    with pytest.raises(FormatError, match="is empty"):
        raw.file_of(tmp_path / "empty")
