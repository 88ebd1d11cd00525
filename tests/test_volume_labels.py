"""Labels, masks, profiles and own axes of volumes: never mixed, on their own grids, by block."""

from __future__ import annotations

import json
import struct

import numpy as np
import pandas as pd
import pytest
from PIL import Image

import spectrane as sp
from spectrane.model.labels import label_classes
from spectrane.model.patient import own_turn, turned_by

AFFINE = np.diag([2.0, 2.0, 3.0, 1.0])


@pytest.fixture
def parts():
    """Labels 0, 1 and 3 in slabs along i."""
    values = np.zeros((12, 10, 8), np.uint8)
    values[3:7], values[7:11] = 1, 3
    return sp.volume_from_array(values, affine=AFFINE)


@pytest.fixture
def measured(rng):
    """Two frames of values on the voxels of ``parts``, one of them invalid here and there."""
    values = rng.normal(100, 20, (2, 12, 10, 8)).astype("f4")
    values[0, 4, :5] = np.nan
    frames = [sp.Frame("rest", "HU", 2.0, 5.0), sp.Frame("walk", "HU")]
    return sp.volume_from_array(values, affine=AFFINE, frames=frames)


def test_labels_are_never_mixed(parts):
    labels = parts.as_labels({1: "bone", 3: "marrow"})
    assert [v[1] for v in labels.look.classes.values()] == ["background", "bone", "marrow"]
    fine = sp.volume_from_array(np.zeros((30, 25, 30)), affine=np.diag([0.7, 0.7, 0.7, 1]))
    assert set(np.unique(labels.regrid(fine).voxels().compressed())) <= {0, 1, 3}
    turned = labels.slice("coronal", at=7.3).pixels()[0]
    assert set(np.unique(turned.compressed())) == {0, 1, 3}
    assert 2 in np.unique(
        parts.regrid(fine).voxels(physical=False).compressed()
    )  # numbers are mixed
    with pytest.raises(sp.LookError, match="names of classes or flags"):
        labels.regrid(fine, resample="trilinear")
    with pytest.raises(sp.MetadataError, match="2.5 is no label"):
        sp.volume_from_array(np.full((2, 2, 2), 2.5), affine=np.eye(4)).as_labels()


def test_labels_are_drawn_in_their_colours_with_a_key(parts, measured):
    labels = parts.as_labels({1: "bone", 3: "marrow"})
    layers = [sp.VolumeLayer(measured, sp.Look(limits=(0, 300))), sp.VolumeLayer(labels)]
    rgba = sp.slice_picture(layers, at=9.0, labels=False, size=(200, 240)).rgba
    bone, marrow = (bytes.fromhex(label_classes([v])[v][0][1:]) for v in (1, 3))
    assert tuple(rgba[100, 240 - 100, :3]) == tuple(bone)  # the patient's left lies on the right
    assert tuple(rgba[100, 240 - 180, :3]) == tuple(marrow)
    assert np.ptp(rgba[100, 230, :3]) == 0  # the background is clear
    with_key = sp.slice_picture(layers, at=9.0, size=(400, 640)).rgba
    assert (with_key[..., :3] == np.frombuffer(marrow, np.uint8)).all(axis=-1)[:, 500:].any()


def test_labels_keep_names_and_colours_in_a_file(parts, tmp_path, run):
    labels = parts.as_labels({1: "bone", 3: "marrow"})
    labels.save(tmp_path / "labels.nii.gz")
    with sp.open(tmp_path / "labels.nii.gz") as again:
        assert again.look.classes == labels.look.classes
        assert again.metadata["intent"][0] == 1002
    parts.save(tmp_path / "plain.nii")
    data = bytearray((tmp_path / "plain.nii").read_bytes())
    struct.pack_into("<h", data, 68, 1002)  # another program's labels: the intent alone
    (tmp_path / "plain.nii").write_bytes(bytes(data))
    with sp.open(tmp_path / "plain.nii") as other:
        assert other.look.classes[3.0] == label_classes([3])[3.0]
    target = tmp_path / "out.png"
    given = ("slices", tmp_path / "plain.nii", "--labels", tmp_path / "labels.nii.gz", "-o", target)
    assert run(*given, "--plane", "axial")[0] == 0


