"""The read-out of volumes: the voxel under a point, in each of them, and whether it is shown."""

from __future__ import annotations

import json

import numpy as np
import pytest

import spectrane as sp
from spectrane.analysis.thresholds import Threshold
from spectrane.display.volume_layers import VolumeLayer

FINE = np.array([[-1.0, 0, 0, 10], [0, 1, 0, -10], [0, 0, 2, -10], [0, 0, 0, 1]])


@pytest.fixture
def study(rng):
    """Before and after on one grid, and a coarse map of two frames with fill."""
    before = rng.integers(-1000, 2000, (20, 21, 11)).astype("i2")
    after = before + rng.integers(-90, 90, before.shape).astype("i2")
    frame = [sp.Frame("attenuation", "HU", 0.5, -3)]
    first = sp.volume_from_array(before, affine=FINE, frames=frame)
    second = sp.volume_from_array(after, affine=FINE, frames=frame)
    values = rng.normal(0, 4, (2, 6, 6, 6)).astype("f4")
    values[:, 2, 2, 2] = np.nan
    turn = np.diag([4.0, 4, 4, 1])
    turn[:3, 3] = -10
    return first, second, sp.volume_from_array(values, affine=turn, frames=["change", "t"])


def test_a_difference_reads_the_difference(study):
    first, second, _ = study
    change = second.voxels(physical=False).data - first.voxels(physical=False).data
    map_ = sp.volume_from_array(change, affine=FINE, frames=[sp.Frame("change", "HU", 0.5)])
    points = [{"name": "a", "x": 3.4, "y": 2.2, "z": -1.3}, {"i": 4, "j": 20, "k": 10}]
    table = sp.probe([second, first, map_], points=points)
    assert table["point"].tolist() == ["a"] * 3 + ["2"] * 3
    for _, rows in table.groupby("point"):
        later, earlier, told = rows["physical"]
        assert told == later - earlier
    assert table.loc[0, ["i", "j", "k"]].tolist() == [7, 12, 4]
    assert table.loc[3, ["x", "y", "z"]].tolist() == [6, 10, 10]


@pytest.mark.parametrize(
    "threshold", ["abs(t) >= 5", Threshold("t", at=5.0), Threshold("t", p=1e-4, dof=20)]
)
@pytest.mark.parametrize("least", [1, 2])
def test_shown_is_what_the_picture_shows(study, threshold, least):
    first, _, effect = study
    layer = VolumeLayer(effect, threshold=threshold, frame="change", least=least)
    level = threshold.level() if isinstance(threshold, Threshold) else 5.0
    values = effect.voxels("t").filled(np.nan)
    passing = np.abs(values) >= level
    for i, j, k in np.argwhere(np.ones((5, 6, 6)))[36:]:  # from i = 1 on they lie in both
        place = dict(zip("xyz", effect.affine[:3, :3] @ [i, j, k] - 10, strict=True))
        rows = sp.probe([first, layer], **place).set_index("frame")
        around = passing[max(0, i - 1) : i + 2, max(0, j - 1) : j + 2, max(0, k - 1) : k + 2].sum()
        shown = passing[i, j, k] and around >= least
        assert (rows.loc["change", "shown"], rows.loc["t", "shown"]) == (shown, False)
        assert rows.loc["attenuation", "shown"]
        if np.isnan(values[i, j, k]):
            assert rows["physical"].isna().tolist() == [False, True, True]
        else:
            assert rows.loc["t", "physical"] == values[i, j, k]


def test_edges_and_points_that_miss(study):
    first, _, effect = study
    assert sp.probe(first, x=10.5, y=-10.5, z=-11)[["i", "j", "k"]].values.tolist() == [[0, 0, 0]]
    assert sp.probe(first, x=-9.5, y=10.5, z=11)[["i", "j", "k"]].values.tolist() == [[19, 20, 10]]
    assert len(sp.probe([effect, first], x=11.9, y=11.9, z=11.9)) == 2  # the second misses it
    for given, error, told in (
        ({"x": 40, "y": 0, "z": 0}, sp.GridMismatch, "outside"),
        ({"x": 1, "y": 2}, sp.LookError, "expected x, y and z in mm"),
        ({"i": 1, "j": 2, "k": "a"}, sp.LookError, "expected x, y and z in mm"),
        ({"x": np.nan, "y": 2, "z": 1}, sp.LookError, "finite"),
        ({"row": 1, "column": 2}, sp.LookError, "row, column is not for volumes"),
    ):
        with pytest.raises(error, match=told):
            sp.probe(first, **given)
    with pytest.raises(sp.LookError, match="z is not for rasters"):
        sp.probe(sp.from_array(np.zeros((3, 3))), x=1, y=1, z=1)


def test_the_commands_read_out(run, demo, tmp_path):
    joint, effect = demo / "fetlock.nii.gz", demo / "fetlock_effect.nii.gz"
    status, out, _ = run("probe", joint, effect, "--at", "12,0,9", "--voxel-at", "5,6,7", "--json")
    rows = json.loads(out)["results"]
    assert status == 0
    assert [row["frame"] for row in rows[:4]] == ["attenuation", "change", "t", "contrast"]
    (tmp_path / "p.csv").write_text("name,x,y,z\nridge,1,2,3\n")
    assert "ridge" in run("probe", joint, "--points", tmp_path / "p.csv")[1]
    given = ["slices", joint, "--map", effect, "-o", tmp_path / "a.png", "--overwrite", "--json"]
    facts = json.loads(run(*given, "--threshold", "abs(t) >= 5", "--at", "12,0,9")[1])["results"][0]
    assert [row["shown"] for row in facts["point"]] == [True, True, False, False]
    for wrong, code in (
        (["probe", demo / "sound_8band.tif", "--at", "1,2,3"], 2),
        (["probe", joint, "--at", "1,2"], 1),
        ([*given, "--p", "0", "--dof", "18"], 1),
        ([*given, "--threshold", "t > 3", "--dof", "18"], 2),
    ):
        assert run(*wrong)[0] == code
