"""A folder is looked through by content; what is broken is listed and stops nothing."""

from __future__ import annotations

import numpy as np
import pytest

import spectrane as sp
from spectrane.model.errors import FormatError
from spectrane.surveying import surveyed_files


@pytest.fixture
def folder(tmp_path, rng, utm):
    deep = tmp_path / "deep" / "er"
    deep.mkdir(parents=True)
    array = rng.integers(0, 255, (3, 70, 90)).astype("u1")
    raster = sp.from_array(array, grid=utm)
    raster.save(deep / "a.tif")
    (deep / "a.tif").rename(deep / "no ending")
    sp.from_array(array[0]).save(tmp_path / "b.png")
    np.savez(tmp_path / "c.npz", one=array, two=array[0])
    raster.save(tmp_path / "d.zarr")
    (tmp_path / "text.tif").write_text("not a raster at all")
    (tmp_path / "cut.tif").write_bytes((deep / "no ending").read_bytes()[:300])
    (tmp_path / "raw.bin").write_bytes(b"x" * 600)
    (tmp_path / "raw.bin.spectrane.toml").write_text("[raw]\nrows = 20\ncolumns = 30\n")
    (tmp_path / "bad.npy").write_bytes(b"\x93NUMPY\x09\0")
    return tmp_path


def test_every_raster_is_found_by_its_content(folder):
    found = {one.path.removeprefix(str(folder) + "/"): one for one in surveyed_files(folder)}
    assert sorted(found) == ["b.png", "bad.npy", "c.npz", "cut.tif", "d.zarr", "deep/er/no ending",
                             "raw.bin"]  # fmt: skip
    tiff = found["deep/er/no ending"]
    assert (tiff.format, tiff.rows, tiff.columns, tiff.bands, tiff.type, tiff.crs) == (
        "TIFF", 70, 90, 3, "uint8", "EPSG:32727"
    )  # fmt: skip
    assert found["c.npz"].members == 2
    assert found["d.zarr"].format == "Zarr"
    assert (found["raw.bin"].format, found["raw.bin"].columns) == ("raw", 30)


def test_broken_ones_are_listed_with_the_reason(folder):
    problems = {one.path[len(str(folder)) + 1 :]: one.problem for one in surveyed_files(folder)}
    assert "past the end of the file" in problems["cut.tif"]
    assert problems["bad.npy"]
    assert sum(bool(text) for text in problems.values()) == 2


def test_what_is_unusual_is_told(tmp_path, rng, utm):
    bands = [sp.Band("blue", role="blue"), sp.Band("green", role="green"),
             sp.Band("red", role="red")]  # fmt: skip
    sp.from_array(rng.integers(0, 9, (3, 70, 90)), grid=utm, bands=bands).save(tmp_path / "a.tif")
    assert "not stored in display order" in surveyed_files(tmp_path)[0].unusual[0]


def test_the_table_and_its_progress(folder):
    seen = []
    table = sp.survey(folder, progress=lambda done, total: seen.append((done, total)))
    assert len(table) == 7
    assert {"path", "format", "rows", "columns", "bands", "type", "problem"} <= set(table.columns)
    assert seen[-1][0] == seen[-1][1]
    assert sp.survey(folder / "deep").shape[0] == 1


def test_what_is_no_folder_is_told(tmp_path):
    with pytest.raises(FormatError, match="is not a folder"):
        surveyed_files(tmp_path / "none")


def test_hundreds_of_files_are_each_found(tmp_path, rng):
    sp.from_array(rng.integers(0, 255, (60, 60)).astype("u1")).save(tmp_path / "a.tif")
    data = (tmp_path / "a.tif").read_bytes()
    for number in range(300):
        (tmp_path / f"{number}.tif").write_bytes(data)
    assert len(surveyed_files(tmp_path)) == 301