def test_statistics_by_label_are_those_of_its_voxels(parts, measured):
    table = measured.statistics(by=parts.as_labels({1: "bone"}))
    rest = measured.voxels("rest").compressed()
    for label, span in ((1, slice(3, 7)), (3, slice(7, 11))):
        own = measured.voxels("rest")[span].compressed()
        row = table.loc[label, "rest"]
        assert (row["voxels"], row["volume"]) == (own.size, own.size * 12.0)
        assert [row["mean"], row["std"], row["min"], row["max"]] == pytest.approx(
            [own.mean(), own.std(), own.min(), own.max()], rel=1e-6)  # fmt: skip
    assert table.loc[1, "walk"]["name"] == "bone"
    assert rest.size > table.xs("rest", level="frame")["voxels"].sum()  # the background has none
    other = sp.volume_from_array(np.ones((3, 3, 3), "u1"), affine=AFFINE)
    with pytest.raises(sp.GridMismatch, match="another grid"):
        measured.statistics(by=other)


def test_masks_by_a_test_or_by_another_volume(parts, measured):
    kept = measured.masked("rest > 210")
    plain = measured.voxels("rest")
    np.testing.assert_array_equal(kept.voxels("walk").mask, ~(plain.filled(0) > 210))
    both = measured.masked("rest > 210", outside=True).voxels("walk").mask
    np.testing.assert_array_equal(both, ~kept.voxels("walk").mask)
    by_value = measured.masked(sp.Threshold("walk", at=110, side="positive")).voxels("rest")
    assert by_value.count() == (~plain.mask & (measured.voxels("walk").data >= 110)).sum()
    inside = measured.masked(parts)
    np.testing.assert_array_equal(~inside.voxels("walk").mask, parts.voxels().data != 0)
    coarse = sp.volume_from_array(np.ones((2, 2, 2), "u1"), affine=np.diag([6.0, 6, 6, 1]))
    chosen = ~measured.masked(coarse).voxels("walk").mask
    reach = (np.arange(12) * 2 < 9)[:, None, None] & (np.arange(10) * 2 < 9)[None, :, None]
    np.testing.assert_array_equal(chosen, reach & (np.arange(8) * 3 < 9)[None, None, :])
    outside = ~measured.masked(coarse, outside=True).voxels("walk").mask
    np.testing.assert_array_equal(outside, ~chosen)


def test_profiles_by_frame_at_a_voxel_and_over_a_region(parts, measured, run, tmp_path):
    point = {"x": 10.4, "y": 6.2, "z": 8.9, "name": "shaft"}
    table = sp.profile(measured, [point, {"i": 4, "j": 0, "k": 0}])
    assert table["zone"].tolist() == ["shaft", "shaft", "2", "2"]
    read = sp.probe(measured, points=[point]).set_index("frame")["physical"]
    assert table["mean"][:2].tolist() == pytest.approx([read["rest"], read["walk"]])
    assert np.isnan(table["mean"][2]) and table["count"].tolist() == [1, 1, 0, 1]  # noqa: PT018
    region = measured.profile(region=parts.masked("band(1) == 3"))
    own = measured.voxels("walk").data[7:11]
    assert region["count"].tolist() == [own.size, own.size]
    assert region["mean"][1] == pytest.approx(own.mean(), rel=1e-6)
    for wrong, match in (
        ({}, "points, regions or labels"),
        ({"points": {"x": 900, "y": 0, "z": 0}}, "lies outside"),
        ({"region": parts.masked("band(1) == 9")}, "no valid voxel"),
    ):
        with pytest.raises(sp.SpectraneError, match=match):
            measured.profile(**wrong)
    measured.select("walk").save(tmp_path / "m.nii")
    status, out, _ = run("probe", tmp_path / "m.nii", "--at", "8,6,9", "--profile",
                         tmp_path / "p.png", "--json")  # fmt: skip
    assert (status, len(json.loads(out)["results"])) == (0, 2)
    parts.save(tmp_path / "parts.nii")
    given = ("probe", tmp_path / "m.nii", "--region", tmp_path / "parts.nii", "--json")
    assert json.loads(run(*given)[1])["results"][0]["count"] == 8 * 10 * 8
    assert run(*given, "--at", "1,2,3")[0] == 2
    with Image.open(tmp_path / "p.png") as figure:
        assert figure.size == (1280, 800)


