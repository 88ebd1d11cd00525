"""netCDF-4, HDF5 and Zarr by the CF conventions: what dimensions, coordinates and flags mean."""

from __future__ import annotations

import functools
import os
import pickle
import signal
import subprocess
import sys
import time

import h5py
import numpy as np
import pytest
import zarr
from tests.conftest import DTYPES, natural

import spectrane as sp
from spectrane.engine.sheltered import sheltered
from spectrane.formats.cf import hdf5, listing
from spectrane.model.errors import DataWarning, FormatError


@pytest.fixture
def netcdf(tmp_path):
    """Write variables into an HDF5 file: name -> (dimensions, values, attributes)."""

    def write(variables, name="a.nc", **options):
        with h5py.File(tmp_path / name, "w") as root:
            root.attrs["Conventions"] = "CF-1.11"
            for key, (dimensions, values, said) in variables.items():
                data = root.create_dataset(key, data=np.asarray(values), **options.get(key, {}))
                data.attrs.update(said)
                if tuple(dimensions) == (key,):
                    data.make_scale(key)
            for key, (dimensions, _, _) in variables.items():
                for axis, dimension in enumerate(dimensions):
                    if dimension in root and dimension != key:
                        root[key].dims[axis].attach_scale(root[dimension])
        return tmp_path / name

    return write


def axis(name, values, **said):
    return (name,), values, said


LAT = axis("lat", [50.0, 49.5, 49.0], units="degrees_north")
LON = axis("lon", [10.0, 10.5, 11.0, 11.5], units="degrees_east")


def test_latitude_and_longitude_place_it(netcdf):
    path = netcdf({"lat": LAT, "lon": LON, "t": (("lat", "lon"), np.ones((3, 4)), {})})
    raster = sp.open(path)
    assert (raster.format, raster.shape) == ("netCDF-4", (1, 3, 4))
    assert raster.grid.bounds == (9.75, 48.75, 11.75, 50.25)
    assert raster.grid.crs_text == "EPSG:4326"


def test_rows_that_go_up_are_drawn_upright(netcdf):
    lat = axis("lat", [49.0, 49.5, 50.0], units="degrees_north")
    values = np.array([[0.0] * 4, [0.5] * 4, [1.0] * 4])
    path = netcdf({"lat": lat, "lon": LON, "t": (("lat", "lon"), values, {})})
    raster = sp.open(path)
    assert raster.grid.bounds == (9.75, 48.75, 11.75, 50.25)
    assert sp.render(raster, sp.Look(limits=(0, 1))).rgba[:, 0, 0].tolist() == [255, 128, 0]


@pytest.mark.parametrize(
    ("mapping", "crs"),
    [
        ({"crs_wkt": None}, "EPSG:32727"),
        ({"grid_mapping_name": "transverse_mercator", "longitude_of_central_meridian": -21.0,
          "scale_factor_at_central_meridian": 0.9996, "false_easting": 5e5,
          "false_northing": 1e7, "latitude_of_projection_origin": 0.0}, None),
        ({"spatial_ref": "a local grid"}, "a local grid"),
    ],
)  # fmt: skip
def test_grid_mappings(netcdf, mapping, crs):
    import pyproj

    if "crs_wkt" in mapping:
        mapping = {"crs_wkt": pyproj.CRS("EPSG:32727").to_wkt()}
    y, x = axis("y", [20.0, 10.0, 0.0], units="m"), axis("x", [5.0, 15.0], units="m")
    path = netcdf({"y": y, "x": x, "crs": ((), 0, mapping),
                   "t": (("y", "x"), np.ones((3, 2)), {"grid_mapping": "crs"})})  # fmt: skip
    raster = sp.open(path)
    assert raster.grid.bounds == (0, -5, 20, 25)
    if crs is None:
        assert raster.grid.crs.coordinate_operation.method_name == "Transverse Mercator"
    else:
        assert raster.grid.crs_text == crs


