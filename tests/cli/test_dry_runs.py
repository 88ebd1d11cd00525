"""Dry runs touch nothing and tell the truth; previews; one file's own words."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

import spectrane as sp
from spectrane.display import export
from spectrane.model.errors import GridMismatch
from spectrane.spatial.mosaics.belonging import NOTHING, SEVERAL, belonging


def state(folder: Path) -> dict[str, tuple[int, bytes]]:
    """Return every file below a folder: its time and its bytes."""
    return {str(path): (path.stat().st_mtime_ns, path.read_bytes() if path.is_file() else b"")
            for path in sorted(folder.rglob("*"))}  # fmt: skip


@pytest.fixture
def work(tmp_path, utm, monkeypatch):
    grid = utm.cropped(((0, 60), (0, 80)))
    values = np.random.default_rng(1).integers(1, 200, (3, 60, 80)).astype("u1")
    for name, kind in (("a", "u1"), ("b", "u2")):
        sp.from_array(values.astype(kind), grid=grid).save(tmp_path / f"{name}.tif")
    sp.from_array(values[0]).save(tmp_path / "plain.png")
    sp.volume_from_array(np.arange(216, dtype="i2").reshape(6, 6, 6), affine=np.eye(4)).save(
        tmp_path / "v.nii")  # fmt: skip
    (tmp_path / "a.bin").write_bytes(bytes(range(64)))
    monkeypatch.chdir(tmp_path)
    return tmp_path


DRY = [
    "render a.tif -o o.png", "render a.tif b.tif --out-dir new", "render a.tif -o o.png --bar left",
    "compare a.tif b.tif -o o.png", "histogram a.tif -o o.png", "probe a.tif --pixel-at 1,1 --csv "
    "o.csv", "export a.tif -o o.tif", "export a.tif -o o.tif --type uint16 --bands 2,1",
    "export b.tif -o o.nc", "export b.tif -o o.zarr", "export v.nii -o o.nii",
    "export a.tif b.tif -o o.tif --join", "clip a.tif -o o.tif --row-range 0,9",
    "place plain.png -o o.tif --bounds 0,0,9,9", "mosaic a.tif b.tif -o o.tif --force",
    "overlay a.tif b.tif,opacity=0.5 -o o.png", "slices v.nii -o o.png --size 96x64",
    "slices v.nii -o o.png --plane axial --sequence 3 --size 64x64",
    "page a.tif -o o.html --size 16x16", "page a.tif -o o.kmz --size 16x16",
    "tiles a.tif -o new --zooms 9,11", "amend a.tif --nodata 0", "amend a.tif --nodata 0 --inside",
    "amend a.tif --set title=x", "raw a.bin --rows 8 --columns 8",
]  # fmt: skip


@pytest.mark.filterwarnings("ignore")
@pytest.mark.parametrize("line", DRY)
def test_a_dry_run_touches_nothing_and_tells_what_would_be(line, work, run):
    before = state(work)
    command, *words = line.split()
    status, out, err = run(command, *words, "--dry-run", "--json")
    assert status == 0, err
    assert state(work) == before
    promised = json.loads(out)["results"]
    told = [one for one in promised if one.get("output") and "bytes" in one]
    assert all(one.get("dry_run") for one in told)
    status, out, _ = run(command, *words, "--json")
    kept = json.loads(out)["results"]
    assert [set(one) - {"dry_run", "seconds", "bytes", "bounds"} for one in promised] == [
        set(one) - {"dry_run", "seconds", "bytes", "bounds"} for one in kept]  # fmt: skip
    for one, other in zip(promised, kept, strict=True):
        for key in ("output", "rows", "columns", "shape", "type", "bands", "mask", "crs", "kept"):
            assert one.get(key) == other.get(key), key
        if one.get("output") and command not in ("amend", "raw", "tiles", "page"):
            assert one["bytes"] == pytest.approx(other["bytes"], rel=0.01)
    assert state(work) != before


def test_a_dry_run_refuses_what_the_work_would(work, run):
    (work / "o.tif").write_bytes(b"x")
    assert run("export", "a.tif", "-o", "o.tif", "--dry-run")[0] == 1
    assert run("export", "a.tif", "-o", "missing/o.tif", "--dry-run")[0] == 1
    assert run("amend", "a.tif", "--band", "9:name=x", "--dry-run")[0] == 1
    assert run("amend", "a.tif", "--undo", "--dry-run")[0] == 2
    assert "nothing is written" in run("render", "a.tif", "-o", "new.png", "--dry-run")[1]
    assert (work / "o.tif").read_bytes() == b"x"


def test_large_data_are_reckoned_from_a_sample(work, run, monkeypatch):
    monkeypatch.setattr(export, "_SMALL", 1000)
    monkeypatch.setattr(export, "_TRIED", 32)
    facts = json.loads(run("export", "a.tif", "-o", "o.tif", "--dry-run", "--json")[1])
    one = facts["results"][0]
    assert one["shape"] == [3, 60, 80]
    assert one["bytes"] > 60 * 80 * 3
    assert one["seconds"] >= 0
    assert one["bounds"] == pytest.approx(list(sp.open_raster("a.tif").grid.bounds))


@pytest.mark.filterwarnings("ignore")
@pytest.mark.parametrize("line", [
    "export a.tif -o o.tif --bands 3,2,1", "clip a.tif -o o.tif --row-range 0,30",
    "place plain.png -o o.tif --bounds 0,0,9,9", "mosaic a.tif b.tif -o o.tif --force",
])  # fmt: skip
def test_previews_of_before_and_after_without_the_output(line, work, run):
    command, *words = line.split()
    assert run(command, *words, "--preview", "p.png", "--dry-run")[0] == 0
    assert not (work / "o.tif").exists()
    with Image.open("p.png") as dry:
        first = np.asarray(dry.convert("RGB"))
    assert run(command, *words, "--preview", "p.png", "--overwrite")[0] == 0
    with Image.open("p.png") as kept:
        np.testing.assert_array_equal(np.asarray(kept.convert("RGB")), first)


def half(value, x, *, nodata=None):
    grid = sp.Grid.from_corner((40, 40), x=x, y=40, pixel_size=1, crs="EPSG:32727")
    values = np.full((40, 40), value, "u2") + np.random.default_rng(2).integers(0, 9, (40, 40),
                                                                                 "u2")  # fmt: skip
    return sp.from_array(values, grid=grid, nodata=nodata)


@pytest.mark.parametrize(
    ("rule", "owners"),
    [("top", (0, 1, 1)), ("bottom", (0, 0, 1)), ("average", (0, SEVERAL, 1)),
     ("feather", (0, SEVERAL, 1)), ("seam", (0, None, 1))],
)  # fmt: skip
@pytest.mark.parametrize("size", [1024, 50])
def test_which_file_lies_where(rule, owners, size):
    joined = sp.mosaic([half(100, 0), half(100, 30)], rule=rule)
    found = belonging(joined._source, (size, size))
    scale = 70 / found.owners.shape[1]
    for column, owner in zip((10, 35, 60), owners, strict=True):
        here = found.owners[:, int(column / scale)]
        assert set(here.tolist()) == {owner} if owner is not None else set(here.tolist()) <= {0, 1}
    assert NOTHING not in found.owners


@pytest.mark.parametrize(
    ("values", "balance", "stands"), [((100, 100), None, False), ((100, 140), None, True),
                                      ((100, 140), "gain", False)],
)  # fmt: skip
def test_what_remains_at_a_seam(values, balance, stands, run, tmp_path):
    paths = []
    for number, (value, x) in enumerate(zip(values, (0, 30), strict=True)):
        paths.append(tmp_path / f"{number}.tif")
        half(value, x).save(paths[-1])
    rasters = [sp.open_raster(path) for path in paths]
    table = sp.seams(sp.mosaic(rasters, balance=balance))
    assert table["pixels"].tolist() == [40]
    if balance is None:
        assert table["step"].iloc[0] == pytest.approx(values[1] - values[0], abs=2)
    assert ("a seam stands out" in table.attrs["verdict"]) == stands
    more = [] if balance is None else ["--balance", balance]
    facts = json.loads(run("mosaic", *paths, "-o", tmp_path / "m.tif", "--preview", tmp_path /
                           "p.png", "--json", *more)[1])["results"][0]  # fmt: skip
    assert ("no seam stands out" in facts["verdict"]) != stands
    with pytest.raises(GridMismatch, match="what mosaic returns"):
        sp.seams(rasters[0])


def test_what_is_said_of_one_file_alone(run, tmp_path):
    paths = []
    for number, fill in enumerate((0, 250)):
        values = np.full((20, 20), 100 + number, "u1")
        values[:5] = fill
        paths.append(tmp_path / f"{number}.tif")
        grid = sp.Grid.from_corner((20, 20), x=0, y=20, pixel_size=1, crs="EPSG:32727")
        sp.from_array(values, grid=grid).save(paths[-1])
    said = [f"{paths[0]},nodata=0", f"{paths[1]},nodata=250,opacity=0.5,limits=0,200,name=two"]
    status, out, err = run("overlay", *said, "-o", tmp_path / "o.png", "--json")
    layers = json.loads(out)["results"][0]["layers"]
    assert (status, [(one["name"], one["opacity"]) for one in layers]) == (
        0, [("0.tif", 1.0), ("two", 0.5)]), err  # fmt: skip
    assert "0 to 200" in layers[1]["scales"][0]
    picture = np.asarray(Image.open(tmp_path / "o.png"))
    assert (picture[:5, :, 3] == 0).all()
    assert run("mosaic", said[0], f"{paths[1]},nodata=250", "-o", tmp_path / "m.tif")[0] == 0
    joined = sp.open_raster(tmp_path / "m.tif").pixels()
    assert joined.mask[0, :5].all()
    assert (joined[0, 5:] == 101).all()
    for wrong in (f"{paths[0]},nodat=0", f"{paths[0]},opacity=much", f"{paths[0]},limits=x"):
        assert run("overlay", wrong, "-o", tmp_path / "x.png")[0] == 2
