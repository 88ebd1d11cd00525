"""A volume as a person uses it: frames, parts, another grid, files, what it says of itself."""

from __future__ import annotations

import json
import pickle

import numpy as np
import pytest
from scipy.ndimage import map_coordinates

import spectrane as sp
from spectrane.model.patient import directions, oblique
from spectrane.surveying import surveyed_files

AFFINE = np.array([[-2.0, 0, 0, 30], [0, 0, 1.5, -20], [0, 3, 0, -10], [0, 0, 0, 1]])


@pytest.fixture
def stored(rng):
    """Two frames of (i, j, k) with fill, and what they are."""
    values = rng.integers(-500, 500, (2, 9, 8, 7)).astype("i2")
    values[0, :3, 2, 4:] = -999
    return values


@pytest.fixture
def volume(stored):
    frames = [sp.Frame("density", "HU", 0.5, -100.0), sp.Frame("count")]
    return sp.volume_from_array(stored, affine=AFFINE, frames=frames, nodata=-999)


def test_it_says_what_it_is(volume, stored):
    assert (volume.shape, volume.spacing, volume.dtype) == ((2, 9, 8, 7), (2, 3, 1.5), "i2")
    assert volume.frames == (sp.Frame("density", "HU", 0.5, -100.0), sp.Frame("count"))
    assert directions(volume.grid) == (
        "right to left", "inferior to superior", "posterior to anterior")  # fmt: skip
    facts = volume.describe(statistics=True).to_dict()
    assert [frame["unit"] for frame in facts["frames"]] == ["HU", None]
    assert facts["reach_mm"] == [[13, -20.75, -11.5], [31, -10.25, 12.5]]
    assert facts["statistics"][0]["invalid"] == 9
    text = str(volume.describe())
    assert "i runs right to left" in text
    assert "L 13 to R 31, P -20.75 to A -10.25, I -11.5 to S 12.5 mm" in text
    assert "Oblique" not in text
    turn = np.eye(4)
    turn[:2, :2] = [[np.cos(0.2), -np.sin(0.2)], [np.sin(0.2), np.cos(0.2)]]
    leaning = sp.volume_from_array(stored, affine=turn @ AFFINE)
    assert oblique(leaning.grid) == pytest.approx(np.degrees(0.2))
    assert "11.5 degrees off" in str(leaning.describe())


def test_voxels_frames_and_parts(volume, stored):
    valid = stored[0] != -999
    physical = volume.voxels("density")
    np.testing.assert_array_equal(physical.mask, ~valid)
    np.testing.assert_array_equal(physical.data[valid], stored[0][valid] * 0.5 - 100)
    part = volume.crop(i=(1, 6), k=(2, 7)).select(["count", 1])
    assert [frame.name for frame in part.frames] == ["count", "density"]
    np.testing.assert_array_equal(
        part.voxels(2, j=(2, 5), physical=False).data, stored[0][1:6, 2:5, 2:7]
    )
    place = AFFINE @ [1, 0, 2, 1]
    np.testing.assert_allclose(part.affine[:, 3], place)
    again = pickle.loads(pickle.dumps(part))
    np.testing.assert_array_equal(again.voxels(1).data, part.voxels(1).data)
    assert "9 x 8 x 7 voxels" in repr(volume)
    for wrong in ({"i": (5, 5)}, {"j": (-3, 2)}, {"k": (0, 8)}):
        with pytest.raises(sp.GridMismatch):
            volume.crop(**wrong)


def test_statistics_and_histogram_pass_over_fill(volume, stored):
    valid = stored[0][stored[0] != -999] * 0.5 - 100
    table = volume.statistics()
    row = table.loc["density"]
    assert (row["valid"], row["invalid"]) == (valid.size, 9)
    assert row["mean"] == pytest.approx(valid.mean(), rel=1e-12)
    assert (row["min"], row["max"]) == (valid.min(), valid.max())
    assert volume.statistics("count").index.tolist() == ["count"]
    counts = volume.histogram("density", bins=20).counts
    assert np.sum(counts) == valid.size


def test_another_grid(volume, stored):
    whole = volume.regrid(volume)
    np.testing.assert_allclose(whole.voxels("count"), stored[1])
    shifted = AFFINE.copy()
    shifted[:, 3] += AFFINE[:, 0] * 0.5  # half a voxel along i: the mean of neighbours
    grid = sp.volume_from_array(stored, affine=shifted).grid
    moved = volume.regrid(grid).voxels("count", i=(0, 8)).data
    between = (stored[1][:-1].astype(float) + stored[1][1:]) / 2
    np.testing.assert_allclose(moved, between, atol=0.51)
    labels = volume.regrid(grid, resample="nearest").voxels("count", physical=False)
    assert set(np.unique(labels.compressed())) <= set(np.unique(stored[1]))
    far = AFFINE.copy()
    far[0, 3] = 900
    with pytest.raises(sp.GridMismatch, match="meet"):
        volume.regrid(sp.volume_from_array(stored, affine=far))


@pytest.mark.parametrize(
    ("array", "given", "told"),
    [
        (np.zeros((3, 3)), {}, r"expected \(i, j, k\)"),
        (np.zeros((2, 3, 4, 5)), {"frames": ["one"]}, "1 named, 2 in the array"),
        (np.zeros((3, 3, 3)), {"affine": np.zeros((4, 4))}, "no area"),
        (np.zeros((3, 3, 3)), {"affine": np.eye(3)}, "expected 4x4"),
        (np.zeros((3, 3, 3), complex), {}, "expected integers or floats"),
    ],
)
def test_what_is_no_volume(array, given, told):
    with pytest.raises(sp.MetadataError, match=told):
        sp.volume_from_array(array, **{"affine": np.eye(4)} | given)