def test_uneven_coordinates_are_told(netcdf):
    lat = axis("lat", [50.0, 49.5, 48.0], units="degrees_north")
    path = netcdf({"lat": lat, "lon": LON, "t": (("lat", "lon"), np.ones((3, 4)), {})})
    with pytest.warns(DataWarning, match="not evenly spaced"):
        assert not sp.open(path).grid.placed


SPECIAL = [
    ("i2", {"_FillValue": np.int16(-1), "scale_factor": 0.1, "add_offset": 5.0},
     [[-1, 0, 10]], [[None, 5.0, 6.0]]),
    ("i2", {"missing_value": np.int16([-1, -2])}, [[-1, -2, 3]], [[None, None, 3.0]]),
    ("i2", {"valid_range": np.int16([0, 9])}, [[-1, 9, 10]], [[None, 9.0, None]]),
    ("i2", {"valid_min": np.int16(1)}, [[0, 1, 2]], [[None, 1.0, 2.0]]),
    ("f4", {"valid_max": np.float32(2.0)}, [[2.0, 2.5, np.nan]], [[2.0, None, None]]),
    ("i1", {"_Unsigned": "true", "_FillValue": np.int8(-1)}, [[-1, -2, 5]], [[None, 254.0, 5.0]]),
]  # fmt: skip


@pytest.mark.parametrize(("dtype", "said", "stored", "wanted"), SPECIAL)
def test_special_numbers(netcdf, dtype, said, stored, wanted):
    path = netcdf({"t": (("y", "x"), np.array(stored, dtype), said)})
    got = sp.open(path).pixels(physical=True)[0].tolist()
    for have, want in zip(got[0], wanted[0], strict=True):
        assert have == (None if want is None else pytest.approx(want))


@pytest.mark.parametrize("said", [
    {"scale_factor": 0.0}, {"scale_factor": np.nan}, {"scale_factor": 2.0, "add_offset": np.inf},
])  # fmt: skip
def test_a_scale_of_which_no_numbers_come_is_passed_over(netcdf, said):
    path = netcdf({"t": (("y", "x"), np.array([[1, 2]], "i2"), said)})
    with pytest.warns(DataWarning, match="t: scale .* passed over"):
        raster = sp.open(path)
    assert raster.pixels(physical=True)[0].tolist() == [[1.0, 2.0]]
    assert raster.statistics()["max"].tolist() == [2.0]


def test_flags_are_classes(netcdf):
    said = {"flag_values": np.int8([1, 2]), "flag_meanings": "open_sea mud"}
    raster = sp.open(netcdf({"t": (("y", "x"), np.int8([[1, 2]]), said)}))
    assert [label for _, label in raster.look.classes.values()] == ["open sea", "mud"]


def test_a_leading_dimension_is_bands(netcdf, rng):
    cube = natural(rng, (2, 3, 4), "f4")
    wave = axis("wavelength", [0.49, 0.842], units="um", standard_name="radiation_wavelength")
    path = netcdf({"wavelength": wave, "r": (("wavelength", "y", "x"), cube, {"units": "1"})})
    raster = sp.open(path)
    assert [b.wavelength for b in raster.bands] == [490.0, 842.0]
    assert [b.role for b in raster.bands] == ["blue", "nir"]
    np.testing.assert_array_equal(raster.pixels("nir")[0], cube[1])
    time = axis("time", [0.0, 36.0], units="hours since 2026-01-01 00:00:00")
    path = netcdf({"time": time, "r": (("time", "y", "x"), cube, {})}, "b.nc")
    assert [b.name for b in sp.open(path).bands] == ["2026-01-01", "2026-01-02 12:00:00"]


