"""Volumes moved and turned onto one another: known motions are found, nonsense is refused."""

from __future__ import annotations

import json

import numpy as np
import pytest
from click.testing import CliRunner
from scipy.ndimage import gaussian_filter, map_coordinates
from scipy.spatial.transform import Rotation

import spectrane as sp
from spectrane.cli.entry import commands
from spectrane.kernels import choice
from spectrane.kernels.scattered import looked_up

AFFINE = np.array([[2.5, 0, 0, -50], [0, 2.5, 0, -40], [0, 0, 3.0, -45], [0, 0, 0, 1]])


@pytest.fixture(scope="module")
def anatomy():
    """Blobs in a box: values (i, j, k) without any symmetry."""
    rng = np.random.default_rng(3)
    noise = gaussian_filter(rng.normal(size=(40, 34, 30)), 2.5)
    window = np.ones(noise.shape)
    for axis, n in enumerate(noise.shape):
        ramp = np.clip(np.minimum(np.arange(n), np.arange(n)[::-1]) / 6, 0, 1)
        window *= np.moveaxis(ramp.reshape(-1, 1, 1), 0, axis)
    return (noise / noise.std() * 300 + 500) * window


def seen_moved(values, motion):
    """Return what a scanner sees of the same after a motion (4x4, mm) of the patient."""
    index = np.indices(values.shape).reshape(3, -1)
    back = np.linalg.inv(AFFINE) @ np.linalg.inv(motion) @ AFFINE
    places = back[:3, :3] @ index + back[:3, 3:]
    return map_coordinates(values, places, order=1, mode="nearest").reshape(values.shape)


def motion_of(turn, shift):
    matrix = np.eye(4)
    matrix[:3, :3] = Rotation.from_rotvec(turn, degrees=True).as_matrix()
    matrix[:3, 3] = shift
    return matrix


def worst(alignment, motion):
    """Return how far a corner is from where it belongs, in mm."""
    ends = np.array(np.meshgrid(*[(0, n - 1) for n in (40, 34, 30)], [1])).reshape(4, -1)
    places = AFFINE @ ends
    return np.linalg.norm((np.array(alignment.matrix) @ motion @ places - places)[:3], axis=0).max()


MOTIONS = {"correlation": ((2, -3, 5), (3, -2, 4)), "information": ((-8, 4, 6), (-5, 7, -3))}


@pytest.mark.parametrize("likeness", MOTIONS)
def test_known_motions_are_found(anatomy, rng, likeness):
    turn, shift = MOTIONS[likeness]
    motion = motion_of(turn, shift)
    second = seen_moved(anatomy, motion) + rng.normal(0, 15, anatomy.shape)
    if likeness == "information":  # another modality: no line leads from one to the other
        second = np.exp(-(((second - 400) / 350) ** 2)) * 90
    first, moved = (sp.volume_from_array(v.astype("f4"), affine=AFFINE) for v in (anatomy, second))
    found = sp.align(moved, first, likeness=likeness)
    assert worst(found, motion) < 1.0  # of voxels of 2.5 to 3 mm
    assert found.degrees == pytest.approx(np.linalg.norm(turn), abs=0.5)
    assert found.after >= found.before
    lying = sp.apply_alignment(moved, first, found)
    np.testing.assert_allclose(lying.affine, np.array(found.matrix) @ AFFINE)
    assert not found.spread > 3


def test_what_has_nothing_in_common_is_refused(anatomy, rng):
    first = sp.volume_from_array(anatomy.astype("f4"), affine=AFFINE)
    noise = sp.volume_from_array(rng.normal(size=anatomy.shape), affine=AFFINE)
    with pytest.raises(sp.GridMismatch, match="no more alike|no place was found"):
        sp.align(noise, first)
    away = AFFINE.copy()
    away[0, 3] = 900
    far = sp.volume_from_array(anatomy, affine=away)
    with pytest.raises(sp.GridMismatch, match="do not meet anywhere"):
        sp.align(far, first)
    flat = sp.from_array(np.zeros((30, 30)))
    for wrong, error, match in (
        (lambda: sp.align(first, flat), sp.GridMismatch, "two rasters, or two volumes"),
        (lambda: sp.align(first, first, kind="affine"), sp.LookError, "for rasters"),
        (lambda: sp.align(first, first, likeness="mi"), sp.LookError, "information or correlation"),
        (lambda: sp.align(flat, flat, likeness="information"), sp.LookError, "for volumes"),
    ):
        with pytest.raises(error, match=match):
            wrong()