POINTS = [  # what is given -> voxels (i, j, k) it means
    [(4, 2, 3)], (4, 2, 3), [[4, 2, 3], [0, 0, 0]], np.array([[4, 2, 3], [0, 0, 0]]),
    np.array([4, 2, 3]), (8.0, 4.0, 9.0), np.array([[8.0, 4, 9], [0, 0, 0.0]]),
    {"i": 4, "j": 2, "k": 3}, [{"x": 8, "y": 4, "z": 9}],
    pd.DataFrame({"x": [8.0, 0], "y": [4.0, 0], "z": [9.0, 0]}),
]  # fmt: skip


@pytest.mark.parametrize("points", POINTS, ids=str)
def test_points_of_volumes_may_be_numbers_arrays_and_tables(measured, points):
    several = len(points) == 2 and not isinstance(points, dict)
    voxels = [(4, 2, 3), (0, 0, 0)][: 1 + several]
    expected = [measured.voxels("walk").data[at] for at in voxels]
    table = measured.profile(points)
    assert table[table["frame"] == "walk"]["mean"].tolist() == pytest.approx(expected)
    read = sp.probe(measured, points=points)
    assert read[read["frame"] == "walk"]["physical"].tolist() == pytest.approx(expected)


def test_points_that_are_neither_are_refused(measured):
    for wrong in ([(1, 2)], ["a"], np.zeros((2, 4)), [(1, 2, "z")]):
        with pytest.raises(sp.LookError, match="does not say which number is which"):
            measured.profile(wrong)


def test_profiles_by_label_and_over_several_regions(parts, measured, run, tmp_path):
    labels = parts.as_labels({1: "bone", 3: "marrow"})
    table = measured.profile(labels=labels)
    assert table["zone"].tolist() == ["bone", "bone", "marrow", "marrow"]
    for name, span in (("bone", slice(3, 7)), ("marrow", slice(7, 11))):
        for row in table[table["zone"] == name].itertuples():
            own = measured.voxels(row.frame)[span].compressed().astype(float)
            assert row[6] == own.size
            assert (row.mean, row.std) == pytest.approx((own.mean(), own.std()), rel=1e-6)
    picked = sp.profile(measured, labels=labels, names=["marrow", 1])
    assert picked["zone"].unique().tolist() == ["marrow", "bone"]
    half = sp.volume_from_array(parts.voxels()[::2, ::2].data.astype("u1"),
                                affine=np.diag([4.0, 4.0, 3.0, 1.0])).as_labels()  # fmt: skip
    nearest = half.regrid(measured).voxels()
    assert measured.profile(labels=half, names=[3])["count"][1] == (nearest == 3).sum()
    both = measured.profile(region={"all": parts, "none": parts.masked("band(1) == 1")})
    assert both["zone"].unique().tolist() == ["all", "none"]
    for wrong, match in (({"labels": labels, "names": ["bones"]}, "label 'bones'.*bone"),
                         ({"names": ["bone"]}, "points, regions or labels"),
                         ({"labels": labels, "points": (0, 0, 0)}, "one of them")):  # fmt: skip
        with pytest.raises(sp.LookError, match=match):
            measured.profile(**wrong)
    measured.physical().save(tmp_path / "m.nii")
    labels.save(tmp_path / "atlas.nii.gz")
    command = ("probe", tmp_path / "m.nii", "--region", tmp_path / "atlas.nii.gz")
    status, out, _ = run(*command, "--csv", tmp_path / "t.csv", "--profile", tmp_path / "p.png",
                         "--json")  # fmt: skip
    assert status == 0, out
    told = pd.read_csv(tmp_path / "t.csv")
    np.testing.assert_allclose(told["mean"], table["mean"], rtol=1e-6)
    status, out, _ = run(*command, "--label", "marrow", "--json")
    assert [row["zone"] for row in json.loads(out)["results"]] == ["marrow"] * 2
    status, out, _ = run(*command, "--region", tmp_path / "atlas.nii.gz", "--label", "3", "--json")
    assert {row["zone"] for row in json.loads(out)["results"]} == {"atlas: marrow"}