def test_one_variable_is_one_member(netcdf, rng):
    path = netcdf({
        "lat": LAT, "lon": LON,
        "lat_bnds": (("lat", "two"), np.zeros((3, 2)), {}),
        "a": (("lat", "lon"), natural(rng, (3, 4), "i2"), {}),
        "b": (("lat", "lon"), natural(rng, (3, 4), "f4"), {"units": "K"}),
    })  # fmt: skip
    with h5py.File(path, "a") as root:
        root["lat"].attrs["bounds"] = "lat_bnds"
    assert sp.members(path)["name"].tolist() == ["a", "b"]
    assert sp.open(path, member="b").bands[0].unit == "K"


def test_plain_hdf5_groups_and_chunks(tmp_path, rng):
    cube = natural(rng, (6, 40, 50), "u2")
    with h5py.File(tmp_path / "a.h5", "w") as root:
        group = root.create_group("scan/one")
        group.create_dataset("data", data=cube, chunks=(3, 16, 16), compression="gzip")
    raster = sp.open(tmp_path / "a.h5")
    assert (raster.format, raster.bands[0].name) == ("HDF5", "dimension 1 1")
    np.testing.assert_array_equal(
        raster.pixels([5, 1, 2, 5], rows=(3, 30), columns=(10, 44)),
        cube[[4, 0, 1, 4], 3:30, 10:44],
    )
    assert sp.members(tmp_path / "a.h5")["name"].tolist() == ["scan/one/data"]
    again = pickle.loads(pickle.dumps(raster))
    np.testing.assert_array_equal(again.pixels(), cube)


def test_a_chunk_of_several_bands_is_read_once(tmp_path, rng, monkeypatch):
    from spectrane.formats.cf.hdf5 import Hdf5Storage

    with h5py.File(tmp_path / "a.h5", "w") as root:
        root.create_dataset("d", data=natural(rng, (4, 32, 32), "u2"), chunks=(2, 32, 32))
    raster, reads = sp.open(tmp_path / "a.h5"), []
    plain = Hdf5Storage.read
    monkeypatch.setattr(
        Hdf5Storage, "read", lambda self, n, w: (reads.append(w), plain(self, n, w))[1]
    )
    raster.pixels([4, 1, 2])
    assert len(reads) == 2
    raster.pixels()
    assert len(reads) == 3


@pytest.mark.parametrize("version", [2, 3])
def test_zarr_arrays(tmp_path, rng, version):
    root = zarr.open_group(tmp_path / "a.zarr", mode="w", zarr_format=version)
    cube = natural(rng, (2, 30, 40), "i4")
    names = {"dimension_names": ["band", "y", "x"]} if version == 3 else {}
    kept = root.create_array("deep/data", shape=cube.shape, dtype="i4", chunks=(1, 16, 16), **names)
    kept[...] = cube
    kept.attrs.update({"units": "m", "scale_factor": 0.5})
    if version == 2:
        kept.attrs["_ARRAY_DIMENSIONS"] = ["band", "y", "x"]
    raster = sp.open(tmp_path / "a.zarr")
    assert (raster.format, raster.bands[1].name) == ("Zarr", "band 2")
    assert (raster.bands[0].unit, raster.bands[0].scale) == ("m", 0.5)
    np.testing.assert_array_equal(raster.pixels(rows=(10, 20)), cube[:, 10:20])
    np.testing.assert_array_equal(pickle.loads(pickle.dumps(raster)).pixels(), cube)


def test_a_single_zarr_array(tmp_path, rng):
    values = natural(rng, (20, 30), "f8")
    array = zarr.create_array(tmp_path / "one", shape=values.shape, dtype="f8", chunks=(8, 8))
    array[...] = values
    np.testing.assert_array_equal(sp.open(tmp_path / "one").pixels()[0], values)


