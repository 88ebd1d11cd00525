"""Arithmetic over frames: computed, joined, and one from all; against NumPy."""

from __future__ import annotations

import json

import numpy as np
import pytest
from click.testing import CliRunner

import spectrane as sp
from spectrane.cli.entry import commands

AFFINE = np.diag([2.0, 2.0, 3.0, 1.0])
WAYS = {
    "mean": np.nanmean, "std": np.nanstd, "min": np.nanmin, "max": np.nanmax,
    "median": np.nanmedian, "range": lambda v, axis: np.nanmax(v, axis) - np.nanmin(v, axis),
}  # fmt: skip


def run(*words, code=0):
    done = CliRunner().invoke(commands, [str(word) for word in words])
    assert done.exit_code == code, done.output
    return done.output


@pytest.fixture
def visits(rng):
    """Three frames of int16 with scales of their own, some voxels invalid, one in all frames."""
    values = rng.integers(-200, 900, (3, 6, 5, 7)).astype("i2")
    values[rng.random(values.shape) < 0.1] = -999
    values[:, 0, 0, 0] = -999
    frames = [sp.Frame("before", "HU", 1.0, 0.0, 0.0), sp.Frame("after", "HU", 0.5, 3.0, 30.0),
              sp.Frame("late", "HU", 1.0, -1.0, 60.0)]  # fmt: skip
    volume = sp.volume_from_array(values, affine=AFFINE, frames=frames, nodata=-999)
    scales = np.array([(f.scale, f.offset) for f in frames]).reshape(3, 2, 1, 1, 1)
    return volume, np.where(values == -999, np.nan, values * scales[:, 0] + scales[:, 1])


@pytest.mark.parametrize("way", WAYS)
@pytest.mark.filterwarnings("ignore:.*(empty|All-NaN|Degrees).*:RuntimeWarning")
def test_one_frame_is_made_of_all(visits, way):
    volume, values = visits
    for frames, chosen in ((None, [0, 1, 2]), (["late", "before"], [2, 0])):
        made = volume.over_frames(way, frames)
        found = made.voxels()
        np.testing.assert_allclose(found.filled(np.nan), WAYS[way](values[chosen], axis=0),
                                   rtol=1e-6)  # fmt: skip
        assert (made.frames[0].unit, made.frames[0].name) == ("HU", way)
        part = made.crop(i=(1, 4), k=(2, 7)).voxels()
        np.testing.assert_array_equal(part.filled(np.nan), found[1:4, :, 2:7].filled(np.nan))
    with pytest.raises(sp.LookError, match="expected mean, std"):
        volume.over_frames("sum")


def test_frames_are_computed_in_physical_values(visits):
    volume, values = visits
    made = volume.compute({"change": "after - before", "large": "abs(frame(3)) > 400"}, unit="HU")
    np.testing.assert_allclose(made.voxels().filled(np.nan), values[1] - values[0], rtol=1e-6)
    assert [(f.name, f.unit) for f in made.frames] == [("change", "HU"), ("large", "HU")]
    np.testing.assert_allclose(volume.physical().voxels("after", physical=False).filled(np.nan),
                               values[1])  # fmt: skip
    raw = made.slice("axial", index=2).pixels()
    assert raw.shape == (2, 5, 6)


def test_frames_are_described_anew(visits):
    volume, values = visits
    told = volume.with_frames({"late": {"name": "rest", "unit": "1", "statistic": "z", "time": 9}})
    assert [f.name for f in told.frames] == ["before", "after", "rest"]
    assert (told.frames[2].statistic, told.frames[2].time) == ("z", 9.0)
    kelvin = volume.with_frames({n: {"unit": "K"} for n in (1, 2, 3)}).convert("degC")
    np.testing.assert_allclose(kelvin.voxels(2).filled(np.nan), values[1] - 273.15, rtol=1e-5)
    assert volume.with_nodata(None).voxels("before").count() == values[0].size
    with pytest.raises(sp.MetadataError, match="frame 1: no field role; expected name"):
        volume.with_frames({1: {"role": "nir"}})
    with pytest.raises(sp.BandError, match="no band is called"):
        volume.with_frames({"noon": {"unit": "K"}})


def test_volumes_are_joined_where_voxels_coincide_or_are_brought_together(visits, rng):
    volume, values = visits
    other = sp.volume_from_array(rng.normal(size=(6, 5, 7)).astype("f4"), affine=AFFINE)
    joined = sp.join_frames([volume, other], names=["a", "b", "c", "d"])
    assert (joined.shape, joined.dtype, joined.frames[3].time) == ((4, 6, 5, 7), np.float32, None)
    assert [f.time for f in joined.frames] == [None] * 4  # not all are times
    for k in range(3):
        np.testing.assert_allclose(joined.voxels(k + 1).filled(np.nan), values[k], rtol=1e-6)
    np.testing.assert_array_equal(joined.voxels("d"), other.voxels())
    shifted = sp.volume_from_array(np.zeros((6, 5, 7)), affine=np.diag([2.0, 2.0, 3.2, 1.0]))
    with pytest.raises(sp.GridMismatch, match="do not coincide.*regrid=True"):
        sp.join_frames([volume, shifted])
    assert sp.join_frames([volume, shifted], regrid=True).grid == volume.grid
    assert sp.join_frames([volume, shifted], grid=shifted).grid == shifted.grid
    with pytest.raises(sp.LookError, match="2 for 4 frames"):
        sp.join_frames([volume, other], names=["a", "b"])


def test_volumes_are_computed_and_joined_on_the_command_line(tmp_path, rng):
    before, after = rng.integers(0, 500, (2, 6, 5, 7)).astype("i2")
    for name, values in (("before", before), ("after", after)):
        sp.volume_from_array(values, affine=AFFINE).save(tmp_path / f"{name}.nii.gz")
    files = tmp_path / "before.nii.gz", tmp_path / "after.nii.gz"
    out = tmp_path / "out.nii"
    run("export", *files, "-o", out, "--join")
    assert [f.name for f in sp.open(out).frames] == ["before", "after"]
    run(
        "export", *files, "-o", out, "--join", "--names", "a,b", "--compute", "d=b-a", "--overwrite"
    )
    np.testing.assert_array_equal(sp.open(out).voxels(), after.astype(int) - before)
    run("export", files[0], "-o", out, "--compute", "half=frame(1)/2", "--overwrite")
    np.testing.assert_array_equal(sp.open(out).voxels(), before / 2)
    run("export", *files, "-o", tmp_path / "both.nii", "--join")
    run("export", tmp_path / "both.nii", "-o", out, "--over-frames", "range", "--overwrite")
    np.testing.assert_array_equal(sp.open(out).voxels(), np.abs(after.astype(int) - before))
    moved = np.diag([4.0, 2.0, 3.0, 1.0])
    sp.volume_from_array(before[::2], affine=moved).save(tmp_path / "coarse.nii")
    told = run("export", *files, tmp_path / "coarse.nii", "-o", out, "--join", "--overwrite")
    assert f"{tmp_path / 'coarse.nii'} is resampled onto the voxels of {files[0]}" in told
    told = json.loads(run("export", files[0], "-o", out, "--over-frames", "mean", "--overwrite",
                          "--json"))  # fmt: skip
    assert told["results"][0]["output"] == str(out)
