"""slices as a person runs it on the made-up study, and the pictures it makes."""

from __future__ import annotations

import contextlib
import json
import struct
import zlib

import numpy as np
import pytest
from PIL import Image

import spectrane as sp
from spectrane.display.slices import filled_span, montage, prepared, slice_picture
from spectrane.display.volume_layers import VolumeLayer
from spectrane.formats.png.encoding import encode_animated_png


def test_three_planes_with_a_map_and_its_groups(run, demo, tmp_path):
    given = ["slices", demo / "fetlock.nii.gz", "--limits", "window:bone", "--map",
             demo / "fetlock_effect.nii.gz", "--measure", "change"]  # fmt: skip
    status, out, _ = run(*given, "-o", tmp_path / "a.png", "--threshold", "abs(t) >= 5", "--at",
                         "10,0,8")  # fmt: skip
    assert status == 0
    assert "group" in out
    with Image.open(tmp_path / "a.png") as picture:
        rgb = np.asarray(picture.convert("RGB")).astype(int)
    assert ((rgb[..., 0] - rgb[..., 2]) > 60).sum() > 100  # the gain, in the warm half
    facts = json.loads(run(*given, "-o", tmp_path / "b.png", "--p", "0.0001", "--dof", "18",
                           "--least", "4", "--json")[1])["results"][0]  # fmt: skip
    assert all(one["voxels"] >= 4 for one in facts["groups"])
    assert facts["groups"][0]["peak"] > 30
    assert run(*given, "-o", tmp_path / "c.png", "--p", "0.1", "--threshold", "t > 1")[0] == 2
    assert run(*given, "-o", tmp_path / "c.png", "--p", "0.1")[0] == 1


def test_one_plane_a_slab_and_a_montage(run, demo, tmp_path):
    joint = demo / "fetlock.nii.gz"
    one = ["slices", joint, "-o", tmp_path / "a.png", "--plane", "sagittal", "--limits",
           "window:bone", "--overwrite"]  # fmt: skip
    assert run(*one, "--at", "9")[0] == 0
    assert run(*one, "--slab", "12", "--project", "mean")[0] == 0
    assert run(*one, "--index", "20", "--size", "300x300")[0] == 0
    status, _, err = run(*one, "--at", "900")
    assert (status, "reaches from" in err) == (1, True)
    assert run("slices", joint, "-o", tmp_path / "m.png", "--montage", "6", "--plane", "coronal",
               "--span", "-20..20")[0] == 0  # fmt: skip
    assert run("slices", joint, "-o", tmp_path / "x.png", "--at", "3")[0] == 2
    status, _, err = run("render", joint, "-o", tmp_path / "x.png")
    assert (status, "spectrane slices" in err) == (1, True)


@pytest.fixture
def pair():
    """Anatomy that is 100 in one half, and a map on another grid that is 7 beyond x = 10."""
    box = np.zeros((40, 40, 20), "i2")
    box[5:35, 5:35, 4:16] = 100
    anatomy = sp.volume_from_array(box, affine=np.diag([1, 1, 2, 1.0]))
    coarse = np.zeros((2, 10, 10, 10), "f4")
    coarse[:, 5:] = 7
    other = sp.volume_from_array(coarse, affine=np.diag([4, 4, 4, 1.0]), frames=["change", "t"])
    return anatomy, other


def test_limits_are_the_volumes_and_proportions_true(pair):
    anatomy, _ = pair
    layer = VolumeLayer(anatomy, sp.Look(limits="minmax"))
    empty = slice_picture([layer], "axial", at=1.0, labels=False)
    full = slice_picture([layer], "axial", at=20.0, labels=False)
    assert [(s.low, s.high) for s in full.scales] == [(0, 100)]
    assert empty.rgba[..., 0].max() == 0
    assert full.rgba[..., 0].max() == 255
    coronal = slice_picture([layer], "coronal", index=20, labels=False, size=(400, 400))
    assert coronal.rgba.shape[:2] == (400, 400)  # 40 mm by 40 mm, of 40 and 20 voxels
    low, high = filled_span(prepared([layer])[0], "axial")
    assert (low, high) == (pytest.approx(7, abs=1.2), pytest.approx(31, abs=1.2))