@pytest.mark.parametrize("ending", [".nc", ".zarr"])
@pytest.mark.parametrize("dtype", [*DTYPES])
def test_what_is_written_is_read_back(tmp_path, rng, utm, ending, dtype):
    array = natural(rng, (2, 70, 90), dtype)
    bands = [sp.Band("blue", wavelength=490.0, unit="K", scale=0.5),
             sp.Band("nir", wavelength=842.0, unit="K", scale=0.5)]  # fmt: skip
    path = tmp_path / f"a{ending}"
    sp.from_array(array, grid=utm, bands=bands).save(path)
    back = sp.open(path)
    assert back.dtype == np.dtype(dtype)
    np.testing.assert_array_equal(back.pixels(), array)
    assert back.grid == utm
    assert [(b.name, b.wavelength, b.unit, b.scale) for b in back.bands] == [
        ("blue", 490.0, "K", 0.5), ("nir", 842.0, "K", 0.5)
    ]  # fmt: skip
    assert "written by Spectrane" in str(back.metadata["history"])
    assert [p.name for p in tmp_path.iterdir()] == [f"a{ending}"]


@pytest.mark.parametrize("ending", [".nc", ".zarr"])
def test_no_data_and_classes_are_kept(tmp_path, ending):
    look = sp.Look(classes={1: ("#112233", "open sea"), 2: ("#445566", "mud")})
    raster = sp.from_array(np.array([[0, 1, 2]], "u1"), nodata=0).with_look(look)
    raster.save(tmp_path / f"a{ending}")
    back = sp.open(tmp_path / f"a{ending}")
    assert back.pixels().tolist() == [[[None, 1, 2]]]
    assert back.look.classes == look.classes
    with pytest.raises(sp.ExistingFile):
        raster.save(tmp_path / f"a{ending}")
    raster.save(tmp_path / f"a{ending}", overwrite=True)


@pytest.mark.parametrize("cut", [600, 2000])
def test_broken_hdf5_is_told(netcdf, cut):
    path = netcdf({"t": (("y", "x"), np.ones((300, 400)), {})})
    path.write_bytes(path.read_bytes()[:cut])
    with pytest.raises(FormatError, match="broken HDF5|cut short|no array"):
        sp.open(path).pixels()


def test_nothing_to_show_is_told(netcdf, tmp_path):
    with pytest.raises(FormatError, match="no array of two dimensions"):
        sp.open(netcdf({"t": (("x",), np.ones(3), {})}))
    zarr.open_group(tmp_path / "e.zarr", mode="w")
    with pytest.raises(FormatError, match="no array of two dimensions"):
        sp.open(tmp_path / "e.zarr")
    (tmp_path / "b.zarr").mkdir()
    (tmp_path / "b.zarr" / "zarr.json").write_text("{broken")
    with pytest.raises(FormatError, match="broken Zarr"):
        sp.open(tmp_path / "b.zarr")


ORDERS = [("lat", "lon"), ("lon", "lat"), ("time", "lon", "lat"), ("lat", "lon", "time"),
          ("lon", "time", "lat")]  # fmt: skip


@pytest.mark.parametrize("dimensions", ORDERS)
@pytest.mark.parametrize("chunked", [False, True])
def test_rows_and_columns_are_found_wherever_they_are_stored(netcdf, rng, dimensions, chunked):
    lengths = {"lat": 3, "lon": 4, "time": 2}
    natural_order = [d for d in ("time", "lat", "lon") if d in dimensions]
    values = rng.integers(0, 99, [lengths[d] for d in natural_order]).astype("i2")
    stored = values.transpose([natural_order.index(d) for d in dimensions])
    chunks = {"t": {"chunks": tuple(min(2, n) for n in stored.shape)}} if chunked else {}
    path = netcdf(
        {"lat": LAT, "lon": LON, "time": axis("time", [0.0, 1.0], units="days since 2031-05-01"),
         "t": (dimensions, stored, {"_FillValue": np.int16(50)})}, **chunks)  # fmt: skip
    raster = sp.open(path)
    assert raster.grid.bounds == (9.75, 48.75, 11.75, 50.25)
    np.testing.assert_array_equal(raster.pixels().data, values.reshape(-1, 3, 4))
    np.testing.assert_array_equal(raster.pixels(rows=(1, 3), columns=(2, 3)).data,
                                  values.reshape(-1, 3, 4)[:, 1:3, 2:3])  # fmt: skip
    assert sp.members(path)[["rows", "columns"]].values.tolist() == [[3, 4]]