@pytest.fixture
def leaning():
    """A box of 1s in a volume that is turned by 25 degrees about the patient's z."""
    turn = np.eye(4)
    turn[:2, :2] = [[np.cos(0.436), -np.sin(0.436)], [np.sin(0.436), np.cos(0.436)]]
    values = np.zeros((24, 24, 12), "u1")
    values[8:16, 4:20] = 200
    affine = turn @ np.array([[-1, 0, 0, 12], [0, 1, 0, -12], [0, 0, 2, -12], [0, 0, 0, 1.0]])
    return sp.volume_from_array(values, affine=affine)


def test_own_axes_are_cut_on_request_and_the_default_is_told(leaning, tmp_path, run):
    assert turned_by(leaning.grid) == pytest.approx(np.degrees(0.436))
    np.testing.assert_allclose(own_turn(leaning.grid)[:2, 0], [np.cos(0.436), np.sin(0.436)])
    layer = [sp.VolumeLayer(leaning, sp.Look(limits=(0, 255)))]
    own = sp.slice_picture(layer, axes="own", labels=False, size=(240, 240)).rgba[..., 0]
    assert set(np.unique(own[:, 120])) <= {0, 200, 100, 12}  # edges lie along the picture
    assert (own[118:122] == 200).sum(axis=1).tolist() == [80] * 4
    patient = sp.slice_picture(layer, labels=False, size=(240, 240)).rgba[..., 0]
    assert (patient == 200).any(axis=0).sum() > 85
    flat = leaning.slice("axial", axes="own").pixels()[0]
    assert (flat == 200).sum(axis=1).max() == 8  # 8 voxels of 1 mm, along the rows
    assert (leaning.slice("axial").pixels()[0] == 200).any(axis=0).sum() > 9
    with pytest.raises(sp.LookError, match="expected patient or own"):
        leaning.slice("axial", axes="mine")
    point = (leaning.affine @ (12, 12, 6, 1))[:3]
    sp.three_planes(layer, point, axes="own")
    leaning.save(tmp_path / "lean.nii")
    given = ("slices", tmp_path / "lean.nii", "-o", tmp_path / "a.png", "--overwrite")
    assert "cut on the patient's planes (--axes own follows the volume)" in run(*given)[1]
    assert "along the volume's own axes" in run(*given, "--axes", "own")[1]
    assert run(*given, "--axes", "own", "--plane", "axial", "--index", "3")[0] == 2
    with pytest.raises(sp.LookError, match="axes 'mine'"):
        sp.three_planes(layer, axes="mine")


def test_one_slice_goes_through_the_frames_under_the_same_limits(measured, tmp_path, run):
    measured.masked("walk > 0").select("walk").save(tmp_path / "one.nii")
    values = np.stack([np.full((6, 6, 4), v, "f4") for v in (10, 20, 40)])
    values[:, 0, 0, 0] = 0
    named = [sp.Frame(f"t{k}", time=1.5 + 2.5 * k) for k in range(3)]
    over_time = sp.volume_from_array(values, affine=AFFINE, frames=named)
    for version in (1, 2):
        over_time.save(tmp_path / "time.nii", version=version, overwrite=True)
        with sp.open(tmp_path / "time.nii") as again:
            assert again.frames == tuple(named)
            table = sp.profile(again, {"i": 1, "j": 1, "k": 1})
    assert table["time"].tolist() == [1.5, 4.0, 6.5]
    axes = sp.figures.profile(table).axes[0]
    assert (axes.get_xlabel(), axes.lines[0].get_xdata().tolist()) == ("time (s)", [1.5, 4, 6.5])
    given = ("slices", tmp_path / "time.nii", "--plane", "axial", "--at", "4", "--limits", "minmax",
             "--size", "200x100", "--plain")  # fmt: skip
    status, out, err = run(*given, "-o", tmp_path / "f.png", "--frames", "numbered")
    assert (status, "f-1.png to" in out) == (0, True), err
    levels = [np.asarray(Image.open(tmp_path / f"f-{k}.png"))[50, 30, 0] for k in (1, 2, 3)]
    assert levels == [64, 128, 255]
    assert run(*given, "-o", tmp_path / "m.png", "--frames", "animated")[0] == 0
    with Image.open(tmp_path / "m.png") as moving:
        assert moving.n_frames == 3
    status, _, err = run("slices", tmp_path / "one.nii", "-o", tmp_path / "x.png", "--frames",
                         "animated")  # fmt: skip
    assert (status, "has one frame" in err) == (1, True)
    assert run(*given, "-o", tmp_path / "x.png", "--frames", "animated", "--slab", "3")[0] == 2