def test_a_map_lies_at_the_same_millimetres(pair):
    anatomy, other = pair
    shown = VolumeLayer(other, sp.Look(colormap="ebbflow", limits=(-7, 7)), frame="change",
                        threshold="abs(t) >= 5")  # fmt: skip
    below = VolumeLayer(anatomy, sp.Look(limits=(0, 200)))
    picture = slice_picture([below, shown], "axial", at=20.0, labels=False, size=(400, 400))
    colored = np.ptp(picture.rgba[..., :3].astype(int), axis=-1) > 40
    # Half a voxel of 4 mm before x = 20, where its own voxels begin to pass; right is on the left.
    columns = np.flatnonzero(colored[200])
    first, last = 39.5 - columns[-1] / 10, 39.5 - columns[0] / 10
    assert (first, last) == (pytest.approx(18, abs=0.2), pytest.approx(38, abs=1.7))
    hidden = VolumeLayer(other, threshold="abs(t) >= 50", frame="change")
    with pytest.warns(sp.DataWarning, match="no voxel is left where abs"):
        plain = slice_picture([VolumeLayer(anatomy), hidden], "axial", at=20.0, labels=False)
    assert np.ptp(plain.rgba[..., :3].astype(int), axis=-1).max() <= 4
    sheet = montage([VolumeLayer(anatomy), shown], count=7, size=(300, 500))
    assert sheet.rgba.shape[0] <= 300
    assert sheet.rgba.shape[1] <= 500
    assert "where abs(t) >= 5" in sheet.description
    with pytest.raises(sp.LookError, match="expected 1 to 400"):
        montage([VolumeLayer(anatomy)], count=0)
    away = other.affine + np.outer([0, 0, 1, 0], [0, 0, 0, 500])
    away = sp.VolumeLayer(sp.volume_from_array(np.ones((9, 9, 9)), affine=away), name="far")
    with pytest.raises(sp.GridMismatch, match="far does not meet .* z reaches from"):
        sp.three_planes([VolumeLayer(anatomy), away])
    with pytest.raises(sp.GridMismatch, match="is no volume"):
        VolumeLayer(sp.from_array(np.zeros((3, 3))))


def test_what_fails_is_faded_and_outlined_and_small_groups_left_out(pair):
    anatomy, other = pair
    values = other.voxels("change").data.copy()
    values[7, 7, 7] = 9  # a group of its own: one voxel of 64 mm3
    other = sp.volume_from_array(values, affine=other.affine, frames=["change"])
    look = sp.Look(colormap="ebbflow", limits=(-9, 9))

    def drawn(**given):
        layers = [anatomy, sp.VolumeLayer(other, look, threshold="change > 8", **given)]
        layers[0] = sp.VolumeLayer(layers[0], sp.Look(limits=(0, 200)))
        return sp.slice_picture(layers, at=28.0, labels=False, size=(400, 400)).rgba.astype(int)

    plain, faded = drawn(), drawn(faded=0.4)
    colored = np.ptp(plain[..., :3], axis=-1) > 40
    assert colored.sum() == 40 * 40
    changed = (faded != plain).any(axis=-1)
    assert changed[200, 50]  # 7 fails, and is shown faintly
    edge = (faded[..., :3] == (235, 235, 225)).all(axis=-1)
    assert edge.sum() == 4 * 39  # around the 40 pixels of the voxel
    np.testing.assert_array_equal(faded[colored & ~edge], plain[colored & ~edge])
    half, both = (drawn(opacity=0.5, faded=share) for share in (0.0, 0.4))
    inside = colored & ~edge  # what is kept is as opaque as asked, whatever is faded
    np.testing.assert_array_equal(both[inside], half[inside])
    for least, in_mm3, kept in ((1, False, True), (2, False, False), (64, True, True),
                                (65, True, False)):  # fmt: skip
        told = contextlib.nullcontext() if kept else pytest.warns(sp.DataWarning, match="no voxel")
        with told:
            shown = np.ptp(drawn(least=least, in_mm3=in_mm3)[..., :3], axis=-1).max() > 40
        table = sp.clusters(sp.VolumeLayer(other, threshold="change > 8", least=least,
                                           in_mm3=in_mm3))  # fmt: skip
        assert (shown, len(table)) == (kept, int(kept))
    given = {"opacity": 0.5, "threshold": "change > 8", "name": "gain"}
    same = [sp.slice_picture([anatomy, kind(other, look, **given)], at=28.0)
            for kind in (sp.Layer, sp.VolumeLayer)]  # fmt: skip
    assert same[0] == same[1]
    for wrong in ({"faded": 1.0}, {"neighbours": 7}, {"least": -1}):
        with pytest.raises(sp.LookError):
            drawn(**wrong)
    with pytest.raises(sp.LookError, match="give one"):
        sp.VolumeLayer(other, faded=0.5)