def test_files_are_described_and_surveyed(volume, run, tmp_path):
    path = tmp_path / "joint.nii.gz"
    plain = sp.volume_from_array(
        volume.voxels("count", physical=False).data, affine=AFFINE, frames=[sp.Frame("count", "HU")]
    )
    plain.save(path)
    sp.from_array(np.zeros((30, 40), "u1")).save(tmp_path / "a.png")
    plain.save(tmp_path / "cut.nii")
    (tmp_path / "cut.nii").write_bytes((tmp_path / "cut.nii").read_bytes()[:700])
    status, out, _ = run("describe", path, "--statistics", "--json")
    facts = json.loads(out)["results"][0]
    assert (status, facts["voxels"], facts["format"]) == (0, [9, 8, 7], "NIfTI-1")
    assert facts["frames"][0]["name"] == "count"
    assert run("amend", path, "--limits", "window:bone")[0] == 0
    status, out, _ = run("describe", path)
    assert "limits window:bone" in out
    assert (status, "9 x 8 x 7 (i x j x k), int16" in out, "Placed by" in out) == (0, True, True)
    found = {one.path.rsplit("/")[-1]: one for one in surveyed_files(tmp_path)}
    one = found["joint.nii.gz"]
    assert (one.columns, one.rows, one.planes, one.format) == (9, 8, 7, "NIfTI-1")
    assert found["a.png"].planes is None
    status, out, _ = run("survey", tmp_path)
    assert (status, "9 x 8 x 7" in out, "2 rasters, 1 volume, 1 of them broken" in out) == (
        0,
        True,
        True,
    )
    with pytest.raises(sp.SpectraneError, match="exists"):
        plain.save(path)
    with sp.open(path) as again:
        assert (again.frames, again.format) == ((sp.Frame("count", "HU"),), "NIfTI-1")
        np.testing.assert_array_equal(again.affine, AFFINE)
        np.testing.assert_array_equal(again.voxels().data, plain.voxels().data)


@pytest.mark.parametrize("dtype", ["u1", "i2", "u2", "i4", "f4"])
@pytest.mark.parametrize(("scale", "offset"), [(1.0, 0.0), (0.37, -12.0), (-2.0, 5.0)])
def test_what_is_found_between_voxels_keeps_fractions(rng, dtype, scale, offset):
    """Physical values as they are found; stored numbers in their type, rounded half up."""
    stored = rng.integers(0, 200, (7, 8, 9)).astype(dtype)
    frame = sp.Frame("a", scale=scale, offset=offset)
    volume = sp.volume_from_array(stored, affine=np.diag([2.0, 2, 2, 1]), frames=[frame])
    grid = sp.volume_from_array(np.zeros((9, 9, 9)), affine=np.array(
        [[1.3, 0, 0, 0.5], [0, 1.4, 0, 0.7], [0, 0, 1.5, 0.9], [0, 0, 0, 1.0]])).grid  # fmt: skip
    places = np.stack(np.meshgrid(*[np.arange(9.0)] * 3, indexing="ij"))
    index = (places * np.array([1.3, 1.4, 1.5]).reshape(3, 1, 1, 1)
             + np.array([0.5, 0.7, 0.9]).reshape(3, 1, 1, 1)) / 2  # fmt: skip
    between = map_coordinates(stored.astype(float), index, order=1)
    made = volume.regrid(grid)
    np.testing.assert_allclose(made.voxels(), between * scale + offset, rtol=1e-5, atol=1e-3)
    whole = dtype[0] in "iu"
    numbers = made.voxels(physical=False)
    assert numbers.dtype == made.dtype == np.dtype(dtype)
    if whole:
        clear = np.abs(between % 1 - 0.5) > 1e-3
        np.testing.assert_array_equal(numbers[clear], np.floor(between + 0.5)[clear])
    cut = volume.slice("axial", at=3.3)
    depth = map_coordinates(stored.astype(float), np.stack(np.meshgrid(
        np.arange(7.0), np.arange(8.0), [1.65], indexing="ij")), order=1)[..., 0]  # fmt: skip
    np.testing.assert_allclose(cut.pixels(physical=True)[0], depth.T[::-1, ::-1] * scale + offset,
                               rtol=1e-5, atol=1e-3)  # fmt: skip
    assert cut.pixels().dtype == np.dtype(dtype)
    mean = cut.statistics()["mean"].item()
    assert mean == pytest.approx(depth.mean() * scale + offset, rel=1e-4, abs=1e-3)


def test_a_mask_is_brought_to_another_grid_by_the_nearest_voxel(rng):
    mask = rng.random((6, 6, 6)) < 0.5
    volume = sp.volume_from_array(mask, affine=np.diag([2.0, 2, 2, 1]))
    fine = sp.volume_from_array(np.zeros((11, 11, 11)), affine=np.eye(4))
    made = volume.regrid(fine)
    assert made.dtype == bool
    at = np.clip((np.arange(11) + 1) // 2, 0, 5)
    np.testing.assert_array_equal(made.voxels(physical=False), mask[np.ix_(at, at, at)])