def test_rasters_and_volumes_are_not_taken_for_each_other(parts, measured, tmp_path):
    flat = sp.from_array(np.ones((4, 5), np.uint8))
    for wrong in (
        lambda: sp.render(parts), lambda: sp.overlay([sp.Layer(parts)]),
        lambda: sp.overlay([flat, parts]),
        lambda: sp.mosaic([parts, parts]), lambda: sp.join_bands([parts]),
        lambda: sp.mask(parts, where="band(1) > 0"), lambda: sp.figures.compare([parts, flat]),
    ):  # fmt: skip
        with pytest.raises(sp.GridMismatch, match="is a volume; take a slice of it"):
            wrong()
    for wrong in (lambda: parts.masked(flat), lambda: parts.regrid(flat),
                  lambda: sp.VolumeLayer(flat)):  # fmt: skip
        with pytest.raises(sp.GridMismatch, match="is no volume"):
            wrong()
    with pytest.raises(sp.FormatError, match=r"volumes are written as \.nii"):
        parts.save(tmp_path / "a.tif")
    bare = sp.three_planes(measured, labels=False).rgba  # a volume will do where layers do
    layers = sp.three_planes([sp.VolumeLayer(measured)], labels=False).rgba
    np.testing.assert_array_equal(bare, layers)


def test_volumes_are_exported_and_misplaced_options_refused(measured, tmp_path, run):
    measured.select("walk").save(tmp_path / "a.nii")
    status, out, _ = run(
        "export", tmp_path / "a.nii", "-o", tmp_path / "b.nii.gz", "--bands", "walk"
    )
    assert (status, "12 x 10 x 8, 1 frame" in out) == (0, True)
    np.testing.assert_array_equal(sp.open(tmp_path / "b.nii.gz").voxels(),
                                  measured.voxels("walk"))  # fmt: skip
    coarse = sp.volume_from_array(np.ones((3, 3, 3), "u1"), affine=np.diag([8.0, 8, 8, 1]))
    coarse.save(tmp_path / "c.nii")
    like = ("export", tmp_path / "a.nii", "-o", tmp_path / "d.nii", "--grid-of", tmp_path / "c.nii")
    assert run(*like)[0] == 0
    assert sp.open(tmp_path / "d.nii").shape == (1, 3, 3, 3)
    part = ("export", tmp_path / "a.nii", "-o", tmp_path / "p.nii", "--overwrite")
    assert run(*part, "--where", "walk > 110", "--mask", tmp_path / "c.nii")[0] == 0
    kept = sp.open(tmp_path / "p.nii").voxels()
    assert kept.count() == measured.masked("walk > 110").masked(coarse).voxels("walk").count()
    status, _, err = run("export", tmp_path / "a.nii", "-o", tmp_path / "e.nii", "--limits", "0,1")
    assert (status, "--limits is not used of volumes" in err) == (2, True)
    status, _, err = run("amend", tmp_path / "a.nii", "--crs", "EPSG:32727")
    assert (status, "crs is for rasters" in err) == (1, True)
