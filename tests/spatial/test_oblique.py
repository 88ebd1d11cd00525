"""Any plane through a volume, against points sampled by SciPy, and the letters at its edges."""

from __future__ import annotations

import numpy as np
import pytest
from click.testing import CliRunner
from scipy.ndimage import map_coordinates

import spectrane as sp
from spectrane.cli.entry import commands
from spectrane.model.errors import GridMismatch, LookError

PLANES = {
    "tilted": sp.Oblique((9, 11, 12), (0.2, -0.5, 0.8)),
    "through": sp.Oblique.through([(4, 4, 5), (20, 8, 9), (6, 20, 14)]),
    "up": sp.Oblique((9, 11, 12), (1, 1, 0.3), up=(1, 0, 2)),
    "sagittal": sp.Oblique((9, 11, 12), (-1, 0, 0)),
}


@pytest.fixture
def ct(rng):
    turn = np.linalg.qr(rng.normal(size=(3, 3)))[0]
    affine = np.eye(4)
    affine[:3, :3] = turn @ np.diag([1.0, 1.3, 2.0])
    affine[:3, 3] = np.array([10, 10, 12]) - affine[:3, :3] @ [11.5, 9, 7.5]
    smooth = np.add.outer(np.add.outer(np.sin(np.arange(24) / 4), np.cos(np.arange(19) / 3)),
                          np.arange(16) / 5)  # fmt: skip
    return sp.volume_from_array((1000 * smooth).astype("f4"), affine=affine)


@pytest.mark.parametrize("name", PLANES)
def test_values_are_those_at_the_millimetres(ct, name):
    oblique = PLANES[name]
    made = ct.slice("oblique", oblique=oblique)
    pixels = made.pixels()[0]
    normal = oblique.turn[:, 2]
    checked = 0
    for row in range(0, pixels.shape[0], 3):
        for column in range(0, pixels.shape[1], 3):
            u, v = made.grid.center(row=row, column=column)
            place = oblique.turn @ [u, v, oblique.at]
            assert (place - np.array(oblique.center)) @ normal == pytest.approx(0, abs=1e-9)
            index = np.linalg.solve(ct.affine[:3, :3], place - ct.affine[:3, 3])
            if (index > 0).all() and (index < np.array(ct.shape[1:]) - 1).all():
                wanted = map_coordinates(ct.voxels().filled(np.nan), index[:, None], order=1)
                assert pixels[row, column] == pytest.approx(wanted[0], abs=0.05)
                checked += 1
    assert checked > 15


EDGES = [
    (sp.Oblique((0, 0, 0), (0, 0, 1)), ("R", "L", "A", "P")),
    (sp.Oblique((0, 0, 0), (0, 0, -1)), ("R", "L", "A", "P")),
    (sp.Oblique((0, 0, 0), (0, 1, 0)), ("R", "L", "S", "I")),
    (sp.Oblique((0, 0, 0), (1, 0, 0)), ("A", "P", "S", "I")),
    (sp.Oblique((0, 0, 0), (0, 1, 1)), ("R", "L", "SP", "IA")),
    (sp.Oblique((0, 0, 0), (0, 0, 1), up=(1, 0, 0)), ("A", "P", "R", "L")),
]  # fmt: skip


@pytest.mark.parametrize(("oblique", "letters"), EDGES)
def test_letters_are_true(oblique, letters):
    told = oblique.plane().labels
    found = tuple("".join(sorted(told[side])) for side in ("left", "right", "top", "bottom"))
    assert found == tuple("".join(sorted(one)) for one in letters)
    turned = oblique.plane("neurological").labels
    if letters[0] == "R":
        assert (turned["left"], turned["right"]) == ("L", "R")


def test_a_straight_one_is_the_plane_itself(ct):
    for name, normal in (("axial", (0, 0, 1)), ("coronal", (0, 1, 0)), ("sagittal", (1, 0, 0))):
        center = (10.0, 10.5, 12.5)
        at = dict(zip(("sagittal", "coronal", "axial"), center, strict=True))[name]
        straight = sp.slice_picture(ct, name, at=at, labels=False, size=(90, 90))
        oblique = sp.slice_picture(ct, "oblique", oblique=sp.Oblique(center, normal), labels=False,
                                   size=(90, 90))  # fmt: skip
        np.testing.assert_array_equal(oblique.rgba, straight.rgba)


def test_what_does_not_go_together_is_told(ct):
    far = sp.Oblique((0, 0, 900), (0, 0, 1))
    for way in ({"plane": "oblique"}, {"plane": "axial", "oblique": far},
                {"plane": "oblique", "oblique": PLANES["up"], "at": 3.0}):  # fmt: skip
        with pytest.raises(LookError):
            ct.slice(**way)
    with pytest.raises(GridMismatch, match="does not meet"):
        ct.slice("oblique", oblique=far)
    for wrong in (((0, 0), (0, 0, 1)), ((0, 0, 0), (0, 0, 0)), ((0, 0, 0), (0, 0, np.nan))):
        with pytest.raises(LookError):
            sp.Oblique(*wrong)
    with pytest.raises(LookError, match="across"):
        sp.Oblique((0, 0, 0), (0, 0, 1), up=(0, 0, 3))
    with pytest.raises(LookError, match="line"):
        sp.Oblique.through([(0, 0, 0), (1, 1, 1), (2, 2, 2)])


def test_the_command_draws_it(ct, tmp_path):
    ct.save(tmp_path / "ct.nii")
    file = str(tmp_path / "ct.nii")
    base = ["slices", file, "--plane", "oblique"]
    one = ["--at", "9,11,12", "--normal", "0.2,-0.5,0.8"]
    two = ["--through", "4,4,5", "20,8,9", "6,20,14", "--beside", file]
    for name, words in (("one", one), ("two", two)):
        done = CliRunner().invoke(commands, [*base, *words, "-o", str(tmp_path / f"{name}.png")])
        assert done.exit_code == 0, (done.output, done.exception)
    volume = sp.open_volume(file)
    picture = sp.slice_picture(volume, "oblique", oblique=PLANES["tilted"])
    drawn = sp.open_raster(tmp_path / "one.png").pixels().data
    np.testing.assert_array_equal(np.moveaxis(drawn, 0, 2), picture.rgba[..., :3])
    for words in (["--at", "3"], ["--normal", "0,0,1"], ["--montage", "3", "--at", "1,1,1",
                  "--normal", "0,0,1"]):  # fmt: skip
        assert CliRunner().invoke(commands, [*base, *words, "-o", "x.png"]).exit_code == 2