def hostile(file):
    data = file.create_dataset("d", data=np.ones((4, 5)))
    references = np.empty(2, object)
    references[0] = np.array([file.ref], h5py.ref_dtype)
    references[1] = np.array([h5py.Reference()], h5py.ref_dtype)
    return data, references


HOSTILE = {
    "a list that is none": lambda d, r: d.attrs.create("DIMENSION_LIST", np.array([1, 2])),
    "labels that are none": lambda d, r: d.attrs.create("DIMENSION_LABELS", np.array([1, 2])),
    "a class that is none": lambda d, r: d.attrs.create("CLASS", np.array([1, 2])),
    "references to nothing": lambda d, r: d.attrs.create(
        "DIMENSION_LIST", r, dtype=h5py.vlen_dtype(h5py.ref_dtype)),
    "flat references": lambda d, r: d.attrs.create(
        "DIMENSION_LIST", np.array([d.ref] * 2, h5py.ref_dtype)),
    "a type nobody reads": lambda d, r: d.attrs.create(
        "odd", np.zeros(3, [("a", "i4"), ("b", "f8")])),
    "a loop": lambda d, r: d.parent.create_group("g").__setitem__("again", d.parent),
}  # fmt: skip


@pytest.mark.parametrize("name", HOSTILE)
def test_attributes_may_say_anything(tmp_path, name):
    with h5py.File(tmp_path / "a.h5", "w") as file:
        HOSTILE[name](*hostile(file))
    code = f"import spectrane as sp; print(sp.open({str(tmp_path / 'a.h5')!r}).pixels().sum())"
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout.strip() == "20.0"


def test_a_file_leads_to_no_other(tmp_path):
    os.mkfifo(tmp_path / "pipe")
    pipe = str(tmp_path / "pipe")
    with h5py.File(tmp_path / "a.h5", "w") as file:
        hostile(file)
        file["linked"] = h5py.ExternalLink(pipe, "/x")
        file["soft"] = h5py.SoftLink("/linked")
        layout = h5py.VirtualLayout((4, 5), "f8")
        layout[:] = h5py.VirtualSource(pipe, "x", (4, 5))
        file.create_virtual_dataset("virtual", layout)
        file.create_dataset("apart", (4, 5), "f8", external=[(pipe, 0, h5py.h5f.UNLIMITED)])
    with pytest.warns(DataWarning, match="3 of its datasets lie in other files"):
        assert sp.members(tmp_path / "a.h5").name.tolist() == ["d"]


def crashing(path):
    os.kill(os.getpid(), signal.SIGSEGV)


def endless(path):
    time.sleep(60)


@pytest.mark.parametrize(
    ("listing_is", "wait", "end"), [(crashing, 20, "crashed"), (endless, 0.5, "did not end")]
)
def test_a_library_that_crashes_or_turns_for_ever_takes_nobody_along(
    tmp_path, rng, monkeypatch, listing_is, wait, end
):
    sp.from_array(rng.random((4, 5))).save(tmp_path / "a.nc")
    sp.open(tmp_path / "a.nc")  # a child waits now
    monkeypatch.setattr(listing, "listed_at", listing_is)
    monkeypatch.setattr(hdf5, "sheltered", functools.partial(sheltered, seconds=wait))
    with pytest.raises(FormatError, match=f"a.nc: broken HDF5: the library that reads it {end}"):
        sp.open(tmp_path / "a.nc")


def test_a_file_written_again_is_listed_anew_while_it_is_open(tmp_path, rng, monkeypatch):
    monkeypatch.chdir(tmp_path)
    for rows in (3, 4, 5):
        sp.from_array(rng.random((rows, 5))).save("a.nc", overwrite=True)
        raster = sp.open("a.nc")
        assert raster.pixels().shape[-2:] == (rows, 5)
