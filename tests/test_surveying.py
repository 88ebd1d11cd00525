"""A folder is looked through by content; what is broken is listed and stops nothing."""

from __future__ import annotations

import numpy as np
import pytest
from tests.formats import dicom_builder

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


def dicom(folder, name, *, series, z=None, modality="CT", frames=None, more=(), broken=False):
    """Write a file of a series: a slice at z, a picture without a place, or one of many frames."""
    given = [(0x00080060, "CS", modality), (0x0020000E, "UI", f"1.2.{series}"),
             (0x00200011, "IS", str(series)), (0x00080018, "UI", f"1.2.{series}.{name}"),
             (0x00280030, "DS", "1\\1"), *more]  # fmt: skip
    if z is not None:
        given += [(0x00200032, "DS", f"0\\0\\{z}"), (0x00200037, "DS", "1\\0\\0\\0\\1\\0")]
    pixels = np.zeros((frames, 6, 5) if frames else (6, 5), "i2")
    data = dicom_builder.image(pixels, more=given, frames=frames)
    (folder / name).write_bytes(data[:-40] if broken else data)


def test_every_series_of_a_loose_folder_is_listed(run, tmp_path):
    """A radiograph, an image of many frames, a single slice, a localiser, and uneven ones."""
    for k in range(4):
        dicom(tmp_path, f"a{k}", series=1, z=2 * k)
    for k, z in enumerate([0, 5, 10, 15, 20, 25, 30, 35, 40, 42.5, 45, 47.5, 50]):
        dicom(tmp_path, f"b{k}", series=2, z=z)
    dicom(tmp_path, "radiograph", series=3, modality="DX")
    dicom(tmp_path, "many", series=4, modality="US", frames=3)
    dicom(tmp_path, "single", series=5, z=7)
    dicom(tmp_path, "spoiled", series=6, z=1, broken=True)
    found = {row["name"]: row for row in sp.survey_rows(tmp_path)}
    said = {name: (row["planes"], row["problem"]) for name, row in found.items() if name}
    assert said == {"CT series 2 (13 slices)": (13, ""), "CT series 1 (4 slices)": (4, ""),
                    "US series 4 (3 slices)": (3, ""), "DX series 3 (1 slice)": (None, ""),
                    "CT series 5 (1 slice)": (1, "")}  # fmt: skip
    uneven = next(row for row in found.values() if row["name"].startswith("CT series 2"))
    assert uneven["unusual"][0].startswith("pitch changes from 5 to 2.5 mm at z = 40;")
    assert found[""]["path"].endswith("spoiled")
    assert "may be cut short" in found[""]["problem"]
    assert [row["member"] for row in found.values()].count(None) == 4
    assert found["DX series 3 (1 slice)"]["path"].endswith("radiograph")
    out = run("survey", tmp_path)[1]
    assert "., 1: CT series 2 (13 slices)" in out
    assert "1 of them broken" in out
    (tmp_path / "spoiled").unlink()
    assert sp.open(tmp_path, member="DX series 3 (1 slice)").shape == (1, 6, 5)


GAPS = [  # places of slices; what is said of them
    ([0, 1, 2, 3, 5, 7, 9], "pitch changes from 1 to 2 mm at z = 3"),
    ([0, 1, 2, 5, 8, 9, 10], "pitch changes from 1 to 3 mm at z = 2, and from 3 to 1 mm at z = 8"),
    ([0, 1, 2, 4, 5, 6], "1 is missing"), ([0, 1, 2.4, 3, 4.9, 6], "gaps from"),
]  # fmt: skip


@pytest.mark.parametrize(("places", "said"), GAPS)
def test_uneven_slices_are_told_as_what_they_are(tmp_path, places, said):
    for k, z in enumerate(places):
        dicom(tmp_path, f"{k:03}", series=1, z=z)
    with pytest.raises(sp.FormatError, match=said) as error:
        sp.open(tmp_path)
    assert len(str(error.value).splitlines()) < 20


def test_long_tables_of_positions_are_shortened(tmp_path):
    rng = np.random.default_rng(4)
    for k, z in enumerate(np.cumsum(rng.uniform(1, 2, 90))):
        dicom(tmp_path, f"{k:03}", series=1, z=round(float(z), 4))
    with pytest.raises(sp.FormatError, match=r"… and \d+ more uneven ones$") as error:
        sp.open(tmp_path)
    assert len(str(error.value).splitlines()) < 20