def test_an_alignment_is_kept_and_checked_in_squares(anatomy, tmp_path):
    motion = motion_of((1, 2, -4), (4, 3, -2))
    first, second = tmp_path / "first.nii.gz", tmp_path / "second.nii.gz"
    for path, values in ((first, anatomy), (second, seen_moved(anatomy, motion))):
        sp.volume_from_array(values.astype("f4"), affine=AFFINE).save(path)

    def run(*words, code=0):
        done = CliRunner().invoke(commands, [str(word) for word in words])
        assert done.exit_code == code, done.output
        return done.output

    told = json.loads(run("amend", second, "--align-to", first, "--json"))["results"][0]
    found = np.array(told["alignment"]["matrix"])
    np.testing.assert_allclose(sp.open(second).affine, found @ AFFINE, atol=1e-9)
    again = json.loads(run("amend", second, "--align-to", first, "--json"))["results"][0]
    both = np.array(again["alignment"]["matrix"]) @ found  # what is left comes after
    np.testing.assert_allclose(sp.open(second).affine, both @ AFFINE, atol=1e-9)
    assert again["alignment"]["degrees"] < 0.3
    run("amend", second, "--undo")
    np.testing.assert_allclose(sp.open(second).affine, found @ AFFINE, atol=1e-9)
    change = sp.join_frames([sp.open(first), sp.open(second)], regrid=True, names=["a", "b"])
    left = change.compute({"d": "abs(b - a)"}).voxels().compressed()
    assert np.median(left) < 0.1 * np.median(np.abs(seen_moved(anatomy, motion) - anatomy))
    sp.amend(second, undo=True)
    sp.amend(second, alignment=sp.align(sp.open(second), sp.open(first)))
    assert worst(type("Kept", (), {"matrix": sp.open(second).affine @ np.linalg.inv(AFFINE)}),
                 motion) < 1  # fmt: skip
    out = tmp_path / "board.png"
    run("slices", first, "-o", out, "--beside", second, "--mode", "checker", "--plane", "axial")
    run("slices", first, "-o", out, "--mode", "checker", code=2)
    dark, light = (sp.volume_from_array(np.full((9, 9, 9), v, "u1"), affine=np.eye(4))
                   for v in (0, 255))  # fmt: skip
    look = sp.Look(limits=(0, 255))
    board = sp.compare_slices([[(dark, look)], [(light, look)]], size=(160, 160), labels=False,
                              mode="checker").rgba[..., 0]  # fmt: skip
    assert (board[0, 0], board[0, -1], board[20, 0]) == (0, 255, 255)
    with pytest.raises(sp.LookError, match="two in turn, not 1"):
        sp.compare_slices([[dark]], mode="checker")
    flat = tmp_path / "flat.tif"
    sp.from_array(np.zeros((4, 4))).save(flat)
    with pytest.raises(sp.MetadataError, match="turns and shifts alone"):
        from spectrane.formats.amending import keep_corrections

        keep_corrections(second, moved=np.diag([2.0, 1, 1, 1]))


def test_values_at_scattered_places_in_both_forms(rng):
    volume = rng.normal(size=(7, 8, 9)).astype("f4")
    volume[3, 3, 3] = np.nan
    places = rng.uniform(-2, 12, (3, 400))
    turn = np.hstack([np.diag([0.8, 0.7, 0.9]), [[0.3], [0.2], [-0.1]]])
    index = turn[:, :3] @ places + turn[:, 3:]
    wanted = map_coordinates(volume.astype(float), index, order=1, cval=np.nan)
    for form in ("numpy", "loop"):
        choice.force(form)
        out = np.empty(400)
        looked_up.choose(400)(volume, turn, places, out)
        np.testing.assert_allclose(out, wanted, rtol=1e-6, atol=1e-6)
    choice.force(None)