def test_many_slices_are_numbered_files_or_one_moving_picture(run, demo, tmp_path):
    given = ["slices", demo / "fetlock.nii.gz", "--limits", "window:bone", "--plane", "coronal",
             "--span", "-12..12", "--size", "200x200"]  # fmt: skip
    status, out, _ = run(*given, "-o", tmp_path / "s.png", "--sequence", "12")
    assert (status, f"{tmp_path}/s-01.png to {tmp_path}/s-12.png" in out) == (0, True)
    one = np.asarray(Image.open(tmp_path / "s-07.png").convert("RGB"))
    assert run(*given, "-o", tmp_path / "m.png", "--animated", "12", "--pace", "80")[0] == 0
    with Image.open(tmp_path / "m.png") as moving:  # read by another implementation
        assert (moving.n_frames, moving.info["loop"], moving.info["duration"]) == (12, 0, 80)
        assert "not data" in moving.info["Description"]
        for k in range(12):
            moving.seek(k)
            own = np.asarray(Image.open(tmp_path / f"s-{k + 1:02}.png").convert("RGB"))
            np.testing.assert_array_equal(np.asarray(moving.convert("RGB")), own)
        moving.seek(6)
        np.testing.assert_array_equal(np.asarray(moving.convert("RGB")), one)
    with sp.open(tmp_path / "m.png") as still:  # programs that know no animation see the first
        first = np.asarray(Image.open(tmp_path / "s-01.png").convert("RGB"))
        np.testing.assert_array_equal(still.pixels()[:3].transpose(1, 2, 0), first)
    (tmp_path / "t-3.png").write_bytes(b"mine")
    for wrong, code in (
        (["-o", tmp_path / "t.png", "--sequence", "5"], 1),  # t-3.png is not replaced
        (["-o", tmp_path / "t.gif", "--animated", "5"], 1),
        (["-o", tmp_path / "m.png", "--animated", "5"], 1),
        (["-o", tmp_path / "t.png", "--animated", "5", "--montage", "5"], 2),
        (["-o", tmp_path / "t.png", "--animated", "5", "--at", "5"], 2),
        (["-o", tmp_path / "t.png", "--montage", "5", "--slab", "5"], 2),
    ):
        assert run(*given, *wrong)[0] == code
    assert not (tmp_path / "t-1.png").exists()
    assert (tmp_path / "t-3.png").read_bytes() == b"mine"


def test_two_volumes_stand_side_by_side_at_the_same_millimetres(pair, run, demo, tmp_path):
    anatomy, _ = pair
    turned = anatomy.voxels(physical=False).data[::-1, :, ::-1]  # the same box in another order
    affine = np.array([[-1, 0, 0, 39], [0, 1, 0, 0], [0, 0, -2, 38], [0, 0, 0, 1.0]])
    other = sp.volume_from_array(turned, affine=affine)
    small = anatomy.crop(i=(10, 30), j=(0, 20))
    look = sp.Look(limits=(0, 100))
    columns = [[sp.VolumeLayer(one, look)] for one in (anatomy, other, small)]
    picture = sp.compare_slices(columns, "coronal", at=18.0, labels=False, size=(200, 612))
    rgba = picture.rgba[..., 0].astype(int)
    assert rgba.shape == (200, 612)
    first, second, third = (rgba[:, k * 206 : k * 206 + 200] for k in range(3))
    assert np.abs(first - second).max() <= 1
    inside = np.s_[60:140, 60:140]
    np.testing.assert_array_equal(third[inside], first[inside])
    assert third[:, :40].max() < first[100, 40]  # the part does not reach there
    with pytest.raises(sp.GridMismatch, match="reaches from"):
        sp.compare_slices(columns, "coronal", at=30.0)
    given = ["slices", demo / "fetlock.nii.gz", "--beside", demo / "fetlock_effect.nii.gz",
             "-o", tmp_path / "b.png"]  # fmt: skip
    assert run(*given, "--plane", "axial", "--at", "4")[0] == 0
    assert run(*given, "--overwrite")[0] == 2


@pytest.mark.parametrize(("dtype", "channels"), [("u1", 4), ("u2", 3), ("u1", 1), ("u2", 2)])
def test_a_moving_picture_keeps_its_chunks_in_order(rng, dtype, channels):
    frames = rng.integers(0, 255, (4, 9, 7, channels)).astype(dtype)
    data = encode_animated_png(iter(frames), 4, {"Title": "walk"}, 40)
    kinds, numbers, place = [], [], 8
    while place < len(data):
        length, kind = struct.unpack(">L4s", data[place : place + 8])
        assert zlib.crc32(data[place + 4 : place + 8 + length]) == struct.unpack(
            ">L", data[place + 8 + length : place + 12 + length])[0]  # fmt: skip
        if kind in (b"fcTL", b"fdAT"):
            numbers.append(struct.unpack(">L", data[place + 8 : place + 12])[0])
        kinds.append(kind)
        place += 12 + length
    moving = [b"fcTL", b"fdAT"] * 3
    assert kinds == [b"IHDR", b"tEXt", b"acTL", b"fcTL", b"IDAT", *moving, b"IEND"]
    assert numbers == list(range(7))
    with pytest.raises(sp.LookError, match=r"frame 2 is \(9, 6"):
        encode_animated_png([frames[0], frames[1][:, :6]], 2, {}, 40)
